package body

import (
	"context"
	"errors"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// layered is a kick of two layers, 55 Hz and 55 Hz late with a click, over a held bass and hats, eight hits at 120 bpm, on a bus.
func layered(t *testing.T, late float64) (*mix.Renderer, *session.Song, mix.Window) {
	t.Helper()
	low, top, bass, hats := audio.New(rate, 1, 4*rate), audio.New(rate, 1, 4*rate), audio.New(rate, 1, 4*rate), audio.New(rate, 2, 4*rate)
	r := rand.New(rand.NewPCG(3, 4))
	for k := range 7 {
		at := rate/4 + k*rate/2
		for i := range int(0.45 * rate) {
			s := float64(i) / rate
			low.Ch[0][at+i] += float32(0.5 * math.Sin(2*math.Pi*55*s) * math.Exp(-s/0.1))
			if at+i+int(late*rate) < 4*rate {
				top.Ch[0][at+i+int(late*rate)] += float32(0.3*math.Sin(2*math.Pi*55*s)*math.Exp(-s/0.1) + 0.2*math.Sin(2*math.Pi*260*s)*math.Exp(-s/0.05))
			}
			click := float32(0.25 * r.NormFloat64() * math.Exp(-s/0.004))
			top.Ch[0][at+i] += click
			hats.Ch[0][at+i] += float32(0.1 * r.NormFloat64() * math.Exp(-s/0.03))
			hats.Ch[1][at+i] += float32(0.1 * r.NormFloat64() * math.Exp(-s/0.03))
		}
	}
	for i := range bass.Ch[0] {
		s := float64(i) / rate
		bass.Ch[0][i] = float32(0.2 * math.Sin(2*math.Pi*49*s) * math.Min(1, s/0.01))
	}
	lib := &mix.Memory{}
	song := session.New("x", 120)
	song.Rate, song.Grid = rate, 0.25
	song.Buses = []session.Bus{{ID: "drums", Name: "Drums"}}
	for i, s := range []struct {
		id   string
		role session.Role
		bus  string
		x    audio.Buffer
	}{{"low", session.Kick, "drums", low}, {"top", session.Kick, "drums", top}, {"bass", session.Bass, "", bass}, {"hats", session.Hats, "drums", hats}} {
		sha := strings.Repeat(string(rune('a'+i)), 64)
		lib.Put(sha, s.x)
		song.Stems = append(song.Stems, session.Stem{ID: s.id, Name: s.id, Role: s.role, Bus: s.bus, Audio: sha})
	}
	song.Settle()
	return mix.New(lib, 1<<28), &song, mix.Window{To: 4 * rate}
}

func apply(t *testing.T, song *session.Song, e session.Edit) *session.Song {
	t.Helper()
	c := song.Clone()
	if said, err := e.Apply(&c); err != nil || said == "" {
		t.Fatalf("%q, %v", said, err)
	}
	return &c
}

// A glue takes 2 dB in the loudest tenth of the time, measured again on what comes out of the bus; its key does not hear the
// kick, which would make it take more; the loudness stays within 0.1 LU.
func TestGlue(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0.009)
	for _, at := range []session.At{{Bus: "drums"}, {}} {
		g, err := Glue(ctx, r, song, at, w)
		if err != nil || g == nil {
			t.Fatalf("%v: %v", at, err)
		}
		if g.Takes < 1.9 || g.Takes > 2.6 || g.Most < g.Takes || g.Unkeyed < g.Takes+0.5 || !strings.Contains(g.Says(), "pump") {
			t.Errorf("%v: %+v", at, g)
		}
		solo := mix.SoloAll
		if at.Bus != "" {
			solo = mix.SoloBus(at.Bus)
		}
		was, err := r.Loudness(ctx, song, solo, w)
		if err != nil {
			t.Fatal(err)
		}
		glued := apply(t, song, g.Edit())
		is, err := r.Loudness(ctx, glued, solo, w)
		if err != nil || math.Abs(float64(is.Integrated-was.Integrated)) > 0.1 {
			t.Errorf("%v: %.2f LUFS before, %.2f after (%v)", at, float64(was.Integrated), float64(is.Integrated), err)
		}
		// what it takes, read off the render: gain by gain, the make-up set aside
		a, _, _ := r.Solo(ctx, song, solo, w)
		b, _, _ := r.Solo(ctx, glued, solo, w)
		most := 0.0
		for i, v := range a.Ch[0] {
			if math.Abs(float64(v)) > 0.05 {
				most = math.Max(most, g.Move.Makeup-dsp.DB(math.Abs(float64(b.Ch[0][i]/v))))
			}
		}
		if math.Abs(most-g.Most) > 0.2 {
			t.Errorf("%v: at most %.2f dB on the render, said %.2f", at, most, g.Most)
		}
	}
	quiet := song.Clone()
	for i := range quiet.Stems {
		quiet.Stems[i].Mute = quiet.Stems[i].ID != "bass"
	}
	if g, err := Glue(ctx, r, &quiet, session.At{}, w); err != nil || g != nil {
		t.Errorf("a bass alone is glued by its low end: %+v, %v", g, err)
	}
}

