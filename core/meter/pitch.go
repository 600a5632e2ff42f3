package meter

import (
	"math"
	"math/cmplx"
	"runtime"
	"sort"

	"mellowthump/core/dsp"
	"mellowthump/core/group"
)

// The range of fundamentals that is looked for, Hz.
const (
	MinHz = 25.0
	MaxHz = 400.0
)

const (
	pitchBand     = 900.0 // Hz kept for pitch: the harmonics that matter to a bass
	pitchRate     = 4000  // Hz, the least rate that is worked at
	pitchHop      = 0.020 // s between frames
	yinThreshold  = 0.15  // de Cheveigne and Kawahara 2002, step 4: 0.1 to 0.15
	pitchMost     = 800   // frames at the most: in a long file they stand further apart
	pitchFloor    = 1e-4  // of the loudest frame's energy: quieter frames are not asked
	histogramStep = 10.0  // cents
	modeWidth     = 50.0  // cents to each side of the commonest pitch
)

// Pitch is a fundamental frequency with the nearest note.
type Pitch struct {
	Hz         float64 `json:"hz"`
	Note       string  `json:"note"`
	Cents      float64 `json:"cents"`             // distance from the note
	Confidence float64 `json:"confidence"`        // 0 to 1
	Settled    bool    `json:"settled,omitempty"` // of a kick: it stays on this pitch after its sweep
	Periodic   float64 `json:"-"`                 // share of the energy that has a pitch, this one or another
}

func newPitch(hz, confidence float64) *Pitch {
	note, cents := Note(hz)
	round := func(v, to float64) float64 { return math.Round(v/to) * to }
	return &Pitch{Hz: round(hz, 1e-4), Note: note, Cents: round(cents, 1e-2), Confidence: round(confidence, 1e-3)}
}

// Decimator keeps the low part of a signal at a low rate, for pitch and envelopes.
type Decimator struct {
	Factor int
	coarse coarse
	first  *dsp.Filter // the two halves of the low-pass, 4th order each
	second *dsp.Filter
	step   int // Factor over the coarse factor
	phase  int
	work   []float32
	Out    []float32
}

// NewDecimator returns a decimator from rate fs to the lowest whole fraction of its coarse rate that is
// at least pitchRate,
// low-passed at 900 Hz (Butterworth, 8th order).
func NewDecimator(fs int) *Decimator {
	d := &Decimator{coarse: newCoarse(fs)}
	rate := float64(fs) / float64(d.coarse.factor)
	d.step = max(1, int(rate/pitchRate))
	d.Factor = d.coarse.factor * d.step
	lp, err := dsp.ButterworthLowpass(8, pitchBand, rate)
	if err != nil {
		panic(err) // the band lies far below half of any rate that is read
	}
	d.first, d.second = dsp.NewFilter(lp[:2]), dsp.NewFilter(lp[2:])
	return d
}

// Add takes the next block.
func (d *Decimator) Add(x []float32) {
	x = d.coarse.add(x)
	y := d.room(len(x))
	d.first.Process(y, x)
	d.second.Process(y, y)
	d.pick(y)
}

func (d *Decimator) room(n int) []float32 {
	if cap(d.work) < n {
		d.work = make([]float32, n)
	}
	return d.work[:n]
}

// pick keeps every step-th sample.
func (d *Decimator) pick(y []float32) {
	for ; d.phase < len(y); d.phase += d.step {
		d.Out = append(d.Out, y[d.phase])
	}
	d.phase -= len(y)
}

// AddBoth gives the next block to a decimator and an onset meter. It is what giving it to each
// would be, faster: their filters run side by side.
func AddBoth(d *Decimator, m *OnsetMeter, x []float32) {
	x = d.coarse.add(x)
	y := d.room(len(x))
	b := m.room(len(x))
	dsp.Process2(d.first, y, x, m.mid, b.mid, x)
	dsp.Process2(d.second, y, y, m.click, b.click, x)
	m.low.Process(b.low, x)
	m.deep.Process(b.deep, x)
	d.pick(y)
	m.follow(b)
}

