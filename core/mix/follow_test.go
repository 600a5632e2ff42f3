package mix

import (
	"context"
	"math"
	"testing"

	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// A loop that is played round goes on at its seam as the song goes on there: its start is the song's to the sample, its
// length is the window's, and what joins end and start is no step.
func TestLoopsHaveNoSeam(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	lib, s := beat()
	r := New(lib, 1<<28)
	const fades = seam * rate // frames
	jumped := 0
	for from := 1500; from < 2*rate; from += 997 { // cut anywhere
		w := Window{From: from, To: from + rate}
		plain, _, err := r.Heard(ctx, &s, SoloAll, w)
		if err != nil {
			t.Fatal(err)
		}
		got, err := r.Looped(ctx, &s, SoloAll, w)
		if err != nil {
			t.Fatal(err)
		}
		before, _, err := r.Heard(ctx, &s, SoloAll, Window{From: w.From - 2, To: w.From})
		if err != nil {
			t.Fatal(err)
		}
		if got.Frames() != w.Frames() || len(got.Ch) != len(plain.Ch) {
			t.Fatalf("%d frames of %d channels", got.Frames(), len(got.Ch))
		}
		for c, x := range got.Ch {
			most, bare := 0.0, plain.Ch[c] // the largest step within
			for i := range bare {
				if float64(i) < float64(len(x))-fades && x[i] != bare[i] {
					t.Fatalf("frame %d is %g, the song has %g", i, x[i], bare[i])
				}
				if i > 0 {
					most = max(most, math.Abs(float64(bare[i]-bare[i-1])))
				}
			}
			last := len(x) - 1
			if math.Abs(float64(x[last]-before.Ch[c][1])) > 1e-6 {
				t.Errorf("from %d it ends on %g, before its start the song has %g", from, x[last], before.Ch[c][1])
			}
			if step := math.Abs(float64(x[0] - x[last])); step > most {
				t.Errorf("from %d it steps by %g at the seam, by %g within", from, step, most)
			}
			if math.Abs(float64(bare[0]-bare[last])) > most {
				jumped++
			}
		}
	}
	if jumped < 3 {
		t.Errorf("%d bare loops step: this tells nothing", jumped)
	}
}

// What follows a hand is what is rendered when it lets go: the rest, and each handled stem at its gain.
func TestPartsAreTheWhole(t *testing.T) {
	ctx := context.Background()
	lib, s := beat()
	s.SetDuck(
		&move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {MS: 2, DB: -14}, {MS: 90, DB: -9, Bend: 0.4}, {MS: 210}}},
		false,
		"",
	)
	kick := s.TriggerStem()
	kick.SetMove(move.Move{ID: "tail-fade", Params: &move.Fade{Trigger: session.KickTrigger, From: 80, To: 160}})
	r := New(lib, 1<<28)
	w := Window{From: rate / 4, To: rate/4 + 2*rate}
	for _, solo := range []Solo{SoloBoth, SoloAll, SoloBass} {
		want, err := r.Looped(ctx, &s, solo, w)
		if err != nil {
			t.Fatal(err)
		}
		sum := make([]float64, w.Frames())
		add := func(id string, gain []float32) {
			t.Helper()
			b, err := r.Part(ctx, &s, solo, id, w)
			if err != nil {
				t.Fatal(err)
			}
			for i, v := range b.Mono() {
				g := 1.0
				if gain != nil {
					at := float64(i) * 1000 / float64(s.Rate)
					k := min(int(at), len(gain)-2)
					g = float64(gain[k]) + (at-float64(k))*float64(gain[k+1]-gain[k])
				}
				sum[i] += g * float64(v)
			}
		}
		add("", nil)
		low := float32(1)
		for _, st := range Handled(&s, solo) {
			g, err := r.PartGain(ctx, &s, st, w)
			if err != nil {
				t.Fatal(err)
			}
			for _, v := range g {
				low = min(low, v)
			}
			add(st.ID, g)
		}
		if low > 0.3 {
			t.Errorf("%s: the lowest gain is %g", solo, low)
		}
		var off, all float64
		for i, v := range want.Mono()[:w.Frames()-rate/100] {
			off += (sum[i] - float64(v)) * (sum[i] - float64(v))
			all += float64(v) * float64(v)
		}
		if db := 10 * math.Log10(off/all); !(db < -45) {
			t.Errorf("%s: the parts miss the render by %.1f dB", solo, db)
		}
	}
}

// A part that ducks to two triggers goes down by each on its own, and where both strike by the lower alone; what is printed is
// what is read.
func TestLowestOfTwoDucks(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	lib, s := routed()
	s.Triggers = append(s.Triggers, session.Trigger{ID: "t1", Name: "every half", Grid: "1/2"})
	for trigger, depth := range map[string]float64{session.KickTrigger: 9, "t1": 3} {
		s.Stem("p").
			SetMove(move.Move{ID: session.PartDuck + "p-" + trigger, Params: &move.Duck{School: move.CurveSchool, Trigger: trigger, Points: []move.Point{{MS: -5},
				{DB: -depth}, {MS: 400, DB: -depth}, {MS: 600}}}})
	}
	alone := func(trigger string) session.Song {
		c := s.Clone()
		c.Stem("p").Moves = c.Stem("p").Moves.Without(func(m move.Move) bool { return m.Params.(*move.Duck).Trigger != trigger })
		return c
	}
	plain := s.Unducked()
	w := Window{0, 4 * rate}
	render := func(of session.Song) []float32 {
		t.Helper()
		b, _, err := New(lib, 1<<28).Stem(ctx, &of, of.Stem("p"), w)
		if err != nil {
			t.Fatal(err)
		}
		return b.Ch[0]
	}
	dry, kick, grid, both := render(plain), render(alone(session.KickTrigger)), render(alone("t1")), render(s)
	overlaps := 0
	for i, v := range both {
		want := kick[i]
		if abs(grid[i]) < abs(kick[i]) {
			want = grid[i]
		}
		if abs(v-want) > 1e-6 {
			t.Fatalf("frame %d is %g; to the kick alone %g, to the grid alone %g", i, v, kick[i], grid[i])
		}
		if abs(kick[i]) < 0.9*abs(dry[i]) && abs(grid[i]) < 0.9*abs(dry[i]) {
			overlaps++
		}
	}
	if overlaps < rate/100 {
		t.Error("the two never overlap: this tells nothing")
	}
	agree(t, "two ducks", lib, &s)
}

func abs(v float32) float32 { return max(v, -v) }
