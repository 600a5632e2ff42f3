package intake

import (
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/session"
	"mellowthump/internal/songs"
)

// The same sound twice may be muted, its opposite turned over; after its own change each finding is gone, and its figure is that of
// the closed form: 3 dB for two alike, 0 for one alone.
func TestTwinsAreMended(t *testing.T) {
	plucked := func(sign float64) audio.Buffer {
		return synthetic(6, func(t float64) float64 {
			in := math.Mod(t, 0.75)
			return sign * 0.4 * math.Sin(2*math.Pi*(330+40*math.Floor(t/0.75))*in) * math.Exp(-in/0.2)
		})
	}
	for _, c := range []struct {
		kind          string
		sign          float64
		before, after float64
	}{{"twin", 1, 3.01, 0}, {"upside-down", -1, -90, 3.01}} {
		b := songs.OnBench(t, songs.Part{ID: "a", Role: session.Melodic, Sound: plucked(1)},
			songs.Part{ID: "b", Role: session.Melodic, Sound: plucked(c.sign)})
		var f *find.Finding
		for _, x := range FindingsOn(b) {
			if x.Kind() == c.kind {
				f = &x
			}
		}
		if f == nil || len(f.Fix) == 0 || len(f.Own) != 1 {
			t.Fatalf("%s: %+v", c.kind, f)
		}
		if was, err := pairSum(t.Context(), b, f.Own[0]); err != nil || math.Abs(float64(was)-c.before) > 0.05 {
			t.Errorf("%s: the two add up to %v dB, %v", c.kind, was, err)
		}
		song, _, err := session.Made(b.Song, f.Edit())
		if err != nil {
			t.Fatal(err)
		}
		after := bench.New(b.Renderer, &song, b.Facts)
		is, err := pairSum(t.Context(), after, f.Own[0])
		if err != nil || math.Abs(float64(is)-c.after) > 0.05 || f.Own[0].In.Off(is) > 0 && c.kind == "twin" {
			t.Errorf("%s: then to %v dB, %v", c.kind, is, err)
		}
		for _, x := range FindingsOn(after) {
			if c.kind == "upside-down" && x.Kind() == "twin" {
				continue // they are alike then
			}
			if strings.HasPrefix(x.Kind(), c.kind) {
				t.Errorf("%s is still told: %s", c.kind, x.What)
			}
		}
	}
}
