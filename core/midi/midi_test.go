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
	for _, junk := range [][]byte{nil, []byte("RIFF"), []byte("MThd"), byHand[:20], byHand[:40], byHand[:len(byHand)-5], append([]byte("MThd\x00\x00\x00\x06\x00\x00\x00\x01\x00\x00"), byHand[14:]...)} {
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

func FuzzRead(f *testing.F) {
	f.Add(byHand)
	f.Add(byHand[:30])
	f.Fuzz(func(t *testing.T, b []byte) {
		notes, err := Read(bytes.NewReader(b))
		if err == nil && len(notes) == 0 {
			t.Error("neither notes nor an error")
		}
	})
}
