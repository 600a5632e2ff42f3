package room

import (
	"math"
	"testing"

	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// The corner at the key, by the rule as it is written (common practice): F#, 46.2 Hz, just under 23.1; C#, whose octave
// under is 17.3 and too low, just under 34.6.
func TestKeyCorner(t *testing.T) {
	for key, want := range map[string]float64{"F# minor": 23.1, "C#": 34.6, "Gb major": 23.1, "Dbm": 34.6, "A minor": 27.5, "f minor": 21.8, "E": 20.6,
		"Eb minor": 38.9} {
		root := RootHz(key)
		if got := KeyCorner(root); got >= want || got < want*0.95 {
			t.Errorf("%s: root %.1f Hz, corner %.1f, want just under %.1f", key, root, got, want)
		}
	}
	for _, key := range []string{"", "H minor", "minor", "7", "Cx"} {
		if hz := RootHz(key); hz != 0 {
			t.Errorf("%q has the root %g Hz", key, hz)
		}
	}
}

// A corner that would take a played note says which and when; one that does not says nothing.
func TestRollTakesNotes(t *testing.T) {
	song := session.New("x", 120)
	song.Rate = rate
	line := []meter.BassNote{
		{Start: 0, Hz: 43.7, Note: "F1"},
		{Start: 2, Hz: 34.6, Note: "Db1"},
		{Start: 4, Hz: 32.7, Note: "C1"},
		{Start: 6, Hz: 32.7, Note: "C1"},
	}
	r := Roll{Role: session.Bass, Hz: 33}
	r.takes(&song, session.Bass, line)
	if r.Note != "Db1" || r.At != 2 || r.Notes != 3 || r.Taken(song.Position) != "takes Db1 at 2.1.00, 3 notes" {
		t.Errorf("%+v: %s", r, r.Taken(song.Position))
	}
	// Butterworth of 4th order: 10 log10(1 + (fc / f)^8), the closed form
	at := 10 * math.Log10(1+math.Pow(25.0/32.7, 8))
	r = Roll{Role: session.Bass, Hz: 25}
	if r.takes(&song, session.Bass, line); (r.Notes > 0) != (at > 1) {
		t.Errorf("at 25 Hz C1 loses %.2f dB; %+v", at, r)
	}
	c := corners(&song, session.Bass, 0, line)
	if c[FundamentalSchool] >= 32.7 || c[FundamentalSchool] < 31 || c[KeySchool] != 0 || c[FixedSchool] != 25 {
		t.Errorf("%v", c)
	}
	if c := corners(&song, session.Kick, 67, line); math.Abs(c[FundamentalSchool]-37) > 0.5 { // fundamental 60 to 80: about 37
		t.Errorf("a kick of 67 Hz: %v", c)
	}
}
