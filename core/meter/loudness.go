package meter

import (
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

const (
	loudnessOffset = -0.691 // BS.1770-5 eq. 2
	absoluteGate   = -70.0  // LUFS
	relativeGate   = -10.0  // LU, integrated loudness
	rangeGate      = -20.0  // LU, EBU Tech 3342
	hopsMomentary  = 4      // 400 ms in hops of 100 ms
	hopsShort      = 30     // 3 s
)

// KWeighting returns the two sections of the K-weighting filter for a sample rate in Hz.
// ITU-R BS.1770-5 prints coefficients for 48 kHz only; these are the analogue parameters
// that reproduce them (as published in Mansbridge, Finn and Reiss, AES 132, 2012, and used
// by general-purpose meters), carried to fs by the bilinear transform.
func KWeighting(fs float64) []dsp.Biquad {
	const (
		shelfHz, shelfDB, shelfQ = 1681.974450955533, 3.999843853973347, 0.7071752369554196
		shelfExp                 = 0.4996667741545416
		passHz, passQ            = 38.13547087602444, 0.5003270373238773
	)
	k := math.Tan(math.Pi * shelfHz / fs)
	vh := math.Pow(10, shelfDB/20)
	vb := math.Pow(vh, shelfExp)
	n := 1 / (1 + k/shelfQ + k*k)
	shelf := dsp.Biquad{
		B0: (vh + vb*k/shelfQ + k*k) * n, B1: 2 * (k*k - vh) * n, B2: (vh - vb*k/shelfQ + k*k) * n,
		A1: 2 * (k*k - 1) * n, A2: (1 - k/shelfQ + k*k) * n,
	}
	k = math.Tan(math.Pi * passHz / fs)
	n = 1 / (1 + k/passQ + k*k)
	pass := dsp.Biquad{B0: 1, B1: -2, B2: 1, A1: 2 * (k*k - 1) * n, A2: (1 - k/passQ + k*k) * n}
	return []dsp.Biquad{shelf, pass}
}

// Loudness measures BS.1770-5 loudness of mono or stereo sound given block by block.
// A mono signal is measured as one channel.
type Loudness struct {
	rate    int
	filters []*dsp.Filter
	scratch []float32
	hops    []float64 // mean square, channels summed, per 100 ms
	sum     float64   // of the hop being filled
	frames  int64
	next    int64 // frame at which the hop being filled ends
}

// NewLoudness returns a meter for sound of that rate and number of channels.
func NewLoudness(rate, channels int) *Loudness {
	l := &Loudness{rate: rate}
	k := KWeighting(float64(rate))
	for range channels {
		l.filters = append(l.filters, dsp.NewFilter(k))
	}
	l.next = l.hopEnd(0)
	return l
}

// hopEnd is the frame where hop k ends, rounded so that 10 hops are a second at any rate.
func (l *Loudness) hopEnd(k int) int64 { return int64(k+1) * int64(l.rate) / 10 }

// Weighted returns a sound through the K-weighting filter, from rest. Weighting is linear: the sum of
// weighted parts is the weighted sum.
func Weighted(b audio.Buffer) audio.Buffer {
	out := audio.New(b.Rate, len(b.Ch), b.Frames())
	k := KWeighting(float64(b.Rate))
	if len(b.Ch) == 2 {
		dsp.Process2(dsp.NewFilter(k), out.Ch[0], b.Ch[0], dsp.NewFilter(k), out.Ch[1], b.Ch[1])
		return out
	}
	for c := range b.Ch {
		dsp.NewFilter(k).Process(out.Ch[c], b.Ch[c])
	}
	return out
}

// AddWeighted measures the next block of a sound that is K-weighted already.
func (l *Loudness) AddWeighted(b audio.Buffer) {
	n := b.Frames()
	for done := 0; done < n; {
		m := int(min(int64(n-done), l.next-l.frames))
		for _, ch := range b.Ch {
			l.sum += Energy(ch[done : done+m])
		}
		done += m
		l.pass(m)
	}
}

// Add measures the next block.
func (l *Loudness) Add(b audio.Buffer) {
	n := b.Frames()
	for done := 0; done < n; {
		m := int(min(int64(n-done), l.next-l.frames))
		if len(l.scratch) < 2*m {
			l.scratch = make([]float32, 2*m)
		}
		if len(l.filters) == 2 {
			y, z := l.scratch[:m], l.scratch[len(l.scratch)/2:][:m]
			dsp.Process2(l.filters[0], y, b.Ch[0][done:done+m], l.filters[1], z, b.Ch[1][done:done+m])
			l.sum += Energy(y) + Energy(z)
		} else {
			for c, f := range l.filters {
				y := l.scratch[:m]
				f.Process(y, b.Ch[c][done:done+m])
				l.sum += Energy(y)
			}
		}
		done += m
		l.pass(m)
	}
}

// pass goes on by some frames whose energy is in the sum, and closes a hop that they end.
func (l *Loudness) pass(frames int) {
	if l.frames += int64(frames); l.frames < l.next {
		return
	}
	k := len(l.hops)
	start := int64(0)
	if k > 0 {
		start = l.hopEnd(k - 1)
	}
	l.hops = append(l.hops, l.sum/float64(l.next-start))
	l.sum = 0
	l.next = l.hopEnd(k + 1)
}

func toLUFS(meanSquare float64) float64 { return loudnessOffset + dsp.PowerDB(meanSquare) }

// blocks returns the mean squares of all windows of n hops.
func (l *Loudness) blocks(n int) []float64 {
	if len(l.hops) < n {
		return nil
	}
	out := make([]float64, 0, len(l.hops)-n+1)
	for i := 0; i+n <= len(l.hops); i++ {
		s := 0.0
		for _, v := range l.hops[i : i+n] {
			s += v
		}
		out = append(out, s/float64(n))
	}
	return out
}

// momentary returns the 400 ms blocks with 75 % overlap. Sound shorter than one block is
// measured as one block filled up with silence, so that a one-shot has a loudness.
func (l *Loudness) momentary() []float64 {
	if b := l.blocks(hopsMomentary); b != nil {
		return b
	}
	s := l.sum
	start := int64(0)
	for k, v := range l.hops {
		s += v * float64(l.hopEnd(k)-start)
		start = l.hopEnd(k)
	}
	return []float64{s / (0.4 * float64(l.rate))}
}

// HopFrames returns the frames of a hop of 100 ms.
func (l *Loudness) HopFrames() int { return l.rate / 10 }

// Integrated returns the gated loudness in LUFS; None under the absolute gate.
func (l *Loudness) Integrated() Figure { return l.IntegratedAt(0) }

// IntegratedAt returns the gated loudness in LUFS of all that was added, turned by a gain in dB:
// what the absolute gate leaves out depends on it.
func (l *Loudness) IntegratedAt(db float64) Figure {
	b := l.momentary()
	if db != 0 {
		b = append([]float64(nil), b...)
		for i := range b {
			b[i] *= math.Pow(10, db/10)
		}
	}
	b = above(b, absoluteGate)
	b = above(b, toLUFS(mean(b))+relativeGate)
	return lufs(mean(b))
}

// MomentaryMax returns the loudest 400 ms in LUFS.
func (l *Loudness) MomentaryMax() Figure { return lufs(largest(l.momentary())) }

// ShortMax returns the loudest 3 s in LUFS; sound shorter than that is filled up with silence.
func (l *Loudness) ShortMax() Figure {
	if b := l.blocks(hopsShort); b != nil {
		return lufs(largest(b))
	}
	s := l.sum / (float64(l.rate) / 10)
	for _, v := range l.hops {
		s += v
	}
	return lufs(s / hopsShort)
}

// Range returns the loudness range in LU, EBU Tech 3342: the spread from the 10th to the
// 95th percentile of short-term loudness, gated at -70 LUFS and -20 LU. None where the
// sound is shorter than 3 s.
func (l *Loudness) Range() Figure {
	b := above(l.blocks(hopsShort), absoluteGate)
	b = above(b, toLUFS(mean(b))+rangeGate)
	if len(b) == 0 {
		return None
	}
	sort.Float64s(b)
	at := func(p float64) float64 { return toLUFS(b[int(math.Round(p*float64(len(b)-1)))]) }
	return Figure(at(0.95) - at(0.10))
}

func above(b []float64, gate float64) []float64 {
	var out []float64
	for _, v := range b {
		if toLUFS(v) > gate {
			out = append(out, v)
		}
	}
	return out
}

func mean(b []float64) float64 {
	if len(b) == 0 {
		return 0
	}
	s := 0.0
	for _, v := range b {
		s += v
	}
	return s / float64(len(b))
}

func largest(b []float64) float64 {
	m := 0.0
	for _, v := range b {
		m = max(m, v)
	}
	return m
}

func lufs(meanSquare float64) Figure {
	if v := toLUFS(meanSquare); v > absoluteGate {
		return Figure(v)
	}
	return None
}

// IntegratedLoudness measures a whole buffer at once, in LUFS.
func IntegratedLoudness(b audio.Buffer) Figure {
	l := NewLoudness(b.Rate, len(b.Ch))
	l.Add(b)
	return l.Integrated()
}
