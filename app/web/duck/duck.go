// Package duck is the stage Duck in the browser: how does the bass get out of the way, and back?
package duck

import (
	"context"
	"errors"
	"fmt"
	"html/template"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/hits"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/duck"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
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
	Closest float64                 // ms between the closest hits of the song that the duck works at; 0 where there are none
	Unduck  mix.Loud                // of everything without the ducks
	Hidden  [2]pair.Hidden          // of the kick, without the ducks and with them
	Frees   map[string]meter.Figure // by part: how far the mix's peak falls by its ducks alone, dB
}

// FreesOf is what a part's ducks free, as it is shown; empty where it has none.
func (out *sheet) FreesOf(part string) string {
	f, ok := out.Frees[part]
	if !ok {
		return ""
	}
	return shell.Figure(f, 1)
}

// frees measures what the ducks of each part free in the mix.
func (out *sheet) frees(ctx context.Context, h *handlers) error {
	v := out.View
	with, err := v.Bench.Loudness(ctx, mix.SoloAll)
	if err != nil {
		return err
	}
	out.Frees = map[string]meter.Figure{}
	var places []session.At
	for _, st := range v.Stems {
		places = append(places, session.At{Stem: st.ID})
	}
	for _, b := range v.Buses {
		places = append(places, session.At{Bus: b.ID})
	}
	for _, at := range places {
		plain, ok := v.Song.UnduckedAt(at)
		if !ok {
			continue
		}
		without, err := h.Renderer.Loudness(ctx, &plain, mix.SoloAll, v.Win)
		if err != nil {
			return err
		}
		out.Frees[at.String()] = without.Peak - with.Peak
	}
	return nil
}

// MixFreed is how far the ducks let the whole mix's peak fall: it may be raised by that.
func (out *sheet) MixFreed() meter.Figure { return out.Unduck.Peak - out.Levels.Peak }

// Rise is by how much the mix may be raised by a button, dB: what the ducks freed, in tenths; 0 where that is nothing.
func (out *sheet) Rise() float64 {
	freed := out.MixFreed()
	if out.Off || out.Duck == nil || !freed.Valid() {
		return 0
	}
	return left(freed, &out.Song.Song)
}

// Raisable are the parts that may be raised by what was freed: those with a fader that is not locked.
func (out *sheet) Raisable() []matrixRow {
	var rows []matrixRow
	for i := range out.Stems {
		if st := &out.Stems[i]; !st.Mute && !st.Locked(session.TrackStep) {
			rows = append(rows, matrixRow{Part: st.ID, Name: st.Name})
		}
	}
	for i := range out.Buses {
		if b := &out.Buses[i]; !b.Locked() {
			rows = append(rows, matrixRow{Part: "bus:" + b.ID, Name: b.Name, Bus: true})
		}
	}
	return rows
}

// left is what was freed and is not yet given to the mix, in tenths of a dB.
func left(freed meter.Figure, song *session.Song) float64 {
	return max(0, figure.Tenth(float64(freed)-song.Raised))
}

// rise raises the mix by what the ducks freed in the judged stretch.
func (h *handlers) rise(c *gin.Context) {
	h.WorkOut(c, "duck", "points", func(song *session.Song) (session.Edit, error) {
		ctx := c.Request.Context()
		b, err := h.Bench(ctx, song)
		if err != nil {
			return nil, err
		}
		with, err := b.Loudness(ctx, mix.SoloAll)
		if err != nil {
			return nil, err
		}
		plain := song.Unducked()
		without, err := h.Renderer.Loudness(ctx, &plain, mix.SoloAll, b.Loop)
		if err != nil {
			return nil, err
		}
		by := left(without.Peak-with.Peak, song)
		if !(by >= 0.1) {
			return nil, shell.BadInput("points", errors.New("the ducks free nothing here: another part makes the peak"))
		}
		rise := session.Rise{DB: by}
		for _, part := range c.PostFormArray("part") {
			rise.Parts = append(rise.Parts, session.ParseAt(part))
		}
		if c.PostForm("chosen") != "" && len(rise.Parts) == 0 {
			return nil, shell.BadInput("points", errors.New("tick the parts that are to be raised"))
		}
		return rise, nil
	})
}

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	return h.drawn(c.Request.Context(), v)
}

// drawn measures and draws what the stage shows.
// Long because the page is filled in the order in which it is read.
func (h *handlers) drawn(ctx context.Context, v *shell.View) (*sheet, error) {
	out := &sheet{View: v}
	if err := v.NeedPair(ctx); err != nil {
		return nil, err
	}
	if v.State == nil {
		v.Lead = v.Trouble
		return out, nil
	}
	plain := v.Unducked()
	var err error
	if out.Hidden[0], out.Hidden[1], err = pair.HiddenOn(ctx, v.Bench); err != nil {
		return nil, err
	}
	if out.Unduck, err = h.Renderer.Loudness(ctx, &plain, mix.SoloAll, v.Win); err != nil {
		return nil, err
	}
	if err := out.frees(ctx, h); err != nil {
		return nil, err
	}
	if d, off := v.Song.Duck(); d != nil {
		out.Off, out.Duck = off, d
		if at, err := d.AtTempo(v.BPM); err == nil {
			out.Duck = at
		}
	}
	out.Named = triggerName(v)
	out.School = move.CurveSchool
	if out.Duck != nil {
		out.School = out.Duck.School
	}
	v.Lead = fmt.Sprintf(
		"%s at every hit of %s: as little as puts the kick %g dB over the bass in its own octave, on 9 of 10 hits.",
		map[string]string{move.CurveSchool: "One curve", move.CompressorSchool: "A compressor that listens", move.BandSchool: "A dip of one band"}[out.School],
		out.Named,
		v.Targets.Clearance,
	)
	if share, ok := pair.Asked(&v.Song.Song); ok {
		v.Lead = fmt.Sprintf("%sAsked: at most %s %%, at every hit of %s; Fit finds the least duck that does it.",
			out.Hidden[1].Says(v.KickName(), v.BassName()), figure.Short(share), out.Named)
	}
	if v.BassLeads() {
		v.Lead = fmt.Sprintf(
			"The bass leads, so the kick makes room behind its attack: as little as puts the bass %g dB over it from 60 ms after the hit, on 9 of 10 hits.",
			v.Targets.Clearance,
		)
	}
	if out.Duck != nil {
		v.Lead = out.Hidden[1].Says(v.KickName(), v.BassName()) + duck.Says(&v.Song.Song, v.State, v.State.WorstTenth(v.Leader), v.Bars())
		if v.Fitted() {
			out.Why = v.DuckWhy()
		}
	}
	if out.Duck != nil && !out.Duck.Keyed() {
		hits, err := h.Renderer.Hits(&v.Song.Song, v.DuckTrigger())
		if err != nil {
			return nil, err
		}
		for i := 1; i < len(hits); i++ {
			if gap := 1000 * float64(hits[i]-hits[i-1]) / float64(v.Rate); out.Closest == 0 || gap < out.Closest {
				out.Closest = gap
			}
		}
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
	if c := out.Duck; c != nil && out.Closest > 0 && c.For(out.Closest) != c {
		e.Closest = c.For(out.Closest)
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
	if len(strip.Hits) > hits.Drawn {
		strip.Hits = hits.WorstInOrder(strip.Hits, hits.Drawn)
		if strip.Was != nil {
			strip.Was = hits.WorstOf(strip.Was, strip.Hits)
		}
	}
	const aRow = 28 // more would be too narrow for their numbers
	if strip.Rows = max(1, (len(strip.Hits)+aRow-1)/aRow); strip.Rows > 1 {
		strip.Height = 74
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
