package width_test

import (
	"context"
	"fmt"
	"testing"

	"mellowthump/core/bench"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/width"
	"mellowthump/internal/outside"
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
