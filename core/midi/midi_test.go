package midi

import (
	"bytes"
	"math"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/internal/outside"
)

// A file put together by hand (RP-001): format 0, 480 ticks; C2 at 0 for a quarter, then at
// 960 ticks the tempo halves from 120 to 60 bpm, and F1 sounds from 1440 to 1920 ticks.
var byHand = []byte("MThd\x00\x00\x00\x06\x00\x00\x00\x01\x01\xe0MTrk\x00\x00\x00\x26" +
	"\x00\xff\x51\x03\x07\xa1\x20" + // 500000 us a quarter
	"\x00\x90\x24\x64" + "\x83\x60\x80\x24\x00" + // on; 480 later off
	"\x83\x60\xff\x51\x03\x0f\x42\x40" + // 480 later 1000000 us a quarter
	"\x83\x60\x90\x1d\x64" + "\x83\x60\x90\x1d\x00" + // 480 later on; 480 later off by velocity 0
	"\x00\xff\x2f\x00")

func TestReadByHand(t *testing.T) {
	notes, err := Read(bytes.NewReader(byHand))
	if err != nil {
		t.Fatal(err)
	}
	// 960 ticks at 0.5 s a quarter are 1 s; then 480 ticks are a second each
	want := []Note{{0, 0.5, 36}, {2, 3, 29}}
	if len(notes) != 2 {
		t.Fatalf("%+v", notes)
	}
	for i, w := range want {
		if n := notes[i]; n.Key != w.Key || math.Abs(n.Start-w.Start) > 1e-3 || math.Abs(n.End-w.End) > 1e-3 {
			t.Errorf("note %d is %+v, want %+v", i, n, w)
		}
	}
}

func TestRoundTrip(t *testing.T) {
	in := []Note{{0, 0.3, 36}, {0.5, 0.8, 36}, {0.5, 1, 48}, {1.25, 1.25, 29}}
	var b bytes.Buffer
	if err := Write(&b, in, 142); err != nil {
		t.Fatal(err)
	}
	out, err := Read(&b)
	if err != nil || len(out) != len(in) {
		t.Fatalf("%+v, %v", out, err)
	}
	for i := range in {
		if math.Abs(out[i].Start-in[i].Start) > 0.0006 || out[i].Key != in[i].Key { // a tick is 0.44 ms
			t.Errorf("%+v became %+v", in[i], out[i])
		}
	}
	if s := Starts(out); len(s) != 3 {
		t.Errorf("starts %v", s)
	}
	if Write(&b, []Note{{0, 1, 200}}, 120) == nil {
		t.Error("note 200 was written")
	}
}

func TestBad(t *testing.T) {
	for _, junk := range [][]byte{nil, []byte("RIFF"), []byte("MThd"), byHand[:20], byHand[:40], byHand[:len(byHand)-5],
		append([]byte("MThd\x00\x00\x00\x06\x00\x00\x00\x01\x00\x00"), byHand[14:]...)} {
		if notes, err := Read(bytes.NewReader(junk)); err == nil {
			t.Errorf("%q was read as %v", junk, notes)
		}
	}
}

// The offset is known: the notes were moved by it; some are missing, some onsets are extra.
func TestMatch(t *testing.T) {
	var starts, onsets []float64
	for i, step := range []int{0, 6, 10, 16, 19, 24, 30, 32, 38, 42, 48, 51, 56, 62} {
		s := float64(step) * 0.105634
		starts = append(starts, s)
		if i%5 != 4 {
			onsets = append(onsets, s+1.2345+0.001*float64(i%3-1))
		}
	}
	onsets = append(onsets, 9.9)
	offset, share := Match(starts, onsets)
	if math.Abs(offset-1.2345) > 0.002 || share < 0.75 {
		t.Errorf("offset %.4f, share %.2f", offset, share)
	}
	if _, share := Match(nil, onsets); share != 0 {
		t.Error("nothing matches something")
	}
}

