package room

import (
	"context"
	"fmt"
	"math"
	"math/cmplx"
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

// Mud and box are looked for in bands of a twelfth of an octave, against a sound's own straight line in dB per octave.
const (
	fineFrame = 1 << 14
	fineFrom  = 50.0 // Hz
	fineBins  = 96   // to 12.8 kHz
	lineLo    = 60.0 // Hz: the line is laid from here
	lineHi    = 6000.0
	boxLeast  = 3.0  // dB that a resonance stands out of what is beside it
	boxTell   = 12.0 // dB over the line: recorded snares and toms lie up to 11 over it by themselves
	mudTell   = 15.0 // dB over the line by octaves: mixes of chords lie up to 14 over it by themselves
	mudTo     = 10.0 // to where a bell takes it
	mudWide   = 6    // twelfths of an octave on each side: a note alone is no mud
	boxWide   = 2
	bellMost  = move.BigCut
	lineFloor = 60.0 // dB under the loudest band: what is under it is not there
)

// Common practice, no published source: where it is mud, and where drums are boxy, Hz.
var (
	mudBand = [2]float64{100, 300}
	boxBand = [2]float64{212, 500} // a drum's body is left out
)

// Fine is a spectrum: mean squares in bands of a twelfth of an octave from 50 Hz on, mean of the channels and over time.
type Fine []float64

// fineHz is the middle of a band.
func fineHz(i int) float64 { return fineFrom * math.Pow(2, (float64(i)+0.5)/12) }

// fineSpectrum takes it of a sound from a frame on.
func fineSpectrum(ctx context.Context, x audio.Buffer, from int) (Fine, error) {
	fft, window := dsp.NewFFT(fineFrame), dsp.Hann(fineFrame)
	power, y := make([]float64, fineFrame/2+1), make([]float64, fineFrame)
	var c []complex128
	for at := from; at+fineFrame <= x.Frames() || at == from; at += fineFrame / 2 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		for _, ch := range x.Ch {
			for i := range y {
				y[i] = 0
				if at+i < len(ch) {
					y[i] = float64(ch[at+i]) * window[i]
				}
			}
			c = fft.Coefficients(c, y)
			for k, v := range c {
				power[k] += real(v)*real(v) + imag(v)*imag(v)
			}
		}
	}
	out := make(Fine, fineBins)
	bin := float64(x.Rate) / fineFrame
	for i := range out {
		lo, hi := fineHz(i)*math.Pow(2, -1.0/24)/bin, fineHz(i)*math.Pow(2, 1.0/24)/bin
		for k := int(lo + 0.5); k <= int(hi+0.5) && k < len(power); k++ {
			out[i] += power[k] * max(0, min(hi, float64(k)+0.5)-max(lo, float64(k)-0.5))
		}
	}
	return out, nil
}

// over returns by how much each band, with so many on each side, stands over the straight line through the
// bands from 60 Hz to 6 kHz (least squares over the octaves), dB; -Inf where nothing is there.
func (f Fine) over(wide int) []float64 {
	top := 0.0
	for _, v := range f {
		top = math.Max(top, v)
	}
	floor := top * math.Pow(10, -lineFloor/10)
	smooth := make([]float64, len(f))
	for i := range f {
		n := 0.0
		for k := max(0, i-wide); k <= min(len(f)-1, i+wide); k++ {
			smooth[i] += f[k]
			n++
		}
		smooth[i] /= n
	}
	var n, sx, sy, sxx, sxy float64
	for i, v := range smooth {
		if hz := fineHz(i); hz >= lineLo && hz <= lineHi && v > floor {
			x, y := math.Log2(hz), dsp.PowerDB(v)
			n, sx, sy, sxx, sxy = n+1, sx+x, sy+y, sxx+x*x, sxy+x*y
		}
	}
	out := make([]float64, len(f))
	slope, level := 0.0, 0.0
	if d := n*sxx - sx*sx; n >= 2 && d > 0 {
		slope = (n*sxy - sx*sy) / d
		level = (sy - slope*sx) / n
	}
	for i, v := range smooth {
		out[i] = math.Inf(-1)
		if v > floor && v > 0 {
			out[i] = dsp.PowerDB(v) - level - slope*math.Log2(fineHz(i))
		}
	}
	return out
}