// Low decimates a whole mono signal; it returns the low part and its rate.
func Low(mono []float32, fs int) ([]float32, float64) {
	d := NewDecimator(fs)
	d.Add(mono)
	return d.Out, float64(fs) / float64(d.Factor)
}

type pitchFrame struct{ hz, periodic, energy float64 }

// Fundamental finds the commonest fundamental of a low signal (see Low) by energy: the
// pitch of each frame by YIN (de Cheveigne and Kawahara, JASA 111(4), 2002), then the mode
// of the energy-weighted distribution in cents, cross-checked by subharmonic summation
// (Hermes, JASA 83(1), 1988). It returns nil where nothing is periodic.
// Working on the period, it reads a bass whose third harmonic is its strongest partial as
// its first.
func Fundamental(low []float32, fs float64) *Pitch {
	frames := pitchFrames(low, fs)
	hz, share, periodic := mode(frames)
	if hz == 0 {
		return nil
	}
	agree := subharmonic(low, fs, hz)
	confidence := share * periodic
	if !agree {
		confidence *= 0.5
	}
	if hz < MinHz || hz > MaxHz {
		return nil // a period at the end of the search is none
	}
	p := newPitch(hz, confidence)
	var with, all float64
	for _, f := range frames {
		all += f.energy
		if f.hz > 0 && f.periodic > pitchedFrom {
			with += f.energy
		}
	}
	p.Periodic = with / all
	return p
}

// pitchedFrom is how periodic a frame is that has a pitch.
const pitchedFrom = 0.85

func pitchFrames(low []float32, fs float64) []pitchFrame {
	return framesOf(low, fs, max(int(pitchHop*fs), len(low)/pitchMost), pitchFloor)
}

// framesOf takes the pitch of frames hop samples apart, where they hold more than the floor
// of the loudest one's energy.
func framesOf(low []float32, fs float64, hop int, floor float64) []pitchFrame {
	maxLag := int(fs/MinHz) + 2
	minLag := int(fs / MaxHz)
	window := maxLag
	size := window + maxLag + 1
	if len(low) < size {
		low = append(append([]float32(nil), low...), make([]float32, size-len(low))...)
	}
	var frames []pitchFrame
	loudest := 0.0
	for at := 0; at+size <= len(low); at += hop {
		e := 0.0
		for _, v := range low[at : at+size] {
			e += float64(v) * float64(v)
		}
		frames = append(frames, pitchFrame{energy: e})
		loudest = max(loudest, e)
	}
	if loudest < 1e-12 {
		return nil
	}
	parts := runtime.GOMAXPROCS(0)
	group.All(parts, func(p int) {
		y := newYIN(size, window, minLag, maxLag)
		for i := p; i < len(frames); i += parts {
			if frames[i].energy <= loudest*floor {
				continue
			}
			if lag, aper := y.period(low[i*hop : i*hop+size]); lag > 0 {
				frames[i].hz, frames[i].periodic = fs/lag, max(0, 1-aper)
			}
		}
	})
	return frames
}

// yin finds the period of frames of one size.
type yin struct {
	window, minLag, maxLag int
	diff                   []float64
	fft                    *dsp.FFT
	pad                    []float64
	a, b                   []complex128
}

func newYIN(size, window, minLag, maxLag int) *yin {
	n := 1
	for n < size { // the lags asked for stay within a frame: nothing wraps around
		n *= 2
	}
	return &yin{window: window, minLag: minLag, maxLag: maxLag, diff: make([]float64, maxLag+1),
		fft: dsp.NewFFT(n), pad: make([]float64, n)}
}

