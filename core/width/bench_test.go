package width_test

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/width"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

// The demo's pad is told as what stands wide, all made safe cures it, and the mix loses under half a decibel of its 20 to 200
// Hz in mono; a song of mono stems is told nothing.
func TestDemoWidth(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	d := demo.SlowFerry()
	lib, known := &mix.Memory{}, map[string]*facts.Analysis{}
	song := d.Song
	song.Loop = &session.Span{From: 0, To: 14}
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		known[s.Audio] = &facts.Analysis{Facts: facts.Facts{DurationS: 15, Channels: len(s.Sound.Ch)}}
		song.Stems = append(song.Stems, s.Stem)
	}
	r := mix.New(lib, 1<<30)
	b := bench.New(r, &song, known)
	found, err := width.Findings(ctx, b)
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for _, f := range found {
		told[f.ID] = true
	}
	if !told["wide.pad"] || told["wide.bell"] || told["wide.hats"] {
		t.Errorf("%v", told)
	}
	e, n, err := width.AllSafe(ctx, b)
	if err != nil || e == nil || n < 1 {
		t.Fatalf("%v %d %v", e, n, err)
	}
	safe := song.Clone()
	if _, err := e.Apply(&safe); err != nil {
		t.Fatal(err)
	}
	after := bench.New(r, &safe, known)
	row, err := width.Between(ctx, after, session.At{})
	if err != nil {
		t.Fatal(err)
	}
	t.Logf(
		"the mix loses %.2f dB of 20 to 200 Hz before, %.2f now",
		float64(func() float64 { m, _ := width.Between(ctx, b, session.At{}); return float64(m.Now.LowFold) }()),
		float64(row.Now.LowFold),
	)
	if !(float64(row.Now.LowFold) < 0.5) {
		t.Errorf("the mix loses %.2f dB of 20 to 200 Hz", float64(row.Now.LowFold))
	}
	if again, err := width.Findings(ctx, after); err != nil || len(again) != 0 {
		t.Errorf("%v %v", again, err)
	}
	if e, _, err := width.AllSafe(ctx, after); err != nil || e != nil {
		t.Errorf("there is still something to make safe: %v %v", e, err)
	}
	mono := song.Clone()
	for i := range mono.Stems {
		mono.Stems[i].Mute = len(d.Stems[i].Sound.Ch) > 1
	}
	if found, err := width.Findings(ctx, bench.New(r, &mono, known)); err != nil || len(found) != 0 {
		t.Errorf("mono stems: %v %v", found, err)
	}
}

// A bass whose low end is upside down in one channel is told so, and mended it keeps its low end in mono: by the left's on both sides.
func TestLowEndUpsideDown(t *testing.T) {
	const rate = 44100
	x := audio.New(rate, 2, 6*rate)
	for i := range x.Ch[0] {
		at := float64(i) / rate
		low, high := 0.4*math.Sin(2*math.Pi*55*at), 0.1*math.Sin(2*math.Pi*880*at)
		x.Ch[0][i], x.Ch[1][i] = float32(low+high), float32(-0.9*low+high)
	}
	b := songs.OnBench(t, songs.Part{ID: "bass", Role: session.Bass, Sound: x})
	found, err := width.Findings(t.Context(), b)
	if err != nil || len(found) != 1 || !strings.Contains(found[0].What, "upside down in one channel") {
		t.Fatalf("%v, %+v", err, found)
	}
	song := b.Song.Clone()
	if _, err := found[0].Edit().Apply(&song); err != nil {
		t.Fatal(err)
	}
	after := bench.New(b.Renderer, &song, b.Facts)
	y, err := b.Renderer.Looped(t.Context(), &song, mix.SoloAll, after.Loop)
	if err != nil {
		t.Fatal(err)
	}
	mono := y.Mono()
	if was, is := 10*math.Log10(0.4*0.4/2+0.1*0.1/2), 10*math.Log10(meter.Energy(mono)/float64(len(mono))); math.Abs(is-was) > 0.2 {
		t.Errorf("in mono it has %.2f dB, in one channel %.2f", is, was)
	}
	if left, err := width.Findings(t.Context(), after); err != nil || len(left) != 0 {
		t.Errorf("it is still told: %v %+v", err, left)
	}
}
