package demo

import (
	"context"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// On the demo the cellar is too full; the bell's rumble and the texture are found; after all that is unheard was cut it
// reaches its target, measured on what is printed, and the peaks are what the print has.
func TestRoomOnSlowFerry(t *testing.T) {
	r, song, w := rendered()
	w.From, w.To = 894422, 1490704 // bars 13 to 20, the stretch that the app judges
	ctx := context.Background()
	c, err := room.Measure(ctx, r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	parts, err := c.Shares(ctx, r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	cuts, err := room.Cuts(ctx, r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	mud, err := room.Mud(ctx, r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range mud {
		t.Logf("%+v %+v", m, m.Bell)
	}
	target := song.RoomRules().Cellar
	if float64(c.Under) >= target || c.Under < 10 {
		t.Errorf("the rest is %.1f dB under kick and bass", c.Under)
	}
	for _, k := range cuts {
		t.Logf("%s %+v", k.Stem, k.Low)
	}
	told := map[string]string{}
	for _, f := range room.Judge(&song, c, parts, cuts, mud) {
		told[f.ID] = f.What
	}
	if !strings.Contains(told["unheard-low.bell"], "rumbles at 40 Hz") || told["unheard-low.texture"] == "" || told["cellar"] == "" {
		t.Errorf("told: %v", told)
	}
	all, ok := room.All(&song, cuts, room.Low)
	if !ok {
		t.Fatal("nothing can go")
	}
	was := song.Clone()
	if _, err := all.Apply(&song); err != nil {
		t.Fatal(err)
	}
	for _, k := range cuts {
		m := song.Stem(k.Stem).Move(session.RoomLow)
		if m == nil {
			continue
		}
		if hz := m.Params.(*move.Filter).Hz; hz < k.Low.Alone || hz > k.Low.Mix {
			t.Errorf("%s is cut at %g Hz; %g go alone, %g in the mix", k.Stem, hz, k.Low.Alone, k.Low.Mix)
		}
	}
	after, err := room.Measure(ctx, r, &song, w)
	if err != nil {
		t.Fatal(err)
	}
	t.Logf("%.2f dB under before, %.2f after", c.Under, after.Under)
	if float64(after.Under) < target {
		t.Errorf("after all cuts the rest is %.2f dB under, %g asked", after.Under, target)
	}
	// from the printed sums, channel by channel
	printed := func(s *session.Song, role func(session.Role) bool) (low float64, peak meter.Figure) {
		c := s.Clone()
		for i := range c.Stems {
			c.Stems[i].Mute = c.Stems[i].Mute || !role(c.Stems[i].Role)
		}
		var ch [2][]float32
		err := r.Print(ctx, &c, []mix.Tap{{}}, w, func(b []audio.Buffer) error {
			for k := range ch {
				ch[k] = append(ch[k], b[0].Ch[min(k, len(b[0].Ch)-1)]...)
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
		return binEnergy(ch[0], 20, 150) + binEnergy(ch[1], 20, 150), meter.PeakDB(ch[0], ch[1])
	}
	low := func(r session.Role) bool { return r == session.Kick || r == session.Bass }
	rest := func(r session.Role) bool { return !low(r) }
	pair, _ := printed(&song, low)
	left, _ := printed(&song, rest)
	if under := 10 * math.Log10(pair/left); math.Abs(under-float64(after.Under)) > 0.3 {
		t.Errorf("the print has the rest %.2f dB under, %.2f are said", under, after.Under)
	}
	l, err := r.Loudness(ctx, &song, mix.SoloAll, w)
	if _, peak := printed(&song, func(session.Role) bool { return true }); err != nil || math.Abs(float64(peak-l.Peak)) > 0.02 {
		t.Errorf("the printed mix peaks at %.2f dBFS, %.2f are said, %v", peak, l.Peak, err)
	}
	if before, err := r.Loudness(ctx, &was, mix.SoloAll, w); err != nil || before.Peak == l.Peak {
		t.Errorf("the premaster's peak does not move: %.2f dBFS", l.Peak)
	}
}

// binEnergy is the energy between two frequencies, by the bins of one transform of all of a sound.
func binEnergy(x []float32, lo, hi float64) float64 {
	n := 1
	for n < len(x) {
		n *= 2
	}
	padded := make([]float64, n)
	for i, v := range x {
		padded[i] = float64(v)
	}
	sum := 0.0
	for k, c := range dsp.NewFFT(n).Coefficients(nil, padded) {
		if hz := float64(k) * ferryRate / float64(n); hz >= lo && hz < hi {
			sum += real(c)*real(c) + imag(c)*imag(c)
		}
	}
	return sum
}
