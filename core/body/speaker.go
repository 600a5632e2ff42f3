package body

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	heardBy    = 3.0 // dB over the rest in one ERB, from which a note is heard
	heardOf    = 0.9 // of the notes: so many are asked to be
	heardFor   = 0.5 // s of a note that are listened to
	harmonics  = 9
	driveOver  = 120.0 // Hz
	driveMost  = 18.0  // dB
	driveStep  = 0.5
	twelfthTop = -12.0 // dB of the third harmonic under the fundamental, from which it may muddy
)

// NoteHeard is a note behind a stand-in.
type NoteHeard struct {
	meter.BassNote
	Margin  meter.Figure       // dB over the rest, in the ERB in which it stands highest; None where all of it is too soft
	Level   [harmonics]float64 // of each harmonic under the fundamental as it leaves the mix, dB
	Audible [harmonics]bool    // behind the stand-in
}

// Heard reports whether the note is heard.
func (n NoteHeard) Heard() bool { return n.Margin.Valid() && float64(n.Margin) >= heardBy }

// OnSpeaker is the notes of a bass behind a stand-in.
type OnSpeaker struct {
	device.Device
	Notes []NoteHeard
}

// Unheard are the notes that are not heard.
func (o *OnSpeaker) Unheard() []NoteHeard {
	return slices.DeleteFunc(slices.Clone(o.Notes), NoteHeard.Heard)
}

// Enough reports whether nine of ten notes are heard.
func (o *OnSpeaker) Enough() bool {
	return float64(len(o.Notes)-len(o.Unheard())) >= heardOf*float64(len(o.Notes))
}

// Listen listens to the notes of the bass behind a stand-in over a window, beside the rest of the mix. A note is heard where, in the
// median of its frames, it stands 3 dB over the rest in some ERB in which it is over the threshold of hearing; playback is the level,
// dB SPL, of -20 dBFS RMS.
func Listen(ctx context.Context, r *mix.Renderer, song *session.Song, line []meter.BassNote, w mix.Window, s device.Device, playback float64) (*OnSpeaker, error) {
	out := &OnSpeaker{Device: s}
	if len(line) == 0 {
		return out, nil
	}
	in := mix.Window{From: w.From - int(settle*float64(song.Rate)), To: w.To}
	only := func(bass bool) *session.Song {
		c := song.Clone()
		for i := range c.Stems {
			c.Stems[i].Mute = c.Stems[i].Mute || (c.Stems[i].Role == session.Bass) != bass
		}
		return &c
	}
	key, err := r.Identity(song, mix.SoloAll, in)
	if err != nil {
		return nil, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("on speaker", key, s, playback, line), func() (*OnSpeaker, int, error) {
		var ears [2]audio.Buffer // the bass, the rest
		var plain audio.Buffer
		for k, bass := range []bool{true, false} {
			x, _, err := r.Solo(mix.Passing(ctx), only(bass), mix.SoloAll, in)
			if err != nil {
				return nil, 0, err
			}
			if bass {
				plain = x
			}
			if ears[k], err = s.Mono(x); err != nil {
				return nil, 0, err
			}
		}
		e, quiet := s.Quiet(song.Rate, playback)
		out.listen(plain, ears[0], ears[1], line, w, in.From, e, quiet)
		return out, 200 * len(out.Notes), nil
	})
}

func (o *OnSpeaker) listen(plain, bass, rest audio.Buffer, line []meter.BassNote, w mix.Window, from int, e *meter.Ear, quiet []float64) {
	rate := float64(plain.Rate)
	power := make([]float64, e.Frame/2+1)
	excite := func(x audio.Buffer, at int) []float64 {
		v := make([]float64, len(e.Hz))
		e.Power(power, x, at)
		e.Excite(v, power, 0, len(v))
		return v
	}
	for _, n := range line {
		if at := int(n.Start * rate); at < w.From || at >= w.To {
			continue
		}
		h := NoteHeard{BassNote: n, Margin: meter.None}
		var margins []meter.Figure
		var audible [harmonics]int
		frames := 0
		end := math.Min(n.Start+heardFor, n.End)
		for at := int((n.Start+noteFrom)*rate) - from; ; at += e.Frame / 2 {
			if frames > 0 && float64(at+from+e.Frame) > end*rate || at+e.Frame > bass.Frames() {
				break
			}
			b, x := excite(bass, at), excite(rest, at)
			best := meter.Figure(-100)
			for k, v := range b {
				if v > quiet[k] {
					best = max(best, meter.Figure(dsp.PowerDB(v/math.Max(x[k], quiet[k]))))
				}
			}
			margins = append(margins, best)
			for k := range harmonics {
				c := e.Below(n.Hz*float64(k+1)) - 1
				if c >= 0 && dsp.PowerDB(b[c]/math.Max(x[c], quiet[c])) >= heardBy {
					audible[k]++
				}
			}
			if frames == 0 {
				e.Power(power, plain, at)
				h.levels(power, rate, e.Frame)
			}
			frames++
		}
		if m := meter.Median(margins); m.Valid() && m > -100 {
			h.Margin = m
		}
		for k, a := range audible {
			h.Audible[k] = 2*a > frames
		}
		o.Notes = append(o.Notes, h)
	}
}

