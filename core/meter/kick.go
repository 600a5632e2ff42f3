package meter

import (
	"math"
	"math/cmplx"

	"mellowthump/core/dsp"
)

const (
	kickLowHz  = 25.0  // the low band in which a kick's pitch is followed
	kickHighHz = 300.0 // above the start of the sweep's loud part
	kickReach  = 0.5   // s after the hit
	kickHits   = 24    // about as many hits are followed
	kickUnder  = 0.01  // energy at which following ends: 20 dB under the peak

	stretchLong = 0.08 // s: three periods of the lowest kicks
	stretchStep = 0.02 // s from the start of one stretch to the next
	stretchBins = 4096 // of the transform of a stretch or a hit, about half a hertz apart
	settledBy   = 50.0 // cents by which stretches may differ, and the pitch from the tallest place of the hit's spectrum
	settledLong = 3    // stretches
	settledPart = 0.05 // of the hit's energy
	settledOff  = 0.1  // of the energy of what has settled may lie elsewhere: the end of a cut sound does
)

// KickPitch returns the pitch on which a kick settles. Each hit is looked at in stretches of 80 ms, until they are 20 dB under the
// loudest; it has settled from the stretch on after which, but for a tenth of the energy, the tallest places of their spectra differ by
// no more than 50 cents from their mean by energy, where that is three stretches or more and a twentieth of the energy. The pitch is the tallest place of the
// spectrum of what is left from there on, the median over the hits that settle, and Settled says that half of the hits do and that
// their whole spectra, sweep and all, are tallest there too, within 50 cents. Else it is the tallest place of the whole hits'
// spectra, and the kick has no settled pitch. low and fs are as from Low; hits are in seconds. The confidence falls with the spread
// between hits. It returns nil where there is none. Own definition; of common practice none is published.
func KickPitch(low []float32, fs float64, hits []float64) *Pitch {
	f := &stretches{fft: dsp.NewFFT(stretchBins), fs: fs, frame: make([]float64, stretchBins)}
	var settled, tallest []Figure
	each := max(1, len(hits)/kickHits) // a long song's hits repeat
	asked := 0
	for i, h := range hits {
		if i%each != 0 {
			continue
		}
		end := h + kickReach
		if i+1 < len(hits) {
			end = min(end, hits[i+1])
		}
		from, to := int(h*fs), min(int(end*fs), len(low))
		if to-from < int(0.03*fs) {
			continue
		}
		hit := low[from:to]
		whole, _ := f.tallest(hit, true)
		if whole == 0 {
			continue
		}
		tallest = append(tallest, Figure(whole))
		if at, ok, long := f.settles(hit); long {
			asked++
			if hz, _ := f.tallest(hit[at:], true); ok && hz > 0 && math.Abs(1200*math.Log2(hz/whole)) <= settledBy {
				settled = append(settled, Figure(hz))
			}
		}
	}
	of := tallest
	is := len(settled) > 0 && 2*len(settled) >= asked
	if is {
		of = settled
	}
	if len(of) == 0 {
		return nil
	}
	spread := 1200 * math.Log2(float64(Percentile(of, 0.9)/Percentile(of, 0.1)))
	p := newPitch(float64(Median(of)), 1/(1+spread/100))
	p.Settled = is
	return p
}

// stretches looks for the tallest places of spectra.
type stretches struct {
	fft   *dsp.FFT
	fs    float64
	frame []float64
	c     []complex128
}

// tallest returns where a sound's spectrum is tallest in the kick's low band, Hz, by a parabola through the levels about it, and its
// energy; 0 where there is none. A struck sound is tapered at its end alone, a stretch at both.
func (s *stretches) tallest(x []float32, struck bool) (hz, energy float64) {
	n := min(len(x), stretchBins)
	for k := range s.frame {
		s.frame[k] = 0
	}
	for k, v := range x[:n] {
		w := 0.5 - 0.5*math.Cos(2*math.Pi*(float64(k)+0.5)/float64(n))
		if struck {
			w = math.Min(1, float64(n-k)/(0.3*float64(n)+1))
		}
		s.frame[k] = float64(v) * w
		energy += s.frame[k] * s.frame[k]
	}
	s.c = s.fft.Coefficients(s.c, s.frame)
	of := func(k int) float64 { return real(s.c[k])*real(s.c[k]) + imag(s.c[k])*imag(s.c[k]) }
	lo, hi, top, most := int(kickLowHz*stretchBins/s.fs), min(int(kickHighHz*stretchBins/s.fs), stretchBins/2-1), 0, 0.0
	for k := lo; k <= hi; k++ {
		if p := of(k); p > most {
			top, most = k, p
		}
	}
	if top <= lo || top == hi || most == 0 {
		return 0, energy
	}
	a, b, c := math.Log(of(top-1)+1e-300), math.Log(most), math.Log(of(top+1)+1e-300)
	off := 0.0
	if d := a - 2*b + c; d < 0 {
		off = 0.5 * (a - c) / d
	}
	return (float64(top) + off) * s.fs / stretchBins, energy
}