// worst is the band within two frequencies that stands most over the line, and by how much.
func worst(over []float64, band [2]float64) (at int, by float64) {
	at, by = -1, math.Inf(-1)
	for i, v := range over {
		if hz := fineHz(i); hz >= band[0] && hz <= band[1] && v > by {
			at, by = i, v
		}
	}
	return at, by
}

// ring is the strongest peak of its own within two frequencies, and by how much it stands over what lies between it and
// anything stronger, dB; -1 where none stands boxLeast out. A drum's body under the band is none, though its skirt
// reaches in.
func (f Fine) ring(band [2]float64) (at int, by float64) {
	at = -1
	for i := 1; i+1 < len(f); i++ {
		if hz := fineHz(i); hz < band[0] || hz > band[1] || f[i] <= f[i-1] || f[i] < f[i+1] || at >= 0 && f[i] <= f[at] {
			continue
		}
		valley := func(step int) float64 { // the lowest within half an octave, on the way to something stronger
			low := f[i]
			for k := i + step; k >= 0 && k < len(f) && k-i <= 6 && i-k <= 6; k += step {
				if low = math.Min(low, f[k]); f[k] > f[i] {
					return low
				}
			}
			return low
		}
		if out := dsp.PowerDB(f[i] / math.Max(f[i]/1e4, math.Max(valley(-1), valley(1)))); out >= boxLeast {
			at, by = i, out
		}
	}
	return at, by
}

// boxy is where a drum rings out in the box, and by how much; -1 where it does not stand over its line there. A tuned drum's own
// tone, the strongest that it has, is none.
func (f Fine) boxy(r session.Role) (at int, by float64) {
	if at, by = f.ring(boxBand); at < 0 || f.over(boxWide)[at] < boxTell || r == session.Perc && f[at] >= slices.Max(f) {
		return -1, 0
	}
	return at, by
}

// bellAt finds the smallest bell at a frequency after which what left says is nothing: of the gains in tenths of a
// decibel the least, of the widths the narrowest that does. Where 6 dB do not get there, it is what comes nearest.
func bellAt(hz, rate float64, f Fine, left func(Fine) float64) *move.Filter {
	var best *move.Filter
	nearest := math.Inf(1)
	out := make(Fine, len(f))
	for db := 0.5; db <= bellMost+1e-9; db += 0.1 {
		for _, q := range []float64{4, 2.8, 2, 1.4, 1} {
			b := &move.Filter{Shape: dsp.Bell, Hz: math.Round(hz), Q: q, DB: -math.Round(10*db) / 10}
			s, err := b.Sections(rate)
			if err != nil {
				return nil
			}
			for i, v := range f {
				g := cmplx.Abs(dsp.Response(s, fineHz(i), rate))
				out[i] = v * g * g
			}
			by := left(out)
			if by <= 0 {
				return b
			}
			if by < nearest-0.05 {
				best, nearest = b, by
			}
		}
	}
	return best
}

// Muddy is what stands over its own line: a drum that is boxy, or the rest that is muddy by one stem above all.
type Muddy struct {
	Stem string
	Box  bool
	Hz   float64
	Over float64 // dB
	Bell *move.Filter
}

// Mud looks for it over a window, in the song without Room's bells.
func Mud(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Muddy, error) {
	plain := song.Unbelled()
	rate := float64(song.Rate)
	var out []Muddy
	stems := rests(&plain)
	each, all, err := fines(ctx, r, &plain, w, stems)
	if err != nil {
		return nil, err
	}
	for i, st := range stems {
		if !st.Role.Struck() || st.Role == session.Kick || st.Role == session.Hats {
			continue
		}
		if at, by := each[i].boxy(st.Role); at >= 0 {
			out = append(out, Muddy{Stem: st.ID, Box: true, Hz: fineHz(at), Over: by, Bell: bellAt(fineHz(at), rate, each[i], func(f Fine) float64 {
				_, by := f.ring(boxBand)
				return by
			})})
		}
	}
	at, by := worst(all.over(mudWide), mudBand)
	if at < 0 || by < mudTell {
		return out, nil
	}
	most := 0
	for i := range each {
		if each[i][at] > each[most][at] {
			most = i
		}
	}
	sum := make(Fine, fineBins)
	return append(out, Muddy{Stem: stems[most].ID, Hz: fineHz(at), Over: by, Bell: bellAt(fineHz(at), rate, each[most], func(f Fine) float64 {
		for k, v := range all {
			sum[k] = math.Max(0, v-each[most][k]) + f[k]
		}
		_, by := worst(sum.over(mudWide), mudBand)
		return by - mudTo
	})}), nil
}