// Three bands keep the loudness within 0.1 LU, and bring soft and loud closer: the crest of the bus falls.
func TestToBands(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0.009)
	for _, at := range []session.At{{Bus: "drums"}, {}, {Stem: "top"}} {
		b, err := ToBands(ctx, r, song, at, BandsDepth, w)
		if err != nil || b == nil {
			t.Fatalf("%v: %v", at, err)
		}
		solo, of := mix.SoloAll, song
		if at.Bus != "" {
			solo = mix.SoloBus(at.Bus)
		}
		if at.Stem != "" {
			c := song.Clone()
			for i := range c.Stems {
				c.Stems[i].Mute = c.Stems[i].ID != at.Stem
			}
			of = &c
		}
		was, _ := r.Loudness(ctx, of, solo, w)
		is, err := r.Loudness(ctx, apply(t, of, b.Edit()), solo, w)
		if err != nil || math.Abs(float64(is.Integrated-was.Integrated)) > 0.1 {
			t.Errorf("%v: %.2f LUFS before, %.2f after (%v)", at, float64(was.Integrated), float64(is.Integrated), err)
		}
		x, _, _ := r.Solo(ctx, of, solo, w)
		y, _, err := r.Solo(ctx, apply(t, of, b.Edit()), solo, w)
		if err != nil {
			t.Fatal(err)
		}
		apart := func(x audio.Buffer) float64 { // what a hit is over what comes 300 ms later
			at := rate/4 + rate
			return dsp.PowerDB(meter.Energy(x.Ch[0][at:at+rate/10]) / meter.Energy(x.Ch[0][at+3*rate/10:at+4*rate/10]))
		}
		if apart(y) > apart(x)-0.3 {
			t.Errorf("%v: loud and soft are %.1f dB apart, %.1f before", at, apart(y), apart(x))
		}
	}
	if b, err := ToBands(ctx, r, song, session.At{Bus: "none"}, 50, w); err != nil || b != nil {
		t.Errorf("a bus that is none: %+v, %v", b, err)
	}
}

// What is put under the kick: a tone an octave under its pitch, so far under its peak; its gain and its cost are those of the renders.
func TestUnderKick(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0.009)
	for _, lift := range []bool{false, true} {
		db := 6.0
		if lift {
			db = 3
		}
		u, err := UnderKick(ctx, r, song, 55, db, lift, w)
		if err != nil || u == nil {
			t.Fatal(err)
		}
		if m, ok := u.Move.(*move.Sub); ok != !lift || ok && (m.Hz != 27.5 || m.Level > -6 || m.Level < -14) {
			t.Errorf("%+v", u.Move)
		}
		if u.Gained < 0.3 || u.Gained > 6 || !strings.Contains(u.Says(), "go gently") == !lift {
			t.Errorf("lift %v: %s", lift, u.Says())
		}
		p := Part{ID: Kick, Low: true}
		a, _ := Weigh(ctx, r, song, p, nil, w)
		b, err := Weigh(ctx, r, apply(t, song, u.Edit()), p, nil, w)
		if err != nil || math.Abs(float64(b.Median-a.Median-u.Gained)) > 0.01 {
			t.Errorf("lift %v: said %.2f dB, is %.2f", lift, float64(u.Gained), float64(b.Median-a.Median))
		}
	}
	if u, err := UnderKick(ctx, r, song, 40, 6, false, w); err != nil || u != nil {
		t.Errorf("an octave under 40 Hz is no sound: %+v, %v", u, err)
	}
}