// settles returns the sample from which a hit stays on one pitch; long is false where it is over before that could be told.
func (s *stretches) settles(x []float32) (at int, ok, long bool) {
	wide, step := int(stretchLong*s.fs), int(stretchStep*s.fs)
	var hz, energy []float64
	loudest, all := 0.0, 0.0
	for from := 0; from+wide <= len(x); from += step {
		p, e := s.tallest(x[from:from+wide], false)
		if loudest = max(loudest, e); e < loudest*kickUnder || p == 0 {
			break
		}
		hz, energy, all = append(hz, p), append(energy, e), all+e
	}
	if len(hz) < settledLong {
		return 0, false, false
	}
	for k := 0; len(hz)-k >= settledLong; k++ {
		mean, sum := 0.0, 0.0
		for i := k; i < len(hz); i++ {
			mean, sum = mean+energy[i]*math.Log2(hz[i]), sum+energy[i]
		}
		mean /= sum
		if sum < settledPart*all {
			break
		}
		far := 0.0
		for i := k; i < len(hz); i++ {
			if math.Abs(1200*(math.Log2(hz[i])-mean)) > settledBy {
				far += energy[i]
			}
		}
		if far <= settledOff*sum {
			return k * step, true, true
		}
	}
	return 0, false, true
}

// Sweep is how a kick falls from its start to the pitch on which it settles.
type Sweep struct {
	StartHz Figure `json:"start_hz"` // median over the hits
	TimeMS  Figure `json:"time_ms"`  // from the hit until it stays within a semitone of the settled pitch
}

// KickSweep follows how a kick falls to its settled pitch, settledHz.
func KickSweep(low []float32, fs float64, hits []float64, settledHz float64) Sweep {
	n := 1
	for n < int(2*kickReach*fs) {
		n *= 2
	}
	f := &follower{fft: dsp.NewComplex(n), fs: fs, weights: make([]float64, n)}
	for k := range f.weights { // wider at the top than for the settled pitch: the start is high
		f.weights[k] = bandWeight(float64(k) * fs / float64(n) / sweepUp)
		if hz := float64(k) * fs / float64(n); hz > kickLowHz && hz < kickHighHz*sweepUp {
			f.weights[k] = 1
		}
	}
	var starts, times []Figure
	stride := max(1, len(hits)/kickHits)
	for i, h := range hits {
		end := h + kickReach
		if i+1 < len(hits) {
			end = min(end, hits[i+1])
		}
		from, to := int(h*fs), min(int(end*fs), len(low))
		if i%stride != 0 || to-from < int(0.03*fs) {
			continue
		}
		if start, time, ok := f.sweep(low[from:to], settledHz); ok {
			starts, times = append(starts, Figure(start)), append(times, Figure(1000*time))
		}
	}
	return Sweep{StartHz: Median(starts), TimeMS: Median(times)}
}

const sweepUp = 2.5 // how much further up a sweep is followed than the settled pitch

// sweep returns the highest pitch in the first 15 ms and the time of settling, in seconds.
func (f *follower) sweep(x []float32, settled float64) (start, time float64, ok bool) {
	z := f.analytic(x)
	peak := 0.0
	for i := range x {
		peak = max(peak, real(z[i])*real(z[i])+imag(z[i])*imag(z[i]))
	}
	last := -1
	for i := 1; i < len(x); i++ {
		e := real(z[i])*real(z[i]) + imag(z[i])*imag(z[i])
		if e < peak*kickUnder {
			if last >= 0 {
				break
			}
			continue
		}
		hz := cmplx.Phase(z[i]*cmplx.Conj(z[i-1])) * f.fs / (2 * math.Pi)
		if float64(i) < 0.015*f.fs {
			start = max(start, hz)
		}
		if last < 0 || math.Abs(12*math.Log2(max(hz, 1)/settled)) > 1 {
			last = i
		}
	}
	return start, float64(last) / f.fs, last >= 0 && start > 0
}

// follower follows hits by their analytic signal: the positive frequencies of the band.
type follower struct {
	fft     *dsp.Complex
	fs      float64
	weights []float64
	z, c    []complex128
}

// analytic returns the analytic signal of the band for a hit; it is kept until the next call.
func (f *follower) analytic(x []float32) []complex128 {
	n := f.fft.Len()
	if f.z == nil {
		f.z, f.c = make([]complex128, n), make([]complex128, n)
	}
	for i := range f.z {
		f.z[i] = 0
		if i < len(x) {
			f.z[i] = complex(float64(x[i]), 0)
		}
	}
	f.c = f.fft.Coefficients(f.c, f.z)
	for k, w := range f.weights {
		f.c[k] *= complex(w, 0)
	}
	f.z = f.fft.Sequence(f.z, f.c)
	return f.z
}

// bandWeight is 1 inside the kick's low band and falls to 0 over half an octave outside.
func bandWeight(hz float64) float64 {
	if hz <= 0 {
		return 0
	}
	out := max(math.Log2(kickLowHz/hz), math.Log2(hz/kickHighHz)) * 2 // half octaves outside
	switch {
	case out <= 0:
		return 1
	case out >= 1:
		return 0
	}
	return 0.5 + 0.5*math.Cos(math.Pi*out)
}
