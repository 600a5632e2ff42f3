package device

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

const (
	HeardBy   = 3.0  // dB over the rest in one ERB, from which a note is heard
	heardOf   = 0.9  // of the notes: so many are asked to be
	heardFrom = 0.02 // s after a note's start
	heardFor  = 0.5  // s of a note that are listened to
	settled   = 0.25 // s that are rendered ahead, so that filters have settled
	harmonics = 9
)

// NoteHeard is a note behind a stand-in.
type NoteHeard struct {
	meter.BassNote
	Margin  meter.Figure       // dB over the rest, in the ERB in which it stands highest; None where all of it is too soft
	Level   [harmonics]float64 // of each harmonic under the fundamental as it leaves the mix, dB
	Audible [harmonics]bool    // behind the stand-in
}

// Heard reports whether the note is heard.
func (n NoteHeard) Heard() bool { return n.Margin.Valid() && float64(n.Margin) >= HeardBy }

// OnSpeaker is the notes of a bass behind a stand-in.
type OnSpeaker struct {
	Device
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

// HearNotes listens to the notes of the bass behind a stand-in over a window, beside the rest of the mix. A note is heard where, in the
// median of its frames, it stands 3 dB over the rest in some ERB in which it is over the threshold of hearing; playback is the level,
// dB SPL, of -20 dBFS RMS.
func HearNotes(ctx context.Context, r *mix.Renderer, song *session.Song, line []meter.BassNote, w mix.Window, s Device, playback float64) (*OnSpeaker, error) {
	out := &OnSpeaker{Device: s}
	if len(line) == 0 {
		return out, nil
	}
	in := mix.Window{From: w.From - int(settled*float64(song.Rate)), To: w.To}
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
		out.listen(behind{plain, ears[0], ears[1], in.From}, line, w, playback)
		return out, 200 * len(out.Notes), nil
	})
}

// behind is what a stand-in plays: the bass before it, the bass and the rest behind it, from a frame of the song on.
type behind struct {
	plain, bass, rest audio.Buffer
	from              int
}

func (o *OnSpeaker) listen(s behind, line []meter.BassNote, w mix.Window, playback float64) {
	plain, bass, rest, from := s.plain, s.bass, s.rest, s.from
	e, quiet := o.Quiet(plain.Rate, playback)
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
		for at := int((n.Start+heardFrom)*rate) - from; ; at += e.Frame / 2 {
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
				if c >= 0 && dsp.PowerDB(b[c]/math.Max(x[c], quiet[c])) >= HeardBy {
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

// Sentence says how many notes are heard, and names those that are not.
func (o *OnSpeaker) Sentence() string {
	if len(o.Notes) == 0 {
		return "There are no notes to listen to here."
	}
	un := o.Unheard()
	if len(un) == 0 {
		return fmt.Sprintf("On %s all %d notes are heard.", o.Name, len(o.Notes))
	}
	return fmt.Sprintf("On %s %d of %d notes are not heard: %s.", o.Name, len(un), len(o.Notes), NoteNames(un))
}

func NoteNames(all []NoteHeard) string {
	var names []string
	for _, n := range all {
		if !slices.Contains(names, n.Note) {
			names = append(names, n.Note)
		}
	}
	return strings.Join(names, ", ")
}