// levels are those of the harmonics, from the power of a frame.
func (h *NoteHeard) levels(power []float64, rate float64, frame int) {
	at := func(k int) float64 {
		bin := h.Hz * float64(k) * float64(frame) / rate
		sum := 1e-20
		for i := max(0, int(bin)-1); i <= min(len(power)-1, int(bin)+2); i++ {
			sum += power[i]
		}
		return sum
	}
	for k := range harmonics {
		h.Level[k] = math.Max(-90, dsp.PowerDB(at(k+1)/at(1)))
	}
}

// Driven is the least drive that makes nine of ten notes heard.
type Driven struct {
	Move    *move.Drive
	After   *OnSpeaker
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
func LeastDrive(ctx context.Context, r *mix.Renderer, song *session.Song, line []meter.BassNote, w mix.Window, s device.Device, playback float64) (*Driven, error) {
	var best *Driven
	for _, level := range []float64{-12, -6, 0} {
		try := func(steps int) (*Driven, error) {
			d := &Driven{Move: &move.Drive{Adds: move.DriveBoth, Drive: driveStep * float64(steps), Over: driveOver, Level: level}}
			var err error
			d.After, err = Listen(ctx, r, drivenBy(song, d.Move), line, w, s, playback)
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
		for best = d; hi-lo > 1; {
			mid := (lo + hi) / 2
			if d, err = try(mid); err != nil {
				return nil, err
			}
			if d.Reached {
				hi, best = mid, d
			} else {
				lo = mid
			}
		}
		break
	}
	if err := best.match(ctx, r, song, w); err != nil {
		return nil, err
	}
	var err error
	if best.After, err = Listen(ctx, r, drivenBy(song, best.Move), line, w, s, playback); err != nil {
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
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.BodyDrive, Params: m, Why: "so that its notes are heard on small speakers"}})
	}
	return out
}

// Sentence says how many notes are heard, and names those that are not.
func (o *OnSpeaker) Sentence() string {
	if len(o.Notes) == 0 {
		return "There are no notes to listen to here."
	}
	un := o.Unheard()
	if len(un) == 0 {
		return fmt.Sprintf("On %s all %d notes are heard.", o.Name, len(o.Notes))
	}
	return fmt.Sprintf("On %s %d of %d notes are not heard: %s.", o.Name, len(un), len(o.Notes), noteNames(un))
}

func noteNames(all []NoteHeard) string {
	var names []string
	for _, n := range all {
		if !slices.Contains(names, n.Note) {
			names = append(names, n.Note)
		}
	}
	return strings.Join(names, ", ")
}

// Says says what a drive does.
func (d *Driven) Says() string {
	heard := len(d.After.Notes) - len(d.After.Unheard())
	out := fmt.Sprintf("%s dB of drive over %s Hz, added at %s dB, make %d of %d heard by %s dB; the loudness stays.", figure.Short(d.Move.Drive), figure.Short(d.Move.Over), figure.Short(d.Move.Level), heard, len(d.After.Notes), figure.Short(heardBy))
	if d.Twelfth > twelfthTop {
		out += fmt.Sprintf(" The twelfth rises to %s dB under the note: it may muddy.", figure.Short(-d.Twelfth))
	}
	return out
}

// UnheardNotes tells of a bass whose notes are not heard on a stand-in.
func UnheardNotes(song *session.Song, o *OnSpeaker, d *Driven) (f find.Finding, ok bool) {
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
		Why: noteNames(o.Unheard()) + ". " + d.Says(), Fix: []session.Edit{DriveEdit(song, d.Move)}, Apply: "Add harmonics", Do: "Add harmonics to the bass",
		Values: "Bass: " + move.Words(d.Move), Own: []find.Measure{{Figure: "noteheard", In: find.AtLeast(90)}}, Taste: "it may be meant to be felt more than heard",
	}, true
}