// Notes that fall: the kick's own sound is the same to the bit, the clearance that was said is the one that is measured, notes
// that lie over each other end where the next begins, and a line without notes is nothing.
func TestFallBy(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0.009)
	line := []meter.BassNote{{Start: 0, End: 2.1, Hz: 49, Note: "G1"}, {Start: 2, End: 4, Hz: 49, Note: "G1"}, {Start: 3.5, End: 3.6, Hz: 5}}
	law := move.Drop{From: move.DropRelease, Semitones: 12, MS: 600, Curve: "late"}
	f, err := FallBy(ctx, r, song, line, law, w)
	if err != nil || f == nil || len(f.Move.Notes) != 2 || f.Move.Notes[0].End != 2 {
		t.Fatalf("%+v, %v", f, err)
	}
	fallen := apply(t, song, f.Edit(song))
	a, _, _ := r.Solo(ctx, song, mix.SoloKick, w)
	b, _, err := r.Solo(ctx, fallen, mix.SoloKick, w)
	if err != nil {
		t.Fatal(err)
	}
	for i, v := range a.Ch[0] {
		if v != b.Ch[0][i] {
			t.Fatal("the kick changes")
		}
	}
	p, err := r.Pair(ctx, fallen, w)
	if err != nil {
		t.Fatal(err)
	}
	h, err := r.Figures(t.Context(), p)
	if err != nil || math.Abs(float64(h.ClearanceP10-f.Before.ClearanceP10-f.Clearance)) > 0.01 {
		t.Errorf("said %.2f, is %.2f (%v)", float64(f.Clearance), float64(h.ClearanceP10-f.Before.ClearanceP10), err)
	}
	if f, err := FallBy(ctx, r, song, nil, law, w); err != nil || f != nil {
		t.Errorf("%+v, %v", f, err)
	}
}

// Layers that cancel hand over where they agree better: who carries which band is the layers' closed form, and the phase sum
// about the corner is what the renders of the edited song give; one low source has nothing to hand over.
func TestStack(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0.0070) // 0.385 of a period of 55 Hz
	s, err := StackOf(ctx, r, song, session.Kick, w)
	if err != nil || s == nil || len(s.Layers) != 2 {
		t.Fatalf("%+v, %v", s, err)
	}
	if !s.Layers[0].Lowest || s.Layers[1].Lowest || s.Layers[1].Bands[2] < s.Layers[0].Bands[2]+20 {
		t.Errorf("%+v", s.Layers)
	}
	// e^(-2t/0.1)/2 * 0.25 over 200 ms
	if want := dsp.PowerDB(0.25 / 2 * 0.1 / 2 * (1 - math.Exp(-4)) / 0.2); math.Abs(float64(s.Layers[0].Bands[0])-want) > 0.4 {
		t.Errorf("the low layer carries %.2f dB, want %.2f", float64(s.Layers[0].Bands[0]), want)
	}
	if s.Corner < handLow || s.Corner > handHigh || s.After < s.Before+handGains || s.Sum > -0.5 {
		t.Fatalf("%+v", s)
	}
	after := apply(t, song, s.Edit())
	low, _, _ := r.Stem(ctx, after, after.Stem("low"), w)
	top, _, err := r.Stem(ctx, after, after.Stem("top"), w)
	if err != nil {
		t.Fatal(err)
	}
	var hits []int
	for k := range 7 {
		hits = append(hits, rate/4+k*rate/2)
	}
	if got := phaseSum(low.Mono(), top.Mono(), s.Corner/2, s.Corner*2, rate, hits); math.Abs(float64(got-s.After)) > 0.2 {
		t.Errorf("said %.2f dB, the renders give %.2f", float64(s.After), float64(got))
	}
	alone := song.Clone()
	alone.Stem("top").SetMove(move.Move{ID: "cut", Params: &move.Filter{Shape: dsp.Highpass, Hz: 300, Slope: 48}})
	if s, err := StackOf(ctx, r, &alone, session.Kick, w); err != nil || s == nil || s.Corner != 0 {
		t.Errorf("one low source hands over at %+v (%v)", s, err)
	}
	if s, err := StackOf(ctx, r, song, session.Snare, w); err != nil || s != nil {
		t.Errorf("no snare: %+v, %v", s, err)
	}
}

// A layer on chosen beats is silent at all other hits, to the bit, and what it was at those.
func TestOnBeats(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0)
	part, _ := Of(song, Kick)
	all, err := part.Times(r, song, nil)
	if err != nil {
		t.Fatal(err)
	}
	g, ok := OnBeats(song, all, "24")
	if !ok || len(g.Steps) != 7 {
		t.Fatalf("%+v", g)
	}
	c := song.Clone()
	c.Stem("top").SetMove(move.Move{ID: session.BodyBeats, Params: g})
	x, _, _ := r.Stem(ctx, song, song.Stem("top"), w)
	y, _, err := r.Stem(ctx, &c, c.Stem("top"), w)
	if err != nil {
		t.Fatal(err)
	}
	for k := range 7 {
		at := rate/4 + k*rate/2
		for i := at + rate/10; i < at+rate/5; i++ { // clear of the joins
			want := float32(0)
			if k%4 == 1 || k%4 == 3 {
				want = x.Ch[0][i]
			}
			if y.Ch[0][i] != want {
				t.Fatalf("hit %d: %g, want %g", k, y.Ch[0][i], want)
			}
		}
	}
	for _, key := range []string{"none", "off"} {
		if _, ok := OnBeats(song, all, key); ok {
			t.Errorf("%q finds hits", key)
		}
	}
}

