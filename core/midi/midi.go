// Package midi reads notes from standard MIDI files (RP-001) and writes them, through gomidi.
package midi

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"math"
	"sort"

	"gitlab.com/gomidi/midi/v2"
	"gitlab.com/gomidi/midi/v2/smf"
)

// Note is a note in seconds from the file's start.
type Note struct {
	Start float64 `json:"at_s"`
	End   float64 `json:"end_s"`
	Key   int     `json:"key"` // MIDI note number
}

// Limits of a file; larger ones are no beat.
const (
	MaxBytes = 4 << 20
	MaxNotes = 20000
)

const ticks = 960 // a quarter note, of files that are written

// IsMIDI reports whether a file begins like a standard MIDI file.
func IsMIDI(head []byte) bool { return bytes.HasPrefix(head, []byte("MThd")) }

// Read returns the notes of all tracks, by start, with the file's tempo map applied. The
// error says in plain words what is wrong.
// Long because it is one reader: tempo and open notes are followed through all tracks.
func Read(r io.Reader) (notes []Note, err error) {
	defer func() {
		if v := recover(); v != nil { // the parser on damaged data
			notes, err = nil, fmt.Errorf("its MIDI data is damaged: %v", v)
		}
	}()
	b, err := io.ReadAll(io.LimitReader(r, MaxBytes+1))
	if err != nil {
		return nil, err
	}
	if len(b) > MaxBytes {
		return nil, errors.New("it is larger than 4 MiB, which no beat's MIDI file is")
	}
	if !IsMIDI(b) {
		return nil, errors.New("it is not a MIDI file")
	}
	if len(b) < 14 || b[12] == 0 && b[13] == 0 {
		return nil, errors.New("its MIDI header gives no time base")
	}
	if binary.BigEndian.Uint32(b[4:]) != 6 {
		return nil, errors.New("its MIDI header is of a length that none has")
	}
	for at := 0; at < len(b); { // the parser takes what there is of a file that ends early
		if at+8 > len(b) || at+8+int(binary.BigEndian.Uint32(b[at+4:])) > len(b) {
			return nil, errors.New("it is cut short: a MIDI track ends before its length")
		}
		end := at + 8 + int(binary.BigEndian.Uint32(b[at+4:]))
		if string(b[at:at+4]) == "MTrk" {
			if err := whole(b[at+8 : end]); err != nil {
				return nil, err
			}
		}
		at = end
	}
	s, err := smf.ReadFrom(bytes.NewReader(b))
	if err != nil {
		return nil, fmt.Errorf("its MIDI data is damaged: %w", err)
	}
	for _, track := range s.Tracks {
		open := map[[2]uint8]float64{} // channel and key to start
		at := int64(0)
		for _, ev := range track {
			at += int64(ev.Delta)
			now := float64(s.TimeAt(at)) / 1e6
			var channel, key, velocity uint8
			switch {
			case ev.Message.GetNoteStart(&channel, &key, &velocity):
				id := [2]uint8{channel, key}
				if start, is := open[id]; is {
					notes = append(notes, Note{start, now, int(key)})
				}
				open[id] = now
			case ev.Message.GetNoteEnd(&channel, &key):
				id := [2]uint8{channel, key}
				if start, is := open[id]; is {
					notes = append(notes, Note{start, now, int(key)})
					delete(open, id)
				}
			}
			if len(notes) > MaxNotes {
				return nil, fmt.Errorf("it holds more than %d notes", MaxNotes)
			}
		}
		for id, start := range open { // notes that never end
			notes = append(notes, Note{start, start, int(id[1])})
		}
	}
	if len(notes) == 0 {
		return nil, errors.New("it holds no notes")
	}
	for _, n := range notes {
		if math.IsNaN(n.Start+n.End) || n.Start < 0 || n.End > 24*3600 {
			return nil, errors.New("its times make no sense")
		}
	}
	sort.Slice(notes, func(i, j int) bool {
		if notes[i].Start != notes[j].Start {
			return notes[i].Start < notes[j].Start
		}
		return notes[i].Key < notes[j].Key
	})
	return notes, nil
}

// whole walks through the events of a track (RP-001) and refuses one that says it is longer than what is left: the
// parser would make room for it first.
func whole(track []byte) error {
	cut := errors.New("it is damaged: a MIDI event is longer than its track")
	status := byte(0)
	for len(track) > 0 {
		_, n := number(track) // the time
		if n == 0 || n == len(track) {
			return cut
		}
		if track = track[n:]; track[0] >= 0x80 {
			status, track = track[0], track[1:]
		}
		size := 2
		switch {
		case status == 0xff || status == 0xf0 || status == 0xf7:
			head := 0
			if status == 0xff {
				head = 1
			}
			if len(track) <= head {
				return cut
			}
			long, n := number(track[head:])
			if n == 0 {
				return cut
			}
			if status == 0xff && track[0] == 0x2f {
				return nil // the end of the track
			}
			size, status = head+n+long, 0
		case status < 0x80:
			return errors.New("it is damaged: a MIDI event has no kind")
		case status >= 0xf0: // of one byte, or of none that a file holds
			size = 0
		case status&0xe0 == 0xc0:
			size = 1
		}
		if size > len(track) {
			return cut
		}
		track = track[size:]
	}
	return nil
}

// number reads a number of variable length, and in how many bytes it stands; 0 where it does not end.
func number(b []byte) (v, n int) {
	for n < min(len(b), 4) {
		v = v<<7 | int(b[n]&0x7f)
		if n++; b[n-1] < 0x80 {
			return v, n
		}
	}
	return 0, 0
}

