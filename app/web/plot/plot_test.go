package plot

import (
	"encoding/xml"
	"errors"
	"fmt"
	"html/template"
	"io"
	"math"
	"regexp"
	"strconv"
	"strings"
	"testing"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// wellFormed parses a drawing as XML and looks for what every one must have.
func wellFormed(t *testing.T, svg template.HTML) string {
	t.Helper()
	d := xml.NewDecoder(strings.NewReader(string(svg)))
	titles := 0
	for {
		tok, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			t.Fatalf("not well formed: %v\n%s", err, svg)
		}
		if s, ok := tok.(xml.StartElement); ok {
			if s.Name.Local == "title" || s.Name.Local == "desc" {
				titles++
			}
			for _, a := range s.Attr {
				if a.Name.Local == "style" {
					t.Errorf("a style attribute, which the page's policy refuses: %s", a.Value)
				}
			}
		}
	}
	if titles < 2 || strings.Contains(string(svg), "NaN") || strings.Contains(string(svg), "Inf") {
		t.Errorf("no title, or no numbers:\n%.400s", svg)
	}
	return string(svg)
}

func hits(clearance ...float64) []meter.Hit {
	var h []meter.Hit
	for i, c := range clearance {
		h = append(h, meter.Hit{At: 0.5 * float64(i), Clearance: meter.Figure(c), Overlap: 50, Handover: 90, Window: 150, Gap: 0.5})
	}
	return h
}

func envelopes(n int) (kick, bass Envelope) {
	for i := range 500 * n {
		kick = append(kick, float32(math.Exp(-float64(i%500)/60)))
		bass = append(bass, 0.4)
	}
	return kick, bass
}

func TestHitStrip(t *testing.T) {
	kick, bass := envelopes(4)
	h := hits(-2, 9, 3, math.NaN())
	s := wellFormed(
		t,
		HitStrip(
			Strip{ID: "s", Width: 760, Rows: 1, Height: 100, Kick: kick, Bass: bass, Hits: h, Target: 8, Details: true, Bars: func(float64) string { return `1.1<"&` }},
		),
	)
	if n := strings.Count(s, `class="hit `); n != 4 {
		t.Errorf("%d cells, want 4", n)
	}
	if n := strings.Count(s, `class="hit under"`); n != 2 {
		t.Errorf("%d cells under the target, want 2", n)
	}
	for _, want := range []string{"−2.0", ">9.0<", "url(#s-x)", `class="kick"`, `class="bass"`, "bracket", "handover"} {
		if !strings.Contains(s, want) {
			t.Errorf("no %s in the strip", want)
		}
	}
	if strings.Contains(s, "bass-before") {
		t.Error("nothing was changed, but a before is drawn")
	}
	changed := wellFormed(t, HitStrip(Strip{ID: "s", Width: 760, Rows: 2, Height: 100, Kick: kick, Bass: bass, Before: bass, Hits: h, Was: h, Target: 8}))
	if !strings.Contains(changed, "bass-before") || !strings.Contains(changed, `class="was"`) {
		t.Error("no before in the strip")
	}
	wellFormed(t, HitStrip(Strip{ID: "s", Width: 760, Rows: 1, Height: 100}))
}

func TestKickIsAboveBassBelow(t *testing.T) {
	s := newSVG("x", 100, 100, "t", "d")
	s.mirrored([]float64{0, 10}, []float64{1, 1}, []float64{0.5, 0.5}, nil, 50, 40)
	got := string(s.done())
	for _, want := range []string{
		`class="kick" d="M0 50L0 10L10 10L10 50Z"`,      // kick: up to 50-40
		`class="bass-fill" d="M0 50L0 70L10 70L10 50Z"`, // bass: down to 50+20, the same scale
		`class="clash" d="M0 30L10 30L10 70L0 70Z"`,     // collision: as far as the smaller, both ways
		`class="bass" d="M0 70L10 70"`,                  // its bold edge
	} {
		if !strings.Contains(got, want) {
			t.Errorf("no %s in\n%s", want, got)
		}
	}
}

func TestDuckEditor(t *testing.T) {
	kick, bass := envelopes(4)
	d := &move.Duck{School: "curve", Points: []move.Point{{MS: -5}, {DB: -30}, {MS: 90, DB: -6, Bend: 0.5}, {MS: 700}}}
	e := Editor{Width: 774, Height: 310, Kick: kick, Before: bass, Bass: bass, Hits: hits(1, 2, 3, 4), Duck: d, BPM: 142, Handover: 96, BassName: "<808>"}
	s := wellFormed(t, DuckEditor(e))
	if n := strings.Count(s, `class="point"`); n != 4 {
		t.Errorf("%d points", n)
	}
	for _, want := range []string{`role="slider"`, `data-ms="90"`, `data-db="-30"`, "&lt;808&gt;", "96 ms", "1/16", `data-deep="36"`} {
		if !strings.Contains(s, want) {
			t.Errorf("no %s in the editor", want)
		}
	}
	e.Duck, e.Hits, e.Handover = nil, nil, meter.None
	if s := wellFormed(t, DuckEditor(e)); strings.Contains(s, `class="point"`) || strings.Contains(s, "bass-before") {
		t.Error("no duck, but points or a before are drawn")
	}
}