// period returns the period in samples and the aperiodicity there (0 periodic).
func (y *yin) period(x []float32) (lag, aperiodicity float64) {
	y.difference(x)
	// cumulative mean normalised difference, eq. 8
	d := y.diff
	norm := make([]float64, len(d))
	norm[0] = 1
	sum := 0.0
	for t := 1; t < len(d); t++ {
		sum += d[t]
		norm[t] = 1
		if sum > 0 {
			norm[t] = d[t] * float64(t) / sum
		}
	}
	best := 0
	for t := max(2, y.minLag); t < y.maxLag; t++ {
		if norm[t] < yinThreshold && norm[t] <= norm[t+1] && norm[t] <= norm[t-1] {
			best = t
			break
		}
	}
	if best == 0 {
		best = max(2, y.minLag)
		for t := best; t < y.maxLag; t++ {
			if norm[t] < norm[best] {
				best = t
			}
		}
		if norm[best] > 0.5 {
			return 0, 1
		}
	}
	best = y.longer(x, norm, best)
	aperiodicity = norm[best]
	lag = float64(best) + vertex(d[best-1], d[best], d[best+1])
	// Later dips of the same train stand at whole multiples: they give the period finer.
	for m := 2; ; m *= 2 {
		t := int(math.Round(float64(m) * lag))
		if t+1 > y.maxLag {
			return lag, aperiodicity
		}
		for t > 1 && d[t-1] < d[t] {
			t--
		}
		for t+1 < y.maxLag && d[t+1] < d[t] {
			t++
		}
		if t+1 > y.maxLag || math.Abs(float64(t)/float64(m)-lag) > 0.5 || norm[t] > max(2*aperiodicity, yinThreshold) {
			return lag, aperiodicity
		}
		lag = (float64(t) + vertex(d[t-1], d[t], d[t+1])) / float64(m)
	}
}

// longer returns a multiple of a lag that is far more periodic: a strong second or third
// harmonic makes a shallow dip at a part of the period, the period itself a deep one.
func (y *yin) longer(x []float32, norm []float64, lag int) int {
	const shallow, deeper, periodic, hopeless = 0.015, 0.35, 0.06, 0.35
	depth := func(k int) float64 { // of the dip between the samples
		tau := float64(k) + vertex(y.diff[k-1], y.diff[k], y.diff[k+1])
		sum := 0.0
		for _, d := range y.diff[1 : k+1] {
			sum += d
		}
		return y.differenceAt(x, tau) * tau / sum
	}
	if norm[lag] > hopeless {
		return lag
	}
	own := depth(lag)
	if own < shallow {
		return lag
	}
	for m := 2; m <= 4; m++ {
		t := m * lag
		lo, hi := t-m, t+m
		if hi+1 >= y.maxLag {
			break
		}
		low := lo
		for k := lo; k <= hi; k++ {
			if norm[k] < norm[low] {
				low = k
			}
		}
		if d := depth(low); d < deeper*own && d < periodic {
			return low
		}
	}
	return lag
}

// differenceAt is the difference function at a lag between samples, by a windowed sinc over
// sincTaps samples.
func (y *yin) differenceAt(x []float32, tau float64) float64 {
	const sincTaps = 12
	base := int(math.Floor(tau))
	frac := tau - float64(base)
	var h [sincTaps]float64
	sin := math.Sin(math.Pi * frac)
	for k := range h { // windowed by a raised cosine
		t := float64(k-sincTaps/2+1) - frac
		h[k] = 1
		if math.Abs(t) > 1e-9 {
			h[k] = sin / (math.Pi * -t)
			if k%2 == 0 {
				h[k] = -h[k]
			}
		}
		h[k] *= 0.5 + 0.5*math.Cos(2*math.Pi*t/sincTaps)
	}
	d := 0.0
	for i := sincTaps; i < y.window-sincTaps; i++ {
		v := 0.0
		for k, w := range h {
			v += w * float64(x[i+base+k-sincTaps/2+1])
		}
		v -= float64(x[i])
		d += v * v
	}
	return d * float64(y.window) / float64(y.window-2*sincTaps)
}

// difference fills diff with sum (x[i]-x[i+t])^2 over the window, by FFT.
func (y *yin) difference(x []float32) {
	load := func(n int) {
		for i := range y.pad {
			y.pad[i] = 0
			if i < n {
				y.pad[i] = float64(x[i])
			}
		}
	}
	load(y.window)
	y.a = y.fft.Coefficients(y.a, y.pad)
	load(len(x))
	y.b = y.fft.Coefficients(y.b, y.pad)
	for i := range y.b {
		y.b[i] *= cmplx.Conj(y.a[i])
	}
	corr := y.fft.Sequence(y.pad, y.b)
	scale := 1 / float64(len(corr))
	first, moving := 0.0, 0.0
	for _, v := range x[:y.window] {
		first += float64(v) * float64(v)
	}
	moving = first
	for t := range y.diff {
		y.diff[t] = max(0, first+moving-2*corr[t]*scale)
		if t+y.window < len(x) {
			in, out := float64(x[t+y.window]), float64(x[t])
			moving += in*in - out*out
		}
	}
}