// fines are the fine spectra of some stems over a window, and their sum.
func fines(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, stems []*session.Stem) (each []Fine, all Fine, err error) {
	in, lead := wide(song, w)
	each, all = make([]Fine, len(stems)), make(Fine, fineBins)
	mix.Doing(ctx, "Looking for mud")
	err = abreast(ctx, len(stems), func(ctx context.Context, i int) error {
		key, hear, err := heard(r, song, is(stems[i].ID), in)
		if err != nil {
			return err
		}
		each[i], err = mix.Cached(ctx, r.Cache, mix.Key("fine room", key, lead), func() (Fine, int, error) {
			x, err := hear(ctx)
			if err != nil {
				return nil, 0, err
			}
			f, err := fineSpectrum(ctx, x, lead)
			return f, 8 * fineBins, err
		})
		return err
	})
	for _, f := range each {
		for k, v := range f {
			all[k] += v
		}
	}
	return each, all, err
}

// fineAt is the band that a frequency lies in.
func fineAt(hz float64) int {
	best := 0
	for i := range fineBins {
		if math.Abs(math.Log(fineHz(i)/hz)) < math.Abs(math.Log(fineHz(best)/hz)) {
			best = i
		}
	}
	return best
}

// MudLeft is how far the rest of a song, as it is, stands over its own line about a frequency, dB; of a drum that may be boxy
// (box), how far that rings out of what is beside it.
func MudLeft(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, stem string, hz float64, box bool) (meter.Figure, error) {
	stems := rests(song)
	if box {
		if st := song.Stem(stem); st != nil {
			stems = []*session.Stem{st}
		}
	}
	each, all, err := fines(ctx, r, song, w, stems)
	if err != nil {
		return meter.None, err
	}
	if !box {
		return meter.Figure(all.over(mudWide)[fineAt(hz)]), nil
	}
	for i, st := range stems {
		if st.ID == stem {
			_, by := each[i].ring(boxBand)
			return meter.Figure(by), nil
		}
	}
	return meter.None, nil
}

// finding tells of it.
func (m Muddy) finding(song *session.Song) (f find.Finding, ok bool) {
	st := song.Stem(m.Stem)
	if st == nil || m.Bell == nil || st.Move(session.RoomBell) != nil {
		return f, false
	}
	hz := fmt.Sprintf("%.0f", m.Hz)
	if f.ID, f.What = find.ID("mud", st.ID), fmt.Sprintf("The rest is muddy at %s Hz, by %s most", hz, st.Name); m.Box {
		f.ID, f.What = find.ID("box", st.ID), fmt.Sprintf("%s is boxy at %s Hz", st.Name, hz)
	}
	bell := fmt.Sprintf("A bell of %s dB, Q %s", figure.Short(m.Bell.DB), figure.Signed(m.Bell.Q, -1))
	f.Why = fmt.Sprintf(
		"It stands %s dB over the rest's own line from 60 Hz to 6 kHz; with chords 8 to 14 are usual. %s, on %s brings it to 10, or as near as %s dB do.",
		figure.Short(m.Over),
		bell,
		st.Name,
		figure.Short(bellMost),
	)
	if m.Box {
		f.Why = fmt.Sprintf(
			"It rings %s dB out of what is beside it. %s, evens it, or comes as near as %s dB do.",
			figure.Short(m.Over),
			bell,
			figure.Short(bellMost),
		)
	}
	f.Hear, f.Apply, f.Do = "all", "Dip it", fmt.Sprintf("Dip %s at %s Hz", st.Name, hz)
	f.Fix = []session.Edit{session.SetMove{At: session.At{Stem: st.ID}, Move: move.Move{ID: session.RoomBell, Params: m.Bell, Why: f.What}}}
	f.Values = fmt.Sprintf("%s: %s", st.Name, m.Bell.Words())
	f.Taste = "a matter of tone: hear it first"
	own := find.Measure{Figure: "overline", Of: st.ID, Hz: m.Bell.Hz, In: find.AtMost(mudTo)}
	if m.Box {
		own.Figure, own.In = "boxover", find.AtMost(boxLeast)
	}
	f.Own = []find.Measure{own}
	return f, true
}
