package duck

import (
	"context"
	"errors"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Cleared is the result of the command `clear`: two aligned stems judged, ducked, judged.
type Cleared struct {
	Kick   KickFacts        `json:"kick"`
	Leader session.Leader   `json:"leader"`
	Before meter.HitFigures `json:"before"`
	Duck   Report           `json:"duck"`
	After  meter.HitFigures `json:"after"`
	Notes  []string         `json:"notes"`

	// How the bass leads, before and after; where it does.
	LeadBefore *meter.BassLead `json:"lead_before,omitempty"`
	LeadAfter  *meter.BassLead `json:"lead_after,omitempty"`

	Move   *move.Duck   `json:"-"`
	Ducked audio.Buffer `json:"-"` // the part that makes room, in its own number of channels
	Gain   []float32    `json:"-"` // at the kick's rate, as amplitude; nil where there is no duck
	Hits   []int        `json:"-"` // frames of the kick's hits
}

// KickFacts names the kick's settled pitch.
type KickFacts struct {
	Fundamental meter.Figure `json:"fundamental_hz"`
	Note        string       `json:"note"`
}

// Report is what the duck is and does.
type Report struct {
	Needed      bool         `json:"needed"`
	Reached     bool         `json:"reached"`
	School      string       `json:"school"`
	Params      any          `json:"params"` // points of a curve; detector, key and band of a keyed duck
	Depth       meter.Figure `json:"depth_db"`
	BassLoss    meter.Figure `json:"bass_loss_lu"`
	BassLossLow meter.Figure `json:"bass_loss_low_db"`
	Freed       meter.Figure `json:"freed_headroom_db"`
	BackBefore  bool         `json:"back_before_next_hit"`
	Steepest    meter.Figure `json:"steepest_db_per_ms"`
	Reason      string       `json:"reason"`

	// Where the bass leads it loses nothing; the kick does.
	KickLoss    meter.Figure `json:"kick_loss_lu,omitempty"`
	KickLossLow meter.Figure `json:"kick_loss_low_db,omitempty"`
}

// Options of Clear.
type Options struct {
	BPM     float64        // 0: not known
	School  string         // of move.Schools; empty: a drawn curve
	Leader  session.Leader // empty: the kick
	Targets session.Targets
}

// ErrLeadSchool is returned where a keyed school is asked for and the bass leads.
var ErrLeadSchool = errors.New("where the bass leads, the kick makes room by a drawn curve: a keyed duck cannot tell its attack from its tail")

// Clear fits a duck to two aligned stems. Where their rates differ the bass is resampled to
// the kick's; where the bass is shorter, the rest of it is silence.
// Long because it is the whole of a command: each step feeds the next, and all fill one result.
func Clear(ctx context.Context, kick, bass audio.Source, o Options) (*Cleared, error) {
	c := &Cleared{Notes: []string{}}
	kf, bf := kick.Format(), bass.Format()
	if d := kf.Duration() - bf.Duration(); d > 0.001 {
		c.Notes = append(c.Notes, fmt.Sprintf("the bass ends %.2f s before the kick; what is missing is taken as silence", d))
	}
	lib := &mix.Memory{}
	k, err := lib.Bring("kick", kick, 0)
	if err != nil {
		return nil, err
	}
	b, err := lib.Bring("bass", bass, kf.Rate)
	if err != nil {
		return nil, err
	}
	if kf.Rate != bf.Rate {
		c.Notes = append(c.Notes, fmt.Sprintf("the bass was resampled from %d to %d Hz", bf.Rate, kf.Rate))
	}
	bpm := o.BPM
	if bpm == 0 {
		bpm = 120 // nothing that is worked out below depends on it
	}
	song := session.New("clear", bpm)
	song.Rate, song.Targets = kf.Rate, o.Targets
	if o.Leader != "" {
		song.Leader = o.Leader
	}
	c.Leader = song.Leader
	if song.Leader == session.BassLeads && o.School != "" && o.School != move.CurveSchool {
		return nil, ErrLeadSchool
	}
	song.Stems = []session.Stem{
		{ID: "kick", Name: "kick", Role: session.Kick, Audio: "kick"},
		{ID: "bass", Name: "bass", Role: session.Bass, Audio: "bass"},
	}
	song.Settle()
	r := mix.New(lib, 1<<31)
	w := mix.Window{From: 0, To: max(k.Frames(), b.Frames())}
	school := o.School
	if school == "" {
		school = move.CurveSchool
	}
	var fit Fitted
	var line []meter.BassNote
	if song.Leader == session.BassLeads {
		low, fs := meter.Low(b.Mono(), b.Rate)
		line = meter.BassLine(low, fs)
		fit, err = FitSongLead(ctx, r, &song, w, line)
	} else {
		fit, err = FitSchool(ctx, r, &song, w, school)
	}
	if err != nil {
		return nil, err
	}
	if fit.Duck != nil {
		fit.Duck.Trigger = session.KickTrigger
		song.SetDuck(fit.Duck, false, fit.Reason)
	}
	state, err := pair.Measure(ctx, r, &song, w)
	if err != nil {
		return nil, err
	}
	c.Before, c.After, c.Move = state.Before, state.After, fit.Duck
	c.Kick.Fundamental = meter.Figure(state.Pair.Meter.HomeHz)
	if p, err := r.KickPitch(&song); err == nil && p.Settled {
		c.Kick.Note = p.Note
	}
	c.Duck = Report{
		Needed: fit.Needed, Reached: fit.Reached || !fit.Needed, School: school, Params: []move.Point{}, Depth: 0,
		BassLoss: 0, BassLossLow: 0, Freed: 0, BackBefore: true, Reason: fit.Reason,
	}
	if ro := state.Readout; ro != nil {
		c.Duck.Params, c.Duck.Depth = fit.Duck.Points, ro.Depth
		if fit.Duck.Keyed() {
			c.Duck.Params = struct {
				*move.Compressor
				Key  *move.KeyFilter `json:"key"`
				Band *move.Band      `json:"band"`
			}{fit.Duck.Comp, fit.Duck.Key, fit.Duck.Band}
		}
		c.Duck.BassLoss, c.Duck.BassLossLow, c.Duck.Freed = ro.BassLoss, ro.BassLossLow, ro.Freed
		if song.Leader == session.BassLeads {
			c.Duck.KickLoss, c.Duck.KickLossLow, c.Duck.BassLoss, c.Duck.BassLossLow = ro.BassLoss, ro.BassLossLow, 0, 0
		}
		c.Duck.BackBefore, c.Duck.Steepest = ro.Back == ro.Of, ro.Steepest
	}
	if song.Leader == session.BassLeads {
		before, err := pair.Lead(ctx, r, state.Without, state.Before, line)
		if err != nil {
			return nil, err
		}
		after, err := pair.Lead(ctx, r, state.Pair, state.After, line)
		if err != nil {
			return nil, err
		}
		c.LeadBefore, c.LeadAfter = &before, &after
	}
	part, frames := "bass", b.Frames()
	if song.Ducked() == session.Kick {
		part, frames = "kick", k.Frames()
	}
	ducked, _, err := r.Stem(ctx, &song, song.Stem(part), mix.Window{From: 0, To: frames})
	if err != nil {
		return nil, err
	}
	c.Ducked, c.Gain, c.Hits = ducked, state.Gain, append([]int(nil), state.Pair.Meter.Hits...)
	for i := range c.Hits {
		c.Hits[i] += state.Pair.Meter.Offset
	}
	return c, nil
}

// MedianCurve is the median of a measured gain over the hits, ms by ms: the curve of a keyed duck.
func MedianCurve(gain []float32, hits []int, rate int) []CurveRow {
	var rows []CurveRow
	for ms := -curveBefore; ms <= curveAfter; ms += CurveStep {
		var v []meter.Figure
		for i, h := range hits {
			k := h + int(math.Floor(ms*float64(rate)/1000))
			if i+1 < len(hits) && k >= hits[i+1] || k < 0 || k >= len(gain) {
				continue
			}
			v = append(v, meter.Figure(dsp.DB(math.Max(1e-3, float64(gain[k])))))
		}
		if m := meter.Median(v); m.Valid() {
			rows = append(rows, CurveRow{MS: ms, DB: float64(m)})
		}
	}
	return rows
}

// The times around a hit that a median curve covers, ms.
const (
	curveBefore = 20.0
	curveAfter  = 300.0
)

// ControlStep is the spacing of a gain written as a MIDI controller, s.
const ControlStep = 0.002

// Control samples a gain for a MIDI controller.
func Control(gain []float32, rate int) []midi.Value {
	values, _ := ControlOf(meter.Held(gain), rate) // what is in memory is read without an error
	return values
}

// ControlOf is Control of a gain of any length; the error is that of reading it.
func ControlOf(gain meter.Sound, rate int) (values []midi.Value, err error) {
	t, at := 0.0, 0
	err = gain.Read(func(x []float32) error {
		for ; int(t*float64(rate))-at < len(x); t += ControlStep {
			values = append(values, midi.Value{At: t, Part: float64(min(1, x[int(t*float64(rate))-at]))})
		}
		at += len(x)
		return nil
	})
	return values, err
}

// CurveStep is the spacing of an exported curve in ms.
const CurveStep = 1.0

// CurveRow is one row of an exported curve.
type CurveRow struct{ MS, DB float64 }

// Curve samples a duck from its first to its last point, each point included exactly.
func Curve(d *move.Duck, bpm float64) ([]CurveRow, error) {
	at, err := d.AtTempo(bpm)
	if err != nil {
		return nil, err
	}
	var rows []CurveRow
	for i, p := range at.Points {
		rows = append(rows, CurveRow{p.MS, p.DB})
		if i+1 == len(at.Points) {
			break
		}
		for ms := math.Floor(p.MS/CurveStep)*CurveStep + CurveStep; ms < at.Points[i+1].MS-1e-9; ms += CurveStep {
			if ms > p.MS+1e-9 {
				rows = append(rows, CurveRow{ms, at.GainDB(ms)})
			}
		}
	}
	return rows, nil
}