func TestSmallDrawings(t *testing.T) {
	wellFormed(t, Trade(nil, 8, "bass"))
	s := wellFormed(t, Trade([]TradePoint{{0, 0, 0}, {1, 0.2, 0.1}, {2, 0.5, 0.4}}, 1, "bass"))
	if !strings.Contains(s, "knob") {
		t.Error("the target is not marked")
	}
	if s := wellFormed(t, Trade([]TradePoint{{0, 0, 0}, {1, 0.2, 0}}, 8, "kick")); !strings.Contains(s, "no further") {
		t.Error("a target beyond reach is not told")
	}
	wellFormed(t, DeckStrip(Deck{Width: 900, Height: 96}))
	d := wellFormed(
		t,
		DeckStrip(Deck{Width: 900, Height: 96, Kick: []float64{0, 1}, Bass: []float64{1, 0}, Seconds: 50, From: 5, To: 20, Hits: []float64{1, 2}, Bar: 2}),
	)
	if strings.Count(d, "hitmark") != 2 || !strings.Contains(d, "playhead") {
		t.Error("no hits or no playhead")
	}
	for _, role := range []string{"kick", "bass", "melodic", "nonsense"} {
		wellFormed(t, Wave("w", role, `a "name" <&>`, []float32{0, 0.5, 1}, 150, 26))
		if Glyph(role) == "" {
			t.Errorf("no glyph for %s", role)
		}
	}
	wellFormed(t, Wave("w", "kick", "", nil, 150, 26))
}

func TestSigned(t *testing.T) {
	for _, c := range []struct {
		v    float64
		d    int
		want string
	}{{-1.25, 1, "−1.2"}, {-0.04, 1, "0.0"}, {3, 0, "3"}, {-12, 2, "−12.00"}} {
		if got := figure.Signed(c.v, c.d); got != c.want {
			t.Errorf("figure.Signed(%g, %d) = %q, want %q", c.v, c.d, got, c.want)
		}
	}
}

// Calm keeps a steady level, and takes away a ripple of its own length.
func TestCalm(t *testing.T) {
	e := make([]float32, 200)
	for i := range e {
		e[i] = 0.5 + 0.1*float32(math.Cos(2*math.Pi*float64(i)/calmSteps))
	}
	for i, v := range Calm(e)[20:180] {
		if math.Abs(float64(v)-0.5) > 1e-4 {
			t.Fatalf("step %d is %g", i+20, v)
		}
	}
	if got := fmt.Sprint(len(Calm(nil)), len(Calm([]float32{1}))); got != "0 1" {
		t.Errorf("lengths %s", got)
	}
}

// The running sum's figures never lie over each other, of however many parts; where it ends is always told.
func TestRunningSumIsReadable(t *testing.T) {
	for _, n := range []int{1, 12, 60, 128} {
		var steps []SumStep
		for i := range n {
			steps = append(steps, SumStep{Name: fmt.Sprintf("Part %d", i), Peak: meter.Figure(-14 + 14*float64(i+1)/float64(n))})
		}
		out := wellFormed(t, RunningSum(steps, -6, -3))
		type box struct{ x, y, w float64 }
		var boxes []box
		for _, m := range regexp.MustCompile(`<text class="n clearance" text-anchor="middle" x="([0-9.]+)" y="([0-9.]+)">([^<]*)<`).FindAllStringSubmatch(out, -1) {
			x, _ := strconv.ParseFloat(m[1], 64)
			y, _ := strconv.ParseFloat(m[2], 64)
			boxes = append(boxes, box{x, y, 6.2 * float64(len([]rune(m[3])))})
		}
		for i, a := range boxes {
			for _, b := range boxes[:i] {
				if math.Abs(a.x-b.x) < (a.w+b.w)/2-0.5 && math.Abs(a.y-b.y) < 10 {
					t.Errorf("%d parts: figures at %.0f and %.0f overlap", n, a.x, b.x)
				}
			}
		}
		if !strings.Contains(out, ">0.0<") || len(boxes) < min(n, 6) {
			t.Errorf("%d parts: %d figures", n, len(boxes))
		}
	}
}
