package room

import (
	"context"
	"math"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// songOf puts sounds on a renderer, as stems called a, b, c, and returns the window that holds them all.
func songOf(sounds ...audio.Buffer) (*mix.Renderer, *session.Song, mix.Window) {
	lib := &mix.Memory{}
	song := session.New("x", 120)
	song.Rate = rate
	n := 0
	for i, x := range sounds {
		id := string(rune('a' + i))
		lib.Put(audioOf(id), x)
		song.Stems = append(song.Stems, session.Stem{ID: id, Name: id, Role: session.Other, Audio: audioOf(id)})
		n = max(n, x.Frames())
	}
	return mix.New(lib, 1<<30), &song, mix.Window{To: n}
}

// audioOf is the hash that stands for a stem's audio.
func audioOf(id string) string { return strings.Repeat(id, 64) }

// crowdOf puts sounds on a renderer and gathers them.
func crowdOf(t *testing.T, sounds ...audio.Buffer) (*Crowd, *session.Song) {
	t.Helper()
	r, song, w := songOf(sounds...)
	return gathered(t, r, song, w), song
}

func gathered(t *testing.T, r *mix.Renderer, song *session.Song, w mix.Window) *Crowd {
	t.Helper()
	c, err := Gather(context.Background(), r, song, w)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// tones is a tone that comes and goes four times a second, at a level, dBFS RMS while it sounds.
func tones(hz, db, seconds float64) audio.Buffer {
	x := audio.New(rate, 1, int(seconds*rate))
	for i := range x.Ch[0] {
		x.Ch[0][i] = float32(math.Sqrt2 * dsp.Gain(db) * math.Sin(2*math.Pi*hz*float64(i)/rate))
	}
	return x
}

// Two tones of one pitch: the softer is covered whole, by a margin that is the difference of their levels (closed form);
// a tone an octave off is not. The smallest dip that gives half back is about as deep as that margin: the pitch lies beside its middle.
func TestWhoCoversWhom(t *testing.T) {
	const margin = 2.6
	loud, soft, far := tones(500, -20, 3), tones(500, -20-margin, 3), tones(2000, -30, 3)
	c, song := crowdOf(t, loud, soft, far)
	if got := c.audible(0, -1, nil); got < 0.999 {
		t.Errorf("the louder is heard by %.3f", got)
	}
	if got := c.audible(1, -1, nil); got > 0.001 {
		t.Errorf("the softer is heard by %.3f", got)
	}
	if got := c.audible(1, 0, nil); got < 0.999 {
		t.Errorf("alone the softer is heard by %.3f", got)
	}
	if got := c.audible(2, -1, nil); got < 0.99 {
		t.Errorf("two octaves off one is heard by %.3f", got)
	}
	all := c.Covers()
	if len(all) == 0 || all[0].By != "a" || all[0].Of != "b" || all[0].Lost < 0.99 || all[0].Lo > 500 || all[0].Hi < 500 {
		t.Fatalf("%+v", all)
	}
	d, ok := c.Dip(all[0])
	if !ok || !d.Half || math.Abs(-d.Bell.DB-margin) > 0.4 || math.Abs(d.Bell.Hz-500) > 20 {
		t.Errorf("%+v %+v", d, d.Bell)
	}
	if _, ok := c.Pair("a", "nobody"); ok {
		t.Error("nobody is covered")
	}
	if f := c.Told(song); d.Costs < all[0].Lost && (len(f) != 1 || f[0].ID != "covers.a.b") {
		t.Errorf("%+v", f)
	}
}

// Two noises in one band: the louder stands over the softer by their levels, cell by cell; carried out on the sound, the
// dip does what was said of it.
func TestDipCarriedOut(t *testing.T) {
	r := rand.New(rand.NewPCG(4, 9))
	band := func(db float64) audio.Buffer {
		x := audio.New(rate, 1, 4*rate)
		for i := range x.Ch[0] {
			x.Ch[0][i] = float32(r.NormFloat64())
		}
		s, err := dsp.Bandpass(400, 700, rate)
		if err != nil {
			t.Fatal(err)
		}
		dsp.NewFilter(s).Process(x.Ch[0], x.Ch[0])
		turn(x, db)
		return x
	}
	a, b := band(-14), band(-17)
	c, song := crowdOf(t, a, b)
	k, ok := c.Pair("a", "b")
	d, found := c.Dip(k)
	if !ok || !found || k.Lost < 0.1 || d.Bell.DB > -0.5 {
		t.Fatalf("%+v %+v", k, d)
	}
	if _, err := d.Edit(song).Apply(song); song.Stem("a").Move("room-for-b") == nil {
		t.Fatal(err)
	}
	y, err := filtered(a, d.Bell)
	if err != nil {
		t.Fatal(err)
	}
	after, _ := crowdOf(t, y, b)
	if got, want := after.audible(1, -1, nil)-c.audible(1, -1, nil), d.Back; math.Abs(got-want) > 0.03 {
		t.Errorf("carried out it gives %.3f back, %.3f was said", got, want)
	}
	less := *d.Bell
	if less.DB += 0.2; d.Half && c.audible(1, 0, c.gains(&less))-c.audible(1, -1, nil) >= coverHalf*k.Lost {
		t.Errorf("0.2 dB less than %.1f does it too", d.Bell.DB)
	}
}
