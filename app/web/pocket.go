package web

import (
	"fmt"
	"html/template"
	"sort"

	"mellowthump/app/web/plot"
	"mellowthump/core/meter"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

type pocketSheet struct {
	*view
	Strip    template.HTML
	Worst    []meter.Hit
	Figures  *meter.HitFigures
	Findings []pocket.Finding
	Home     [2]float64
	Hidden   int // hits that the picture leaves out
}

const (
	hitsARow   = 14
	hitsDrawn  = 112 // more are too small to read; the worst are drawn
	worstShown = 6
)

// pocketFindings judges the loop as it sounds now.
func pocketFindings(v *view) []pocket.Finding {
	var line *meter.Pitch
	if b := v.ByRole(session.Bass); len(b) > 0 {
		line = v.Facts[b[0].Audio].Fundamental
	}
	return pocket.Judge(v.State.After, v.Targets.Clearance, v.KickName(), v.BassName(), line)
}

func (s *Server) pocketSheet(v *view) *pocketSheet {
	out := &pocketSheet{view: v}
	if v.State == nil {
		v.Lead = v.Trouble
		return out
	}
	out.Figures = &v.State.After
	out.Findings = pocketFindings(v)
	v.Lead = pocket.Sentence(v.State.After, v.Targets.Clearance, v.KickName(), v.BassName())
	out.Home[0], out.Home[1] = meter.HomeBand(v.State.Pair.Meter.HomeHz)

	strip := v.strip("pocket-strip", 760, 128)
	strip.Details = true
	if over := len(strip.Hits) - hitsDrawn; over > 0 {
		out.Hidden = over
		strip.Hits = worstInOrder(strip.Hits, hitsDrawn)
		if strip.Was != nil {
			strip.Was = worstOf(strip.Was, strip.Hits)
		}
	}
	strip.Rows = (len(strip.Hits) + hitsARow - 1) / hitsARow
	if strip.Rows > 2 {
		strip.Height = 96
	}
	out.Strip = plot.HitStrip(strip)
	out.Worst = worstInOrder(v.State.After.Hits, worstShown)
	sort.SliceStable(out.Worst, func(i, j int) bool { return out.Worst[i].Clearance < out.Worst[j].Clearance })
	return out
}

// worstInOrder returns the n hits with the least clearance, in the order of time.
func worstInOrder(hits []meter.Hit, n int) []meter.Hit {
	h := append([]meter.Hit(nil), hits...)
	sort.SliceStable(h, func(i, j int) bool { return h[i].Clearance < h[j].Clearance })
	h = h[:min(n, len(h))]
	sort.Slice(h, func(i, j int) bool { return h[i].At < h[j].At })
	return h
}

// worstOf returns the hits of was that stand at the same times as picked.
func worstOf(was, picked []meter.Hit) []meter.Hit {
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

// strip gathers what a strip of the loop's hits needs.
func (v *view) strip(id string, width, height float64) plot.Strip {
	st := v.State
	p := plot.Strip{
		ID: id, Width: width, Height: height, Rows: 1, Target: v.Targets.Clearance,
		Kick: plot.Calm(st.Pair.Meter.Kick), Bass: plot.Calm(st.After.Bass), Before: plot.Calm(st.Before.Bass),
		Offset: v.envelopeOffset(), Hits: st.After.Hits, Bars: v.Position,
	}
	if st.Readout != nil {
		p.Was = st.Before.Hits
	}
	return p
}

// envelopeOffset is the number of envelope steps from the start of the envelopes to the
// start of the song.
func (v *view) envelopeOffset() int {
	return -int(float64(v.State.Pair.Meter.Offset)/float64(v.Rate)/meter.EnvelopeStep + 0.5)
}

// HomeNote names the kick's settled pitch.
func (p *pocketSheet) HomeNote() string {
	note, cents := meter.Note(p.State.Pair.Meter.HomeHz)
	return fmt.Sprintf("%s %s c", note, signedPlus(cents))
}

func signedPlus(v float64) string {
	s := plot.Signed(v, 0)
	if v > 0 && s != "0" {
		return "+" + s
	}
	return s
}
