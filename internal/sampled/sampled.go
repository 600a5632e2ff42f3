// Package sampled renders MIDI with recorded instruments, for tests: drum kits and basses that nobody
// synthesised, with the MIDI as the truth of every hit and pitch. The programs are Debian's fluidsynth and
// its sound font timgm6mb-soundfont; `make test` installs them, a missing one fails the test. Instruments
// are told by their General MIDI numbers (MIDI Association, RP-003: programs 32 to 39 are basses, on the
// percussion channel notes 35 and 36 are bass drums).
package sampled

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"testing"

	"gitlab.com/gomidi/midi/v2"
	"gitlab.com/gomidi/midi/v2/smf"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
)

// SoundFont is where Debian puts the instruments.
const SoundFont = "/usr/share/sounds/sf2/TimGM6mb.sf2"

// Rate is that of everything that is rendered, Hz.
const Rate = 44100

// Drums is the channel of percussion, counted from 0.
const Drums = 9

// Kits are the percussion programs of the sound font whose bass drums differ.
var Kits = []int{0, 8, 16, 24, 25, 32, 40, 48}

// Note is one note to play.
type Note struct {
	At, End  float64 // s
	Key      int
	Velocity int // 0: 100
	Channel  int
	Bend     []Bend // of its channel
}

// Bend is a pitch wheel in semitones (-2 to 2) from a time on, s.
type Bend struct{ At, By float64 }

// Play renders notes with a program on each channel that is used, seconds long.
func Play(t testing.TB, programs map[int]int, notes []Note, seconds float64) audio.Buffer {
	t.Helper()
	const ticks, bpm = 5000, 120 // 0.1 ms a tick
	type event struct {
		at  int64
		msg midi.Message
	}
	tick := func(s float64) int64 { return int64(s*ticks*bpm/60 + 0.5) }
	var events []event
	for ch := range 16 {
		if p, ok := programs[ch]; ok {
			events = append(events, event{0, midi.ProgramChange(uint8(ch), uint8(p))})
		}
	}
	for _, n := range notes {
		v := n.Velocity
		if v == 0 {
			v = 100
		}
		for _, b := range n.Bend {
			events = append(events, event{tick(b.At), midi.Pitchbend(uint8(n.Channel), int16(b.By/2*8191))})
		}
		events = append(events, event{tick(n.At), midi.NoteOn(uint8(n.Channel), uint8(n.Key), uint8(v))},
			event{max(tick(n.End), tick(n.At)+1), midi.NoteOff(uint8(n.Channel), uint8(n.Key))})
	}
	sort.SliceStable(events, func(i, j int) bool { return events[i].at < events[j].at })
	s := smf.New()
	s.TimeFormat = smf.MetricTicks(ticks)
	var track smf.Track
	track.Add(0, smf.MetaTempo(bpm))
	last := int64(0)
	for _, e := range events {
		track.Add(uint32(e.at-last), e.msg)
		last = e.at
	}
	track.Close(uint32(max(0, tick(seconds)-last)))
	if err := s.Add(track); err != nil {
		t.Fatal(err)
	}
	var file bytes.Buffer
	if _, err := s.WriteTo(&file); err != nil {
		t.Fatal(err)
	}
	b := render(t, file.Bytes())
	n := int(seconds * Rate)
	for c := range b.Ch {
		x := make([]float32, n)
		copy(x, b.Ch[c])
		b.Ch[c] = x
	}
	return b
}

// render plays a MIDI file, dry, and keeps the sound among temporary files: tests of other packages ask for
// the same.
func render(t testing.TB, file []byte) audio.Buffer {
	t.Helper()
	sum := sha256.Sum256(file)
	dir := filepath.Join(os.TempDir(), "mellowthump-sampled")
	if err := os.MkdirAll(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(dir, hex.EncodeToString(sum[:12])+".wav")
	if _, err := os.Stat(path); err != nil {
		work := t.TempDir()
		in, out := filepath.Join(work, "in.mid"), filepath.Join(work, "out.wav")
		if err := os.WriteFile(in, file, 0o644); err != nil {
			t.Fatal(err)
		}
		cmd := exec.Command("fluidsynth", "-ni", "-R", "0", "-C", "0", "-g", "0.4", "-r", "44100", "-T", "wav", "-O", "float", "-F", out, SoundFont, in)
		if b, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("fluidsynth: %v\n%s", err, b)
		}
		whole, err := os.ReadFile(out)
		if err != nil {
			t.Fatal(err)
		}
		part, err := os.CreateTemp(dir, "part")
		if err != nil {
			t.Fatal(err)
		}
		if _, err := part.Write(whole); err != nil {
			t.Fatal(err)
		}
		if err := part.Close(); err != nil {
			t.Fatal(err)
		}
		if err := os.Rename(part.Name(), path); err != nil {
			t.Fatal(err)
		}
	}
	f, err := os.Open(path)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	info, err := f.Stat()
	if err != nil {
		t.Fatal(err)
	}
	src, err := codec.Open(f, info.Size())
	if err != nil {
		t.Fatal(err)
	}
	b, err := audio.ReadAll(src)
	if err != nil {
		t.Fatal(err)
	}
	return b
}
