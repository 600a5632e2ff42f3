package body

import (
	"context"
	"fmt"
	"math"

	"mellowthump/core/device"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/search"
	"mellowthump/core/session"
)

const (
	driveOver  = 120.0 // Hz
	driveMost  = 18.0  // dB
	driveStep  = 0.5
	twelfthTop = -12.0 // dB of the third harmonic under the fundamental, from which it may muddy
)

// Driven is the least drive that makes nine of ten notes heard.
type Driven struct {
	Move    *move.Drive
	After   *device.OnSpeaker
	Reached bool
	Twelfth float64 // dB of the third harmonic under the fundamental, median
}

// drivenBy is the song with a drive on every bass.
func drivenBy(song *session.Song, m move.Params) *session.Song {
	c := song.Clone()
	for _, st := range c.ByRole(session.Bass) {
		st.SetMove(move.Move{ID: session.BodyDrive, Params: m})
	}
	return &c
}

// LeastDrive finds it, in steps of half a decibel up to 18, at levels of -12, -6 and 0 dB; the loudness of the bass stays. Where none
// does, it is the one by which most notes are heard.
func LeastDrive(
	ctx context.Context,
	r *mix.Renderer,
	song *session.Song,
	line []meter.BassNote,
	w mix.Window,
	s device.Device,
	playback float64,
) (*Driven, error) {
	var best *Driven
	for _, level := range []float64{-12, -6, 0} {
		try := func(steps int) (*Driven, error) {
			d := &Driven{Move: &move.Drive{Adds: move.DriveBoth, Drive: driveStep * float64(steps), Over: driveOver, Level: level}}
			var err error
			d.After, err = device.HearNotes(ctx, r, drivenBy(song, d.Move), line, w, s, playback)
			if err != nil {
				return nil, err
			}
			d.Reached = d.After.Enough()
			return d, nil
		}
		lo, hi := 0, int(driveMost/driveStep)
		d, err := try(hi)
		if err != nil {
			return nil, err
		}
		if best == nil || len(d.After.Unheard()) < len(best.After.Unheard()) {
			best = d
		}
		if !d.Reached {
			continue
		}
		best = d
		if _, err := search.Least(lo, hi, func(steps int) (bool, error) {
			d, err := try(steps)
			if err != nil || !d.Reached {
				return false, err
			}
			best = d
			return true, nil
		}); err != nil {
			return nil, err
		}
		break
	}
	if err := best.match(ctx, r, song, w); err != nil {
		return nil, err
	}
	var err error
	if best.After, err = device.HearNotes(ctx, r, drivenBy(song, best.Move), line, w, s, playback); err != nil {
		return nil, err
	}
	best.Reached = best.After.Enough()
	var thirds []meter.Figure
	for _, n := range best.After.Notes {
		thirds = append(thirds, meter.Figure(n.Level[2]))
	}
	best.Twelfth = float64(meter.Median(thirds))
	return best, nil
}

// match turns the drive so that the bass is as loud as it was, ITU-R BS.1770.
func (d *Driven) match(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) error {
	was, err := r.Loudness(ctx, song, mix.SoloBass, w)
	if err != nil {
		return err
	}
	now, err := r.Loudness(ctx, drivenBy(song, d.Move), mix.SoloBass, w)
	if err != nil || !was.Integrated.Valid() || !now.Integrated.Valid() {
		return err
	}
	d.Move.Gain = figure.Tenth(math.Max(-24, math.Min(24, float64(was.Integrated-now.Integrated))))
	return nil
}

// DriveEdit puts the drive on every bass.
func DriveEdit(song *session.Song, m *move.Drive) session.Edit {
	out := session.Together{Said: "Add harmonics to the bass: " + move.Words(m)}
	for _, st := range song.ByRole(session.Bass) {
		out.Edits = append(
			out.Edits,
			session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyDrive, Params: m, Why: "so that its notes are heard on small speakers"}},
		)
	}
	return out
}

// Says says what a drive does.
func (d *Driven) Says() string {
	heard := len(d.After.Notes) - len(d.After.Unheard())
	out := fmt.Sprintf(
		"%s dB of drive over %s Hz, added at %s dB, make %d of %d heard by %s dB; the loudness stays.",
		figure.Short(d.Move.Drive),
		figure.Short(d.Move.Over),
		figure.Short(d.Move.Level),
		heard,
		len(d.After.Notes),
		figure.Short(device.HeardBy),
	)
	if d.Twelfth > twelfthTop {
		out += fmt.Sprintf(" The twelfth rises to %s dB under the note: it may muddy.", figure.Short(-d.Twelfth))
	}
	return out
}

// UnheardNotes tells of a bass whose notes are not heard on a stand-in.
func UnheardNotes(song *session.Song, o *device.OnSpeaker, d *Driven) (f find.Finding, ok bool) {
	if o == nil || len(o.Notes) == 0 || o.Enough() || d == nil || len(d.After.Unheard()) >= len(o.Unheard()) {
		return f, false
	}
	for _, st := range song.ByRole(session.Bass) {
		if st.Move(session.BodyDrive) != nil {
			return f, false
		}
	}
	return find.Finding{
		ID: find.ID("unheard", o.ID), What: fmt.Sprintf("%d of %d notes unheard on %s", len(o.Unheard()), len(o.Notes), o.Name), Hear: "all",
		Why: device.NoteNames(o.Unheard()) + ". " + d.Says(), Fix: []session.Edit{DriveEdit(song, d.Move)}, Apply: "Add harmonics", Do: "Add harmonics to the bass",
		Values: "Bass: " + move.Words(d.Move), Own: []find.Measure{{Figure: "noteheard", In: find.AtLeast(90)}}, Taste: "it may be meant to be felt more than heard",
	}, true
}
