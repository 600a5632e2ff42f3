// Package duck is the stage Duck in the browser: how does the bass get out of the way, and back?
package duck

import (
	"context"
	"fmt"
	"html/template"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/hits"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

type handlers struct{ *shell.Server }

type sheet struct {
	*shell.View
	Editor  template.HTML
	Strip   template.HTML
	Duck    *move.Duck // at tempo, on or off; nil where there is none
	Off     bool
	Why     string
	Named   string // what the duck works at
	Preview bool
	Worst   []meter.Hit // by their clearance
	School  string
	Unduck  mix.Loud // of everything without the ducks
}

// MixFreed is how far the ducks let the whole mix's peak fall: it may be raised by that.
func (out *sheet) MixFreed() meter.Figure { return out.Unduck.Peak - out.Levels.Peak }

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	return h.drawn(c.Request.Context(), v)
}

// drawn measures and draws what the stage shows.
func (h *handlers) drawn(ctx context.Context, v *shell.View) (*sheet, error) {
	out := &sheet{View: v}
	need := v.NeedPair
	if v.BassLeads() {
		need = v.NeedAgreement
	}
	if err := need(ctx); err != nil {
		return nil, err
	}
	if v.State == nil {
		v.Lead = v.Trouble
		return out, nil
	}
	plain := v.Unducked()
	var err error
	if out.Unduck, err = h.Renderer.Loudness(ctx, &plain, mix.SoloAll, v.Win); err != nil {
		return nil, err
	}
	if d, off := v.Song.Duck(); d != nil {
		out.Off, out.Duck, out.Why = off, d, v.DuckWhy()
		if at, err := d.AtTempo(v.BPM); err == nil {
			out.Duck = at
		}
	}
	out.Named = triggerName(v)
	out.School = move.CurveSchool
	if out.Duck != nil {
		out.School = out.Duck.School
	}
	v.Lead = fmt.Sprintf("%s at every hit of %s: as little as puts the kick %g dB over the bass in its own octave, on 9 of 10 hits.",
		map[string]string{move.CurveSchool: "One curve", move.CompressorSchool: "A compressor that listens", move.BandSchool: "A dip of one band"}[out.School], out.Named, v.Targets.Clearance)
	if v.BassLeads() {
		v.Lead = fmt.Sprintf("The bass leads, so the kick makes room behind its attack: as little as puts the bass %g dB over it from 60 ms after the hit, on 9 of 10 hits.", v.Targets.Clearance)
	}
	out.draw()
	out.Worst = hits.Worst(v)
	return out, nil
}

// draw makes the editor and the strip of hits.
func (out *sheet) draw() {
	v := out.View
	e := plot.Editor{
		Width: 774, Height: 310,
		Kick: plot.Calm(v.State.Pair.Meter.Kick), Before: plot.Calm(v.State.Before.Bass), Bass: plot.Calm(v.State.After.Bass),
		Offset: hits.Offset(v), Hits: v.State.After.Hits, Duck: out.Duck, BPM: v.BPM,
		Handover: v.State.After.HandoverMedian, BassName: v.BassName(),
	}
	if v.BassLeads() {
		e.KickBefore = plot.Calm(v.State.Without.Meter.Kick)
	}
	if out.Duck != nil && out.Duck.Keyed() && v.State.Gain != nil {
		m := v.State.Pair.Meter
		for ms := 0; ms*v.Rate/1000 < len(v.State.Gain); ms++ {
			e.Gain = append(e.Gain, v.State.Gain[ms*v.Rate/1000])
		}
		e.GainFrom = float64(m.Range.From+m.Offset) / float64(v.Rate)
	}
	out.Editor = plot.DuckEditor(e)
	strip := hits.Strip(v, "duck-strip", 774, 88)
	if len(strip.Hits) > hits.Drawn/2 {
		strip.Rows = 2
	}
	if len(strip.Hits) > hits.Drawn {
		strip.Hits = hits.WorstInOrder(strip.Hits, hits.Drawn)
		if strip.Was != nil {
			strip.Was = hits.WorstOf(strip.Was, strip.Hits)
		}
	}
	out.Strip = plot.HitStrip(strip)
}

// triggerName names what the song's own duck works at.
func triggerName(v *shell.View) string {
	if id := v.DuckTrigger(); id != session.KickTrigger {
		return v.Trigger(id).Name
	}
	if st := v.TriggerStem(); st != nil {
		return st.Name
	}
	return "the kick"
}

// keyInput says what a keyed duck listens to, and where.
func keyInput(v *shell.View) string {
	t := v.Trigger(v.DuckTrigger())
	switch {
	case t == nil:
		return triggerName(v) + ", before its fader"
	case t.Clicks() || len(t.Added)+len(t.Removed) > 0:
		return triggerName(v) + ", as the trigger clicks"
	case t.Post || t.Bus != "":
		return triggerName(v) + ", behind its fader"
	}
	return triggerName(v) + ", before its fader"
}
