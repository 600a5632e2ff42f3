package move

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
)

func duckOf(points ...Point) *Duck { return &Duck{School: "curve", Trigger: "kick", Points: points} }

var usual = duckOf(Point{MS: -5}, Point{MS: 0, DB: -8}, Point{MS: 80, DB: -8, Bend: 0.4}, Point{MS: 160})

func TestValidate(t *testing.T) {
	if err := usual.Validate(); err != nil {
		t.Fatal(err)
	}
	for say, d := range map[string]*Duck{
		"two points":       duckOf(Point{}),
		"only lowers":      duckOf(Point{}, Point{MS: 1, DB: 2}, Point{MS: 2}),
		"the lowest":       duckOf(Point{}, Point{MS: 1, DB: -61}, Point{MS: 2}),
		"does not come":    duckOf(Point{MS: 5}, Point{MS: 5, DB: -3}, Point{MS: 9}),
		"first and the":    duckOf(Point{DB: -3}, Point{MS: 9}),
		"last point":       duckOf(Point{}, Point{MS: 9, DB: -3}),
		"times from":       duckOf(Point{MS: -300}, Point{MS: 9}),
		"bends go":         duckOf(Point{Bend: 2}, Point{MS: 9}),
		"not a number":     duckOf(Point{}, Point{MS: math.NaN()}),
		"at most":          duckOf(make([]Point, DuckPoints+1)...),
		"is not known":     {School: "magic", Points: usual.Points},
		"stands at 2500.0": duckOf(Point{}, Point{MS: 2500}),
	} {
		if err := d.Validate(); err == nil || !strings.Contains(err.Error(), say) {
			t.Errorf("%s: says %v", say, err)
		}
	}
}

// Between points the gain is straight in dB, or follows (e^(ku)-1)/(e^k-1), k = 6 bend.
func TestGain(t *testing.T) {
	for _, c := range []struct{ ms, db float64 }{
		{-100, 0}, {-5, 0}, {-2.5, -4}, {0, -8}, {40, -8}, {80, -8},
		{120, -8 + 8*(math.Exp(1.2)-1)/(math.Exp(2.4)-1)}, {160, 0}, {500, 0},
	} {
		if db := usual.GainDB(c.ms); math.Abs(db-c.db) > 1e-9 {
			t.Errorf("gain at %g ms = %g, want %g", c.ms, db, c.db)
		}
	}
	if usual.Depth() != -8 {
		t.Errorf("depth %g", usual.Depth())
	}
}

// Where two hits overlap the lower gain counts, never the product.
func TestOverlappingHits(t *testing.T) {
	p := Place{Rate: 1000, BPM: 120, Hits: []int{100, 150}}
	g, err := usual.Gain(p, 400)
	if err != nil {
		t.Fatal(err)
	}
	for n, got := range g {
		want := math.Min(usual.GainDB(float64(n-100)), usual.GainDB(float64(n-150)))
		if math.Abs(20*math.Log10(float64(got))-want) > 1e-4 {
			t.Fatalf("at %d: %.4f dB, want %.4f", n, 20*math.Log10(float64(got)), want)
		}
	}
}

// The same gain whatever the blocks and wherever the processor starts; linear; both channels.
func TestProcessor(t *testing.T) {
	p := Place{Rate: 44100, BPM: 142, Hits: []int{500, 9000, 20000}}
	whole, err := usual.Gain(p, 30000)
	if err != nil {
		t.Fatal(err)
	}
	for _, block := range []int{1, 64, 1000, 4096} {
		for _, start := range []int{0, 333, 9100} {
			p.Start = start
			proc, err := usual.Processor(p)
			if err != nil {
				t.Fatal(err)
			}
			if proc.Latency() != 0 {
				t.Fatal("a duck has latency")
			}
			for at := start; at < 30000; at += block {
				n := min(block, 30000-at)
				b := audio.New(44100, 2, n)
				for i := range n {
					b.Ch[0][i], b.Ch[1][i] = 1, -0.5
				}
				proc.Process(b, audio.Buffer{})
				for i := range n {
					if b.Ch[0][i] != whole[at+i] || b.Ch[1][i] != -0.5*whole[at+i] {
						t.Fatalf("block %d, start %d, frame %d: %g, want %g", block, start, at+i, b.Ch[0][i], whole[at+i])
					}
				}
				if block == 1 && at > start+300 {
					break
				}
			}
		}
	}
}

func TestNoteValuesFollowTheTempo(t *testing.T) {
	d := duckOf(Point{MS: -5}, Point{MS: 0, DB: -8}, Point{MS: 125, Note: "1/16"})
	at, err := d.AtTempo(60)
	if err != nil || at.Points[2].MS != 250 || d.Points[2].MS != 125 {
		t.Errorf("%+v, %v", at, err)
	}
	d.Points[1].MS = 200
	if _, err := d.AtTempo(120); err == nil {
		t.Error("a note value before its neighbour was taken")
	}
}

func TestMoveJSON(t *testing.T) {
	in := Move{ID: "m1", Why: "a finding", Off: true, Params: usual}
	b, err := json.Marshal(in)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.Contains(string(b), `"kind":"duck"`) || !strings.Contains(string(b), `"params":{`) {
		t.Errorf("written as %s", b)
	}
	var out Move
	if err := json.Unmarshal(b, &out); err != nil {
		t.Fatal(err)
	}
	d, ok := out.Params.(*Duck)
	if !ok || out.ID != "m1" || !out.Off || out.Why != "a finding" || len(d.Points) != 4 || d.Points[2] != usual.Points[2] {
		t.Errorf("read back %+v", out)
	}
	for _, bad := range []string{`{"kind":"magic","params":{}}`, `{"kind":"duck","params":7}`, `[]`} {
		if err := json.Unmarshal([]byte(bad), &out); err == nil {
			t.Errorf("%s was read", bad)
		}
	}
	if _, err := json.Marshal(Move{}); err == nil {
		t.Error("a move without parameters was written")
	}
}
