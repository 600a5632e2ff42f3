package room

import (
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Ringing is looked for between these, in frames this long (own choice).
const (
	ringFrame  = 1 << 13
	ringHop    = ringFrame / 4
	ringLo     = 100.0 // Hz
	ringHi     = 4000.0
	ringOver   = 6.0  // dB over the median of its octave's partials
	ringLonger = 1.8  // times as long as they are there
	ringThere  = 15.0 // dB under its loudest frame: a partial is there
	ringFloor  = 50.0 // dB under the loudest partial: others do not count
	ringPeer   = 20.0 // dB under it, at the most: others of its octave that it is held against
	ringPeers  = 3    // of these, at the least
	ringLeast  = 0.4  // of the time
	ringQ      = 12.0
	ringMost   = 2 // of a stem that are told
)

// Ringing is a partial of a stem that stands out and outlasts its neighbours.
type Ringing struct {
	Stem string
	Hz   float64
	Over float64    // dB over the median of the partials in its octave
	Bell *move.Ring // that dips it while it rings
	Time float64    // share of the time in which that works
	// After is by how much the tone of a struck part lies under its hits a quarter of a second after them, dB; 0: it is none.
	After float64
}

// partial is a peak of the mean spectrum.
type partial struct {
	bin   int
	hz    float64
	db    float64
	there float64 // share of the frames in which it is there
}

// spectra are the powers of a sound's frames, mean of the channels.
func spectra(ctx context.Context, x audio.Buffer, from int) ([][]float64, error) {
	fft, window := dsp.NewFFT(ringFrame), dsp.Hann(ringFrame)
	scale := 0.0
	for _, w := range window {
		scale += w
	}
	y := make([]float64, ringFrame)
	var c []complex128
	var out [][]float64
	for at := from; at+ringFrame <= x.Frames(); at += ringHop {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		p := make([]float64, ringFrame/2+1)
		for _, ch := range x.Ch {
			for i := range y {
				y[i] = float64(ch[at+i]) * window[i]
			}
			c = fft.Coefficients(c, y)
			for k, v := range c { // the square of a tone's amplitude
				p[k] += (real(v)*real(v) + imag(v)*imag(v)) * 4 / (scale * scale) / float64(len(x.Ch))
			}
		}
		out = append(out, p)
	}
	return out, nil
}

// partials are the peaks of the mean spectrum between 100 Hz and 4 kHz.
func partials(frames [][]float64, rate int) []partial {
	if len(frames) < 4 {
		return nil
	}
	mean, bin := make([]float64, ringFrame/2+1), float64(rate)/ringFrame
	for _, f := range frames {
		for k, v := range f {
			mean[k] += v / float64(len(frames))
		}
	}
	var out []partial
	top := math.Inf(-1)
	for k := max(2, int(ringLo/bin)); k < len(mean)-2 && float64(k)*bin < ringHi; k++ {
		if mean[k] <= mean[k-1] || mean[k] < mean[k+1] || mean[k] <= mean[k-2] || mean[k] < mean[k+2] || mean[k] == 0 {
			continue
		}
		p := partial{bin: k, hz: float64(k) * bin, db: dsp.PowerDB(mean[k])}
		loudest := 0.0
		for _, f := range frames {
			loudest = math.Max(loudest, f[k])
		}
		for _, f := range frames {
			if f[k] > loudest*math.Pow(10, -ringThere/10) {
				p.there += 1 / float64(len(frames))
			}
		}
		top = math.Max(top, p.db)
		out = append(out, p)
	}
	return slices.DeleteFunc(out, func(p partial) bool { return p.db < top-ringFloor })
}

// rings picks the partials that stand 6 dB over the median of the others in their octave and are there much longer.
func rings(all []partial) (out []partial, over []float64) {
	for i, p := range all {
		var level, there []meter.Figure
		for j, o := range all {
			if j != i && o.hz > p.hz/math.Sqrt2 && o.hz < p.hz*math.Sqrt2 && o.db > p.db-ringPeer {
				level, there = append(level, meter.Figure(o.db)), append(there, meter.Figure(o.there))
			}
		}
		if len(level) < ringPeers {
			continue
		}
		if by := p.db - float64(meter.Median(level)); by >= ringOver && p.there >= ringLeast && p.there >= ringLonger*float64(meter.Median(there)) {
			out, over = append(out, p), append(over, by)
		}
	}
	return out, over
}

// Rings looks for it in every stem that is neither kick nor bass, over a window, in the song without Room's ringing bells.
func Rings(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Ringing, error) {
	plain := song.Unrung()
	return ringsOf(ctx, r, &plain, w, rests(&plain))
}

// RingLeft is by how much a partial of a stem stands over the others of its octave, dB, in a song as it is; 0 where it no longer rings.
func RingLeft(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, stem string, hz float64) (meter.Figure, error) {
	st := song.Stem(stem)
	if st == nil {
		return meter.None, nil
	}
	all, err := ringsOf(ctx, r, song, w, []*session.Stem{st})
	for _, g := range all {
		if g.Stem == stem && math.Abs(12*math.Log2(g.Hz/hz)) < 0.5 {
			return meter.Figure(g.Over), err
		}
	}
	return 0, err
}

func ringsOf(ctx context.Context, r *mix.Renderer, plain *session.Song, w mix.Window, stems []*session.Stem) ([]Ringing, error) {
	in, lead := wide(plain, w)
	each := make([][]Ringing, len(stems))
	mix.Doing(ctx, "Looking for what rings")
	err := abreast(ctx, len(stems), func(ctx context.Context, i int) error {
		key, hear, err := chained(r, plain, stems[i].ID, in)
		if err != nil {
			return err
		}
		each[i], err = mix.Cached(ctx, r.Cache, mix.Key("rings", key, lead), func() ([]Ringing, int, error) {
			x, err := hear(ctx)
			if err != nil {
				return nil, 0, err
			}
			frames, err := spectra(ctx, x, lead)
			if err != nil {
				return nil, 0, err
			}
			var found []Ringing
			if role := stems[i].Role; role == session.Snare || role == session.Perc {
				found = struckRings(frames, plain.Rate)
			} else {
				at, over := rings(partials(frames, plain.Rate))
				for i, p := range at {
					found = append(found, ringingOf(p, over[i], frames))
				}
			}
			slices.SortStableFunc(found, func(a, b Ringing) int { return int(math.Copysign(1, b.Over-a.Over)) })
			return found[:min(len(found), ringMost)], 1024, nil
		})
		return err
	})
	var out []Ringing
	for i, found := range each {
		for _, f := range found {
			f.Stem = stems[i].ID
			out = append(out, f)
		}
	}
	return out, err
}

// ringingOf sets a bell that brings the partial down by what it stands over the others, at most 6 dB, while it is there.
func ringingOf(p partial, over float64, frames [][]float64) Ringing {
	out := Ringing{Hz: p.hz, Over: over}
	loudest := 0.0
	for _, f := range frames {
		loudest = math.Max(loudest, f[p.bin])
	}
	threshold := dsp.PowerDB(loudest) - ringThere
	out.Bell = &move.Ring{
		Hz:        math.Round(p.hz*10) / 10,
		Q:         ringQ,
		Range:     math.Round(10*math.Min(over, move.BigCut)) / 10,
		Threshold: math.Round(math.Max(-80, math.Min(0, threshold))),
		Ratio:     4,
		Attack:    10,
		Release:   150,
		Channels:  "stereo",
	}
	for _, f := range frames {
		if dsp.PowerDB(math.Max(1e-20, f[p.bin])) > out.Bell.Threshold {
			out.Time += 1 / float64(len(frames))
		}
	}
	return out
}

// id is that of a bell against ringing.
func (g Ringing) id() string { return fmt.Sprintf("%s%.0f", session.RoomRing, g.Hz) }

// Finding tells of it; ok is false where it is dealt with.
func (g Ringing) Finding(song *session.Song) (f find.Finding, ok bool) {
	st := song.Stem(g.Stem)
	if st == nil || st.Move(g.id()) != nil {
		return f, false
	}
	note, _ := meter.Note(g.Hz)
	f = find.Finding{
		ID: find.ID("rings", st.ID, fmt.Sprintf("%.0f", g.Hz)), What: fmt.Sprintf("%s rings in %s", note, st.Name), Hear: "all",
		Why: fmt.Sprintf(
			"%.1f Hz stands %s dB over the partials of its octave and outlasts them. A bell of at most %s dB that dips only while it rings works %.0f %% of the time.",
			g.Hz,
			figure.Short(g.Over),
			figure.Short(g.Bell.Range),
			100*g.Time,
		),
		Fix:   []session.Edit{session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: g.id(), Params: g.Bell, Why: note + " rings"}}},
		Apply: "Dip while it rings", Do: fmt.Sprintf("Dip %.1f Hz on %s while it rings", g.Hz, st.Name), Values: st.Name + ": " + g.Bell.Words(),
		Own: []find.Measure{{Figure: "ringover", Of: st.ID, Hz: g.Hz, In: find.AtMost(0)}}, Taste: "a note may be meant to ring",
	}
	if g.After > 0 {
		f.What = fmt.Sprintf("%s goes on ringing at %.0f Hz", st.Name, g.Hz)
		f.Why = fmt.Sprintf(
			"A quarter of a second after its hits that tone alone is only %s dB under them; the rest has died away. A bell dips it by %s dB while it rings.",
			figure.Short(float64(g.After)),
			figure.Short(g.Bell.Range),
		)
		if f.Taste = ""; g.After > struckPlain {
			f.Taste = "a drum may be meant to ring"
		}
	}
	return f, true
}