// What we write, Debian's own tools know as a MIDI file.
func TestKnownAsMIDI(t *testing.T) {
	var b bytes.Buffer
	if err := Write(&b, []Note{{0, 1, 36}}, 120); err != nil {
		t.Fatal(err)
	}
	var parsed struct{ Format, Tracks, Ticks int }
	path := filepath.Join(t.TempDir(), "x.mid")
	if err := os.WriteFile(path, b.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	outside.Python(t, `
import json, struct, sys
b = open(json.load(sys.stdin), "rb").read()
assert b[:8] == b"MThd\0\0\0\6"
f, n, d = struct.unpack(">HHH", b[8:14])
at = 14
for _ in range(n): # every chunk's length leads to the next, the last to the end
    assert b[at:at+4] == b"MTrk"
    at += 8 + struct.unpack(">I", b[at+4:at+8])[0]
assert at == len(b) and b[-3:] == b"\xff\x2f\0"
json.dump({"Format": f, "Tracks": n, "Ticks": d}, sys.stdout)
`, path, &parsed)
	if parsed.Ticks != ticks || parsed.Tracks != 1 {
		t.Errorf("%+v", parsed)
	}
}

// Any bytes: notes in order or a sentence, and their match with some hits, soon; what was read can be written and is the
// same.
func FuzzRead(f *testing.F) {
	f.Add(byHand)
	f.Add(byHand[:30])
	onsets := make([]float64, 4000)
	for i := range onsets {
		onsets[i] = 0.3 + 0.45*float64(i)
	}
	f.Fuzz(func(t *testing.T, b []byte) {
		outside.Bounded(t, func() {
			notes, err := Read(bytes.NewReader(b))
			if err != nil {
				if len(err.Error()) > 300 {
					t.Errorf("%q is no sentence", err)
				}
				return
			}
			if len(notes) == 0 {
				t.Error("neither notes nor an error")
			}
			for i, n := range notes {
				if !(n.Start >= 0 && n.End >= n.Start && n.Key >= 0 && n.Key < 128) || i > 0 && n.Start < notes[i-1].Start {
					t.Fatalf("note %d is %+v", i, n)
				}
			}
			if offset, share := Match(Starts(notes), onsets); math.IsNaN(offset) || math.Abs(offset) > 31 || !(share >= 0 && share <= 1) {
				t.Errorf("%g of them match at %g s", share, offset)
			}
		})
	})
}

// The longest file that is taken finds its place among the hits of half an hour at once.
func TestMatchMany(t *testing.T) {
	outside.Slow(t)
	var starts, onsets []float64
	at := 0.0
	for i := range MaxNotes {
		at += 0.06 + 0.04*math.Mod(float64(i)*0.618, 1)
		starts = append(starts, at)
		if i%5 > 0 {
			onsets = append(onsets, at+7.25)
		}
	}
	outside.Bounded(t, func() {
		if offset, share := Match(starts, onsets); math.Abs(offset-7.25) > 0.001 || math.Abs(share-0.8) > 0.1 {
			t.Errorf("%g at %g s, want 0.8 at 7.25", share, offset)
		}
	})
}

// What is written, read by an independent reader (Debian's python3-mido): the tempo, the notes and the
// two controllers at their times, the 14 bits put together again.
func TestWrittenFilesInMido(t *testing.T) {
	const script = `
import base64, io, json, sys
import mido
d = json.load(sys.stdin)
f = mido.MidiFile(file=io.BytesIO(base64.b64decode(d["file"])))
out, t, coarse, tempo = [], 0.0, None, None
for m in f:  # times in seconds, the tempo worked in
    t += m.time
    if m.type == "set_tempo": tempo = mido.tempo2bpm(m.tempo)
    if m.type == "note_on" and m.velocity: out.append([t, m.note])
    if m.type == "control_change" and m.control == 11: coarse = m.value
    if m.type == "control_change" and m.control == 43: out.append([t, coarse * 128 + m.value])
print(json.dumps({"Tempo": tempo, "Events": out}))
`
	type read struct {
		Tempo  float64
		Events [][2]float64
	}
	const bpm = 142.0
	check := func(name string, file []byte, want [][2]float64) {
		t.Helper()
		var got read
		outside.Python(t, script, map[string]any{"file": file}, &got)
		if math.Abs(got.Tempo-bpm) > 0.001 || len(got.Events) != len(want) {
			t.Fatalf("%s: %g bpm, %d events, want %d", name, got.Tempo, len(got.Events), len(want))
		}
		for i, w := range want {
			if g := got.Events[i]; math.Abs(g[0]-w[0]) > 0.0005 || g[1] != w[1] {
				t.Errorf("%s: event %d is %v, want %v", name, i, g, w)
			}
		}
	}
	var notes []Note
	var hits [][2]float64
	for i := range 50 {
		at := 0.25 + 0.317*float64(i)
		notes = append(notes, Note{Start: at, End: at + 0.05, Key: 36})
		hits = append(hits, [2]float64{at, 36})
	}
	var b bytes.Buffer
	if err := Write(&b, notes, bpm); err != nil {
		t.Fatal(err)
	}
	check("hits", b.Bytes(), hits)
	var values []Value
	var gains [][2]float64
	for i := range 200 {
		part := 0.5 + 0.5*math.Cos(float64(i)/9)
		at := 0.005 * float64(i)
		values = append(values, Value{at, part}, Value{at + 0.001, part}) // the second says nothing new
		gains = append(gains, [2]float64{at, math.Round(part * 16383)})
	}
	b.Reset()
	if err := WriteControl(&b, values, bpm); err != nil {
		t.Fatal(err)
	}
	check("gain", b.Bytes(), gains)
	for _, bad := range [][]Value{nil, {{-1, 0.5}}, {{0, 1.5}}, {{0, math.NaN()}}} {
		if err := WriteControl(&b, bad, bpm); err == nil {
			t.Errorf("%v is written", bad)
		}
	}
}