// event is a message at a tick.
type event struct {
	at  int64
	msg midi.Message
}

// writeTrack writes events, in order, as a file of one track with its tempo.
func writeTrack(w io.Writer, events []event, bpm float64) error {
	s := smf.New()
	s.TimeFormat = smf.MetricTicks(ticks)
	var track smf.Track
	track.Add(0, smf.MetaTempo(bpm))
	last := int64(0)
	for _, e := range events {
		track.Add(uint32(e.at-last), e.msg)
		last = e.at
	}
	track.Close(0)
	if err := s.Add(track); err != nil {
		return fmt.Errorf("writing MIDI: %w", err)
	}
	_, err := s.WriteTo(w)
	return err
}

// The controller that a gain is written to, and the one with its fine part: expression, by the MIDI
// 1.0 specification's table of controllers (11, and 11 + 32).
const (
	GainController = 11
	GainFine       = 43
)

// Value is a controller's value from a time on, s.
type Value struct {
	At   float64
	Part float64 // 0 to 1
}

// WriteControl writes values as a controller of 14 bits, the coarse part before the fine one: 16383 is
// 1, straight between. What does not change is not written again.
func WriteControl(w io.Writer, values []Value, bpm float64) error {
	var events []event
	last, lastAt := -1, int64(-1)
	for _, v := range values {
		if !(v.At >= 0) || !(v.Part >= 0 && v.Part <= 1) {
			return fmt.Errorf("midi: a value of %g at %g s cannot be written", v.Part, v.At)
		}
		n := int(math.Round(v.Part * 16383))
		at := int64(math.Round(v.At * bpm / 60 * ticks))
		if n == last || at < lastAt {
			continue
		}
		last, lastAt = n, at
		events = append(events, event{at, midi.ControlChange(0, GainController, uint8(n>>7))}, event{at, midi.ControlChange(0, GainFine, uint8(n&127))})
	}
	if len(events) == 0 {
		return errors.New("midi: there is no value to write")
	}
	return writeTrack(w, events, bpm)
}

// Write writes notes as a file of one track at a tempo, 960 ticks a quarter.
func Write(w io.Writer, notes []Note, bpm float64) error {
	tick := func(s float64) int64 { return int64(math.Round(s * bpm / 60 * ticks)) }
	var events []event
	for _, n := range notes {
		if n.Key < 0 || n.Key > 127 || n.Start < 0 {
			return fmt.Errorf("midi: note %d at %.3f s cannot be written", n.Key, n.Start)
		}
		end := max(tick(n.End), tick(n.Start)+1)
		events = append(events, event{tick(n.Start), midi.NoteOn(0, uint8(n.Key), 100)}, event{end, midi.NoteOff(0, uint8(n.Key))})
	}
	sort.SliceStable(events, func(i, j int) bool { return events[i].at < events[j].at })
	return writeTrack(w, events, bpm)
}

// Starts returns the times at which notes begin, each once: a chord is one.
func Starts(notes []Note) []float64 {
	const together = 0.005 // s
	var at []float64
	for _, n := range notes {
		if len(at) == 0 || n.Start-at[len(at)-1] > together {
			at = append(at, n.Start)
		}
	}
	return at
}

// Match finds the offset to add to starts so that most of them fall on onsets: every
// difference of a start and an onset is a candidate, the one that most others agree with
// wins, and their mean is returned with the share of the starts that then fall within 15 ms
// of an onset. Both lists ascend.
func Match(starts, onsets []float64) (offset, share float64) {
	const (
		within = 0.015 // s
		reach  = 30.0  // s: offsets beyond are not looked for
		probes = 40    // starts that candidates come from
		many   = 1000  // starts from which on offsets are tried on some of them first
		some   = 250   // so many
		best   = 20    // offsets that are tried on all then
	)
	if len(starts) == 0 || len(onsets) == 0 {
		return 0, 0
	}
	hits := func(starts []float64, off float64) (n int, mean float64) {
		for _, s := range starts {
			k := sort.SearchFloat64s(onsets, s+off)
			best := math.Inf(1)
			for _, j := range []int{k - 1, k} {
				if j >= 0 && j < len(onsets) {
					if d := onsets[j] - s - off; math.Abs(d) < math.Abs(best) {
						best = d
					}
				}
			}
			if math.Abs(best) <= within {
				n++
				mean += best
			}
		}
		if n > 0 {
			mean /= float64(n)
		}
		return n, mean
	}
	var offsets []float64
	for i := 0; i < len(starts); i += len(starts)/probes | 1 { // odd: not in step with bars
		for k := sort.SearchFloat64s(onsets, starts[i]-reach); k < len(onsets) && onsets[k]-starts[i] <= reach; k++ {
			offsets = append(offsets, onsets[k]-starts[i])
		}
	}
	if len(starts) > many {
		var few []float64
		for i := 0; i < len(starts); i += len(starts)/some | 1 {
			few = append(few, starts[i])
		}
		met := map[float64]int{}
		for _, off := range offsets {
			met[off], _ = hits(few, off)
		}
		sort.SliceStable(offsets, func(i, j int) bool { return met[offsets[i]] > met[offsets[j]] })
		offsets = offsets[:min(best, len(offsets))]
	}
	most := 0
	for _, off := range offsets {
		n, mean := hits(starts, off)
		if n > most || n == most && math.Abs(off+mean) < math.Abs(offset) {
			most, offset = n, off+mean
		}
	}
	return offset, float64(most) / float64(len(starts))
}