// vertex returns where the parabola through three neighbours has its extreme, -0.5 to 0.5.
func vertex(a, b, c float64) float64 {
	den := a - 2*b + c
	if den <= 0 {
		return 0
	}
	return max(-0.5, min(0.5, (a-c)/(2*den)))
}

// mode returns the commonest pitch by energy, the share of the energy that has it, and
// how periodic those frames are.
func mode(frames []pitchFrame) (hz, share, periodic float64) {
	bins := int(1200*math.Log2(MaxHz/MinHz)/histogramStep) + 20
	hist := make([]float64, bins)
	total := 0.0
	cents := func(f float64) float64 { return 1200 * math.Log2(f/MinHz) }
	for _, f := range frames {
		total += f.energy
		if f.hz > 0 {
			k := int(cents(f.hz)/histogramStep) + 5
			if k >= 0 && k < bins {
				hist[k] += f.energy * f.periodic
			}
		}
	}
	best, at := 0.0, -1
	reach := int(modeWidth/histogramStep) / 2
	for k := reach; k+reach < bins; k++ {
		s := 0.0
		for j := -reach; j <= reach; j++ {
			s += hist[k+j]
		}
		if s > best*1.000001 {
			best, at = s, k
		}
	}
	if at < 0 || total == 0 {
		return 0, 0, 0
	}
	center := (float64(at-5) + 0.5) * histogramStep
	var near []pitchFrame
	weight, tonal := 0.0, 0.0
	for _, f := range frames {
		if f.hz > 0 && math.Abs(cents(f.hz)-center) <= modeWidth {
			near = append(near, f)
			weight += f.energy * f.periodic
			tonal += f.energy
		}
	}
	sort.Slice(near, func(i, j int) bool { return near[i].hz < near[j].hz })
	half := 0.0
	for _, f := range near {
		if half += f.energy * f.periodic; half >= weight/2 {
			return f.hz, tonal / total, weight / tonal
		}
	}
	return 0, 0, 0
}

const (
	shsHarmonics = 8
	shsDecay     = 0.84 // Hermes 1988
)

// subharmonic reports whether subharmonic summation prefers hz to the pitches it is most
// often mistaken for: its octaves and twelfths.
func subharmonic(low []float32, fs, hz float64) bool {
	n := 4096
	size := min(len(low), n)
	// the loudest stretch
	at, best := 0, -1.0
	for i := 0; i+size <= len(low); i += size / 2 {
		e := 0.0
		for _, v := range low[i : i+size] {
			e += float64(v) * float64(v)
		}
		if e > best {
			at, best = i, e
		}
		if size/2 == 0 {
			break
		}
	}
	x := make([]float64, n)
	window := dsp.Hann(size)
	for i, v := range low[at : at+size] {
		x[i] = float64(v) * window[i]
	}
	c := dsp.NewFFT(n).Coefficients(nil, x)
	reach := int(math.Ceil(2 * float64(n) / float64(size)))
	amp := func(f float64) float64 {
		k := int(math.Round(f / fs * float64(n)))
		m := 0.0
		for j := max(1, k-reach); j <= k+reach && j < len(c); j++ {
			m = max(m, cmplx.Abs(c[j]))
		}
		return m
	}
	score := func(f float64) float64 {
		s, w := 0.0, 1.0
		for h := 1; h <= shsHarmonics && float64(h)*f < fs/2; h++ {
			s += w * amp(float64(h)*f)
			w *= shsDecay
		}
		return s
	}
	own := score(hz)
	for _, r := range []float64{1. / 3, 0.5, 2, 3} {
		if f := hz * r; f >= MinHz && f <= MaxHz && score(f) > own*1.05 {
			return false
		}
	}
	return true
}
