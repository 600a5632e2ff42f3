// Package hits draws the strips of a loop's hits, for the stages that judge kick against bass.
package hits

import (
	"embed"
	"math"
	"slices"
	"sort"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/body"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
)

// Files are what the hits ship with, for the stages that show them.
//
//go:embed *.html *.css *.js
var Files embed.FS

// Drawn is how many hits a strip draws: more are too small to read, and the worst are drawn.
const Drawn = 112

// WorstShown is how many of the worst hits are named.
const WorstShown = 6

// clearOf orders hits by their clearance; those that have none come last.
func clearOf(h meter.Hit) float64 {
	if h.Clearance.Valid() {
		return float64(h.Clearance)
	}
	return math.Inf(1)
}

// WorstInOrder returns the n hits with the least clearance, in the order of time.
func WorstInOrder(hits []meter.Hit, n int) []meter.Hit {
	h := append([]meter.Hit(nil), hits...)
	sort.SliceStable(h, func(i, j int) bool { return clearOf(h[i]) < clearOf(h[j]) })
	h = h[:min(n, len(h))]
	sort.Slice(h, func(i, j int) bool { return h[i].At < h[j].At })
	return h
}

// WorstOf returns the hits of was that stand at the same times as picked.
func WorstOf(was, picked []meter.Hit) []meter.Hit {
	at := map[float64]meter.Hit{}
	for _, h := range was {
		at[h.At] = h
	}
	out := make([]meter.Hit, len(picked))
	for i, h := range picked {
		out[i] = at[h.At]
	}
	return out
}

// Worst are the hits with the least clearance, the worst first.
func Worst(v *shell.View) []meter.Hit {
	out := WorstInOrder(Judged(v), WorstShown)
	sort.SliceStable(out, func(i, j int) bool { return clearOf(out[i]) < clearOf(out[j]) })
	return out
}

// Strip gathers what a strip of the loop's hits needs.
func Strip(v *shell.View, id string, width, height float64) plot.Strip {
	st := v.State
	p := plot.Strip{
		ID: id, Width: width, Height: height, Rows: 1, Target: asked(v),
		Kick: plot.Calm(st.Pair.Meter.Kick), Bass: plot.Calm(st.After.Bass), Before: plot.Calm(st.Before.Bass),
		Offset: Offset(v), Hits: Judged(v), Bars: v.Position,
	}
	if st.Readout != nil {
		p.Was = mirrored(v, st.Before.Hits, lead(v).before)
	}
	return p
}

// Judged are the hits of the loop as they sound; where the bass leads, with its clearance over the
// kick instead of the kick's.
func Judged(v *shell.View) []meter.Hit { return mirrored(v, v.State.After.Hits, lead(v).after) }

func mirrored(v *shell.View, hits []meter.Hit, lead meter.BassLead) []meter.Hit {
	if !v.BassLeads() || len(lead.Clearance) != len(hits) {
		return hits
	}
	out := slices.Clone(hits)
	for i := range out {
		out[i].Clearance = lead.Clearance[i]
	}
	return out
}

// Offset is the number of envelope steps from the start of the envelopes to the
// start of the song.
func Offset(v *shell.View) int { return offset(v.State.Pair.Meter) }

func offset(m *meter.HitMeter) int {
	return -int(float64(m.Offset)/float64(m.Rate)/meter.EnvelopeStep + 0.5)
}

// Between is a strip of the hits of two parts of one file, the struck one above, before and after what was done to them.
func Between(v *shell.View, id string, width, height float64, before, now body.ApartFigures) plot.Strip {
	p := plot.Strip{
		ID: id, Width: width, Height: height, Rows: 1, Target: asked(v), Details: true,
		Kick: plot.Calm(now.Pair.Meter.Kick), Bass: plot.Calm(now.Hits.Bass), Before: plot.Calm(before.Hits.Bass),
		Offset: offset(now.Pair.Meter), Hits: now.Hits.Hits, Bars: v.Position,
	}
	if before.Clearance != now.Clearance && len(before.Hits.Hits) == len(now.Hits.Hits) {
		p.Was = before.Hits.Hits
	}
	if len(p.Hits) > Drawn {
		p.Hits = WorstInOrder(p.Hits, Drawn)
		if p.Was != nil {
			p.Was = WorstOf(p.Was, p.Hits)
		}
	}
	return p
}

// lead is how the bass leads, where it does.
func lead(v *shell.View) (l struct{ before, after meter.BassLead }) {
	if v.BassLeads() && v.State != nil {
		l.before, l.after = v.State.Led, v.State.Lead
	}
	return l
}

// asked is the clearance under which a hit is told, dB; where the aim is by hearing none is.
func asked(v *shell.View) float64 {
	if _, ok := pair.Asked(&v.Song.Song); ok {
		return math.Inf(-1)
	}
	return v.Targets.Clearance
}
