// Package width measures how a stereo sound stands between its channels, what of it is lost in mono, and finds what makes it safe.
package width

import (
	"math"
	"math/cmplx"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

const (
	step       = 0.4     // s over which a correlation is taken
	worstTenth = 0.1     // of those, by which a sound is judged
	stepFloor  = 60.0    // dB under the loudest step, under which one is silent
	frame      = 1 << 15 // of the bands, at 44.1 and 48 kHz
	delayMost  = 20.0    // ms that are looked through for a delay
	delaySure  = 0.7     // correlation at a delay from which it is one
	delayOver  = 0.15    // by which it must stand over that at none
)

// Band is a third-octave.
type Band struct {
	Hz          float64      `json:"hz"`
	Correlation meter.Figure `json:"correlation"`
	Fold        meter.Figure `json:"fold_loss_db"`
	Mid         meter.Figure `json:"-"` // dBFS, mean square
	Side        meter.Figure `json:"-"`
}

// Figures are those of a sound between its channels.
type Figures struct {
	Mono        bool           `json:"-"`                       // one channel, or two alike
	Correlation meter.Figure   `json:"correlation"`             // sum LR / sqrt(sum LL sum RR)
	Worst       meter.Figure   `json:"correlation_worst_tenth"` // the 10th percentile of those of 400 ms
	Fold        meter.Figure   `json:"fold_loss_db"`            // 10 log10((E_L + E_R) / 2 E_M), M half the sum: 0 mono, 3.01 unrelated
	FoldLU      meter.Figure   `json:"fold_loss_lu"`            // loudness that is lost in mono, BS.1770
	Side        meter.Figure   `json:"side_share_db"`           // energy of the side, (L - R) / 2, under the mid's
	Low         meter.Figure   `json:"side_low_db"`             // likewise under 120 Hz, see lowShare
	LowFold     meter.Figure   `json:"fold_loss_low_db"`        // fold-down loss in 20 to 200 Hz
	LowOf       string         `json:"low_of,omitempty"`        // the channel that has the low end, where mono takes over lowGone of it
	LowTurned   bool           `json:"low_turned,omitempty"`    // there the channels are upside down against each other
	Disc        meter.Figure   `json:"side_150_db"`             // energy of the side under 150 Hz about all of the sound
	Delay       meter.Figure   `json:"delay_ms"`                // by which the right channel is later; None where there is none
	Turned      bool           `json:"turned"`                  // one channel is the other upside down, at that delay
	Bands       []Band         `json:"bands"`
	Track       []meter.Figure `json:"-"` // correlation of every 400 ms; None where it is silent
}

// LowMono is where everything is to be mono, Hz; LowUnder by how much the side lies under the mid there to count as mono, dB.
const (
	LowMono   = 120.0
	LowUnder  = 20.0
	foldHi    = 200.0
	lowGone   = 6.0  // dB of the low end that mono takes: then one channel's goes to both sides. Own choice
	lowTurned = -0.8 // correlation of the low end, from which the channels are said to be upside down there
	discHz    = 150.0
)

// Measure measures a sound.
func Measure(x audio.Buffer) Figures {
	none := meter.None
	f := Figures{Correlation: none, Worst: none, Fold: none, FoldLU: none, Side: none, Low: none, LowFold: none, Disc: none, Delay: none}
	if len(x.Ch) < 2 || x.Frames() == 0 {
		f.Mono = true
		return f
	}
	l, r := x.Ch[0], x.Ch[1]
	sums := sumsOf(l, r, x.Rate)
	all := total(sums)
	f.Mono = all.ss == 0
	f.Correlation, f.Fold = all.correlation(), all.fold()
	f.Side = ratio(all.ss, all.mm)
	f.Track = track(sums)
	f.Worst = worst(f.Track)
	f.FoldLU = foldLU(x)
	f.bands(x)
	if !f.Mono {
		f.delay(l, r, x.Rate)
	}
	return f
}

// pair is the energy of mid and side, and what they share.
type pair struct{ mm, ss, ms float64 }

func (p pair) ll() float64 { return p.mm + 2*p.ms + p.ss }
func (p pair) rr() float64 { return p.mm - 2*p.ms + p.ss }

func (p pair) correlation() meter.Figure {
	if d := p.ll() * p.rr(); d > 0 && p.ll() > 1e-12*p.rr() && p.rr() > 1e-12*p.ll() {
		return meter.Figure(math.Max(-1, math.Min(1, (p.mm-p.ss)/math.Sqrt(d))))
	}
	return meter.None
}

// fold is the fold-down loss: (E_L + E_R) / 2 E_M is 1 + E_S / E_M.
func (p pair) fold() meter.Figure {
	switch {
	case p.mm+p.ss <= 0:
		return meter.None
	case p.mm <= 1e-9*p.ss:
		return foldGone
	}
	return meter.Figure(dsp.PowerDB(1 + p.ss/p.mm))
}

// foldGone is the loss of what vanishes in mono, dB.
const foldGone = 90.0

// ratio is a in dB under b.
func ratio(a, b float64) meter.Figure {
	switch {
	case a <= 0 && b <= 0:
		return meter.None
	case a <= 1e-9*b:
		return -foldGone
	case b <= 1e-9*a:
		return foldGone
	}
	return meter.Figure(dsp.PowerDB(a / b))
}

// sumsOf are the sums of every 400 ms.
func sumsOf(l, r []float32, rate int) []pair {
	n := max(1, int(step*float64(rate)))
	var out []pair
	for at := 0; at < len(l); at += n {
		var p pair
		for i := at; i < min(len(l), at+n); i++ {
			m, s := (float64(l[i])+float64(r[i]))/2, (float64(l[i])-float64(r[i]))/2
			p.mm, p.ss, p.ms = p.mm+m*m, p.ss+s*s, p.ms+m*s
		}
		out = append(out, p)
	}
	return out
}

func total(all []pair) (t pair) {
	for _, p := range all {
		t.mm, t.ss, t.ms = t.mm+p.mm, t.ss+p.ss, t.ms+p.ms
	}
	return t
}

// track is the correlation of every step that is not silent.
func track(all []pair) []meter.Figure {
	top := 0.0
	for _, p := range all {
		top = math.Max(top, p.mm+p.ss)
	}
	out := make([]meter.Figure, len(all))
	for i, p := range all {
		if out[i] = meter.None; p.mm+p.ss > top*math.Pow(10, -stepFloor/10) {
			out[i] = p.correlation()
		}
	}
	return out
}

func worst(track []meter.Figure) meter.Figure {
	known := slices.DeleteFunc(slices.Clone(track), func(f meter.Figure) bool { return !f.Valid() })
	if len(known) == 0 {
		return meter.None
	}
	return meter.Percentile(known, worstTenth)
}

// foldLU is the loudness of a sound over that of its mid on both sides, LU.
func foldLU(x audio.Buffer) meter.Figure {
	m := audio.New(x.Rate, 2, x.Frames())
	for i, l := range x.Ch[0] {
		m.Ch[0][i] = (l + x.Ch[1][i]) / 2
		m.Ch[1][i] = m.Ch[0][i]
	}
	wide, mono := meter.NewLoudness(x.Rate, 2), meter.NewLoudness(x.Rate, 2)
	wide.Add(x)
	mono.Add(m)
	a, b := wide.Integrated(), mono.Integrated()
	switch {
	case !a.Valid():
		return meter.None
	case !b.Valid():
		return foldGone
	}
	return a - b
}

// spectrum is the power of mid and side and what they share, by bin, summed over frames half over each other.
type spectrum struct {
	bins []pair
	hz   float64 // of a bin
}

func spectrumOf(x audio.Buffer) spectrum {
	n := frame
	for n > 1024 && n > x.Frames() {
		n /= 2
	}
	if x.Rate > 50000 && n == frame {
		n *= 2
	}
	out := spectrum{bins: make([]pair, n/2+1), hz: float64(x.Rate) / float64(n)}
	fft, window := dsp.NewFFT(n), dsp.Hann(n)
	mid, side := make([]float64, n), make([]float64, n)
	var a, b []complex128
	for at := 0; at < x.Frames(); at += n / 2 {
		for i := range mid {
			mid[i], side[i] = 0, 0
			if k := at + i; k < x.Frames() {
				l, r := float64(x.Ch[0][k]), float64(x.Ch[1][k])
				mid[i], side[i] = (l+r)/2*window[i], (l-r)/2*window[i]
			}
		}
		a, b = fft.Coefficients(a, mid), fft.Coefficients(b, side)
		for k := range out.bins {
			p := &out.bins[k]
			p.mm += real(a[k])*real(a[k]) + imag(a[k])*imag(a[k])
			p.ss += real(b[k])*real(b[k]) + imag(b[k])*imag(b[k])
			p.ms += real(a[k] * cmplx.Conj(b[k]))
		}
	}
	return out
}

// lowShare is the least part of the mid's whole energy that the side under 120 Hz is held against: a mid with nothing there asks nothing.
const lowShare = 0.1

// low is the side under 120 Hz about the mid there, dB.
func (s spectrum) low(p pair) meter.Figure {
	return ratio(p.ss, math.Max(p.mm, lowShare*total(s.bins).mm))
}

// between sums the bins from lo up to hi, each bin to the band that its middle lies in.
func (s spectrum) between(lo, hi float64) (t pair) {
	for k := int(math.Ceil(lo / s.hz)); k < len(s.bins) && float64(k)*s.hz < hi; k++ {
		t = total([]pair{t, s.bins[k]})
	}
	return t
}

func (f *Figures) bands(x audio.Buffer) {
	s := spectrumOf(x)
	low := s.between(20, LowMono)
	f.Low = s.low(low)
	if loss := low.fold(); loss > lowGone && float64(f.Low) > 0 {
		f.LowTurned = low.correlation() < lowTurned
		if f.LowOf = move.LowLeft; low.ms < 0 {
			f.LowOf = move.LowRight
		}
	}
	all := total(s.bins)
	f.Disc = ratio(s.between(0, discHz).ss, all.mm+all.ss)
	f.LowFold = s.between(20, foldHi).fold()
	whole := total(sumsOf(x.Ch[0], x.Ch[1], x.Rate))
	bins := total(s.bins)
	scale := 0.0
	if e := bins.mm + bins.ss; e > 0 {
		scale = (whole.mm + whole.ss) / e / float64(x.Frames())
	}
	for k := range meter.Bands {
		hz := meter.BandHz(k)
		if hz < 19 || hz > 17000 || hz > 0.45*float64(x.Rate) {
			continue
		}
		p := s.between(hz*math.Exp2(-1.0/6), hz*math.Exp2(1.0/6))
		b := Band{Hz: hz, Correlation: meter.None, Fold: meter.None, Mid: meter.None, Side: meter.None}
		if p.mm+p.ss > 1e-9*(bins.mm+bins.ss) {
			b.Correlation, b.Fold = p.correlation(), p.fold()
			if p.mm > 0 {
				b.Mid = meter.Figure(dsp.PowerDB(p.mm * scale))
			}
			if p.ss > 0 {
				b.Side = meter.Figure(dsp.PowerDB(p.ss * scale))
			}
		}
		f.Bands = append(f.Bands, b)
	}
}

// delay looks for one channel in the other, later or earlier: the highest cross-correlation within 20 ms, normalised.
func (f *Figures) delay(l, r []float32, rate int) {
	most := int(delayMost * float64(rate) / 1000)
	const long = 5.0 // s that are looked at, in the loudest place
	n := min(len(l), int(long*float64(rate)))
	from, best := 0, -1.0
	for at := 0; at+n <= len(l); at += max(1, n/2) {
		if e := meter.Energy(l[at:at+n]) + meter.Energy(r[at:at+n]); e > best {
			from, best = at, e
		}
	}
	size := 1
	for size < n+most {
		size *= 2
	}
	fft := dsp.NewFFT(size)
	a, b := make([]float64, size), make([]float64, size)
	ll, rr := 0.0, 0.0
	for i := range n {
		a[i], b[i] = float64(l[from+i]), float64(r[from+i])
		ll, rr = ll+a[i]*a[i], rr+b[i]*b[i]
	}
	if ll <= 0 || rr <= 0 {
		return
	}
	x, y := fft.Coefficients(nil, a), fft.Coefficients(nil, b)
	for k := range x {
		x[k] = cmplx.Conj(x[k]) * y[k]
	}
	c := fft.Sequence(nil, x)
	scale := 1 / (float64(size) * math.Sqrt(ll*rr))
	at := func(lag int) float64 { return c[(lag+size)%size] * scale }
	top := 0
	for lag := -most; lag <= most; lag++ {
		if math.Abs(at(lag)) > math.Abs(at(top)) {
			top = lag
		}
	}
	rival := 0.0 // another lag at which they are alike: a held tone has many
	for lag := -most; lag <= most; lag++ {
		if d := lag - top; d > rate/1000 || d < -rate/1000 {
			rival = math.Max(rival, math.Abs(at(lag)))
		}
	}
	switch v := at(top); {
	case math.Abs(v) < delaySure:
		return
	case top != 0 && (math.Abs(v) < math.Abs(at(0))+delayOver || math.Abs(v) < rival+delayOver):
		if at(0) < -delaySure {
			f.Turned = true
		}
		return
	default:
		f.Turned = v < 0
		if top != 0 {
			f.Delay = meter.Figure(1000 * float64(top) / float64(rate))
		}
	}
}

// Notches are the first frequencies that vanish in mono of a sound whose channels are a delay apart, ms: the odd multiples of
// 1 / 2d; of one turned over the even ones.
func Notches(ms float64, turned bool, many int) []float64 {
	var out []float64
	d := math.Abs(ms) / 1000
	for k := range many {
		if turned {
			out = append(out, float64(k)/d)
		} else {
			out = append(out, float64(2*k+1)/(2*d))
		}
	}
	return out
}