// A shot is the hit as it is rendered, all layers together, cut at both ends and faded; its pitch is the kick's; what is not
// there is an error.
func TestShot(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0)
	p, _ := Of(song, Kick)
	weights, err := Weigh(ctx, r, song, p, nil, w)
	if err != nil {
		t.Fatal(err)
	}
	one := song.Clone()
	one.Stem("top").Mute = true
	s, err := TakeShot(ctx, r, &one, weights, weights.Middle())
	if err != nil {
		t.Fatal(err)
	}
	if s.Pitch == nil || math.Abs(1200*math.Log2(s.Pitch.Hz/55)) > 20 || !strings.HasPrefix(s.Name("Kick"), "Kick A1") {
		t.Errorf("%+v, %s", s.Pitch, s.Name("Kick"))
	}
	if s, err = TakeShot(ctx, r, song, weights, weights.Middle()); err != nil {
		t.Fatal(err)
	}
	n := s.Sound.Frames()
	if n < rate/4 || n > rate/2+rate/50 || math.Abs(float64(s.Sound.Ch[0][n-1])) > 1e-4 {
		t.Errorf("%d frames, the last %g", n, s.Sound.Ch[0][n-1])
	}
	a, _, _ := r.Stem(ctx, song, song.Stem("low"), w)
	b, _, _ := r.Stem(ctx, song, song.Stem("top"), w)
	hit := int(math.Round(s.At*rate)) + 2000
	at := -1
	for off := -1500; off < 1500 && at < 0; off++ { // where the shot's frame 3000 is in the song
		same := true
		for i := 0; i < 500 && same; i++ {
			k := hit + off + i
			same = math.Abs(float64(s.Sound.Ch[0][3000+i]-a.Ch[0][k]-b.Ch[0][k])) < 1e-6
		}
		if same {
			at = hit + off
		}
	}
	if at < 0 {
		t.Error("it is not the hit as it is rendered")
	}
	if _, err := TakeShot(ctx, r, song, weights, 99); !errors.Is(err, ErrNoShot) {
		t.Errorf("%v", err)
	}
}

// The level of a parallel copy is told against the sound.
func TestCopyUnder(t *testing.T) {
	r, song, w := layered(t, 0)
	for _, level := range []float64{-12, -3} {
		a, err := CopyUnder(context.Background(), r, song, session.At{Stem: "bass"}, &move.Parallel{Over: 20, Level: level}, w)
		if err != nil || math.Abs(float64(a)+level) > 0.3 { // a 49 Hz tone behind a high-pass at 20 Hz is what it was
			t.Errorf("at %g dB the copy lies %.2f under it (%v)", level, float64(a), err)
		}
	}
}

// Harmonics are matched within 0.1 LU on noise too, at any drive.
func TestDriveIsMatched(t *testing.T) {
	ctx := context.Background()
	r, song, w := layered(t, 0)
	x, rnd := audio.New(rate, 1, 4*rate), rand.New(rand.NewPCG(9, 9))
	for i := range x.Ch[0] {
		x.Ch[0][i] = float32(0.15 * rnd.NormFloat64())
	}
	lib := &mix.Memory{}
	lib.Put(strings.Repeat("f", 64), x)
	noise := song.Clone()
	noise.Stems = []session.Stem{{ID: "n", Name: "n", Role: session.Bass, Audio: strings.Repeat("f", 64)}}
	noise.Triggers = nil
	for _, c := range []struct {
		r    *mix.Renderer
		song *session.Song
	}{{r, song}, {mix.New(lib, 1<<28), &noise}} {
		for _, db := range []float64{3, 12, 24} {
			d := &Driven{Move: &move.Drive{Adds: move.DriveBoth, Drive: db, Over: 120, Level: 0}}
			if err := d.match(ctx, c.r, c.song, w); err != nil {
				t.Fatal(err)
			}
			was, _ := c.r.Loudness(ctx, c.song, mix.SoloBass, w)
			is, err := c.r.Loudness(ctx, drivenBy(c.song, d.Move), mix.SoloBass, w)
			if err != nil || math.Abs(float64(is.Integrated-was.Integrated)) > 0.1 {
				t.Errorf("%g dB: %.2f LUFS, %.2f before (%v)", db, float64(is.Integrated), float64(was.Integrated), err)
			}
		}
	}
}
