package meter

import (
	"math"

	"mellowthump/core/dsp"
)

const (
	onsetStep       = 0.001  // s, resolution of the envelopes
	onsetRelease    = 0.040  // s, decay of the held envelope: over a half period of a sub bass
	onsetReach      = 0.008  // s over which a rise is measured
	onsetRiseLow    = 6.0    // dB, rise of the low band alone that makes a hit
	onsetRiseMid    = 6.0    // dB, rise of the click that makes one with
	onsetRiseWith   = 2.0    // dB in the low band
	onsetRiseUnder  = 9.0    // dB, rise of the click where a bass covers the low band: the hit's
	onsetSweepLow   = 70.0   // sweep is then looked for over the bass's fundamental and under
	onsetSweepHigh  = 140.0  // a snare's, Hz
	onsetSweepFloor = 0.1    // -20 dB under the loudest there
	onsetSplash     = 3.0    // dB, rise of the click that any hit has
	onsetBeat       = 125    // steps: beats of two low tones 8 Hz and more apart
	onsetFloor      = 0.0316 // -30 dB under the loudest: quieter rises are room, not hits
	onsetLeast      = 1e-5   // -100 dBFS: nothing quieter is a hit
	onsetInBand     = 0.003  // -50 dB under the file's peak: a low band under it is leakage
	onsetApart      = 0.045  // s between two hits
	onsetTenth      = 0.1    // of the local peak: where the hit is said to begin
	onsetLow        = 150.0  // Hz, top of the low band
	onsetMidLow     = 300.0  // Hz, the click's band
	onsetMidHigh    = 3000.0
)

// OnsetMeter follows the envelopes in which hits are looked for, block by block.
type OnsetMeter struct {
	rate, full float64 // Hz, of the envelopes' source and of the sound
	coarse     coarse
	low, mid   *dsp.Filter
	sweep      *dsp.Filter
	lowEnv     held
	midEnv     held
	sweepEnv   held
	scratch    []float32
	frames     int
	nextFrame  int
}

// held follows a magnitude with instant attack and slow release; it keeps the largest value
// of each millisecond.
type held struct {
	now   float32
	env   []float64
	decay float64 // of one sample
}

// NewOnsetMeter returns a meter for mono sound of that rate in Hz.
func NewOnsetMeter(fs int) *OnsetMeter {
	c := newCoarse(fs)
	rate := float64(fs) / float64(c.factor)
	lp, _ := dsp.ButterworthLowpass(2, onsetLow, rate) // the corners lie under any rate's half
	hp, _ := dsp.ButterworthHighpass(2, onsetMidLow, rate)
	top, _ := dsp.ButterworthLowpass(2, math.Min(onsetMidHigh, 0.4*rate), rate)
	sweep, _ := dsp.Bandpass(onsetSweepLow, onsetSweepHigh, rate)
	a := math.Exp(-1 / (onsetRelease * rate))
	return &OnsetMeter{
		rate: rate, full: float64(fs), coarse: c,
		low:    dsp.NewFilter(lp),
		mid:    dsp.NewFilter(append(hp, top...)),
		sweep:  dsp.NewFilter(sweep),
		lowEnv: held{decay: a}, midEnv: held{decay: a}, sweepEnv: held{decay: a},
	}
}

// Add takes the next block of mono sound.
func (m *OnsetMeter) Add(x []float32) {
	x = m.coarse.add(x)
	low, mid, sweep := m.room(len(x))
	m.low.Process(low, x)
	dsp.Process2(m.mid, mid, x, m.sweep, sweep, x)
	m.follow(low, mid, sweep)
}

// room returns space for a block's three bands.
func (m *OnsetMeter) room(n int) (low, mid, sweep []float32) {
	if len(m.scratch) < 3*n {
		m.scratch = make([]float32, 3*n)
	}
	return m.scratch[:n], m.scratch[n : 2*n], m.scratch[2*n : 3*n]
}

// follow takes the next block of the bands into the envelopes.
func (m *OnsetMeter) follow(low, mid, sweep []float32) {
	for at := 0; at < len(low); {
		k := len(m.lowEnv.env) - 1 // the millisecond being filled
		if m.frames+at == m.nextFrame {
			k++
			for _, h := range []*held{&m.lowEnv, &m.midEnv, &m.sweepEnv} {
				h.env = append(h.env, 0)
			}
			m.nextFrame = int(math.Ceil(float64(k+1) * onsetStep * m.rate))
		}
		end := min(len(low), m.nextFrame-m.frames)
		m.lowEnv.follow(low[at:end], k)
		m.midEnv.follow(mid[at:end], k)
		m.sweepEnv.follow(sweep[at:end], k)
		at = end
	}
	m.frames += len(low)
}

func (h *held) follow(x []float32, k int) {
	now, top, decay := h.now, float32(h.env[k]), float32(h.decay)
	for _, v := range x {
		now *= decay
		if v < 0 {
			v = -v
		}
		if v > now {
			now = v
			if now > top {
				top = now
			}
		}
	}
	h.now, h.env[k] = now, float64(max(top, now))
}

// Onsets returns the times in seconds at which hits begin: rises of the low-band energy,
// refined to the first sample over a tenth of the local peak. mono is at rate fs.
func Onsets(mono []float32, fs int) []float64 {
	m := NewOnsetMeter(fs)
	m.Add(mono)
	return m.Onsets(mono)
}

// Onsets returns the hits of all that was added, which is mono.
func (m *OnsetMeter) Onsets(mono []float32) []float64 {
	low, mid, sweep := m.lowEnv.env, m.midEnv.env, m.sweepEnv.env
	loudest := largest(low)
	if loudest < max(onsetLeast, onsetInBand*float64(peakOf(mono))) {
		return nil
	}
	loudestSweep := largest(sweep)
	floor := loudest * onsetFloor
	reach := int(onsetReach / onsetStep)
	rise := func(e []float64, i int) float64 {
		before := floor * 0.1
		if i >= reach {
			before = max(before, e[i-reach])
		}
		return dsp.DB(max(e[min(i+reach, len(e)-1)], floor*0.1) / before)
	}
	strength := make([]float64, len(low))
	for i := range low {
		after := low[min(i+2*reach, len(low)-1)]
		if after < floor {
			continue
		}
		l, m := rise(low, i), rise(mid, i)
		masked := func() bool { // by a bass
			return m >= onsetRiseUnder && rise(sweep, i) >= onsetRiseLow && sweep[min(i+2*reach, len(sweep)-1)] >= loudestSweep*onsetSweepFloor
		}
		// without a click it may be the beat of a tail with a bass, which comes back no louder
		beat := func() bool { return m < onsetSplash && after < largest(low[max(0, i-onsetBeat):max(0, i-reach)+1]) }
		if m >= onsetRiseMid && l >= onsetRiseWith || masked() || l >= onsetRiseLow && !beat() {
			strength[i] = max(l, 0) + max(m, 0)
		}
	}
	var hits []float64
	apart := int(onsetApart / onsetStep)
	for i, v := range strength {
		if v == 0 || v < largest(strength[max(0, i-apart/2):min(len(strength), i+apart/2+1)]) {
			continue
		}
		t := refine(mono, m.full, float64(i)*onsetStep)
		if len(hits) == 0 || t-hits[len(hits)-1] >= onsetApart {
			hits = append(hits, t)
		}
	}
	return hits
}

// refine moves a time to the first sample over a tenth of the local peak. What still rings
// from before the hit does not count as its beginning.
func refine(mono []float32, rate, at float64) float64 {
	from := max(0, int((at-0.014)*rate))
	to := min(len(mono), int((at+0.025)*rate))
	if from >= to {
		return at
	}
	before := peakOf(mono[max(0, from-int(0.012*rate)):from])
	limit := peakOf(mono[from:to]) * onsetTenth
	if before < limit {
		for i := from; i < to; i++ {
			if v := mono[i]; v > limit || -v > limit {
				return float64(i) / rate
			}
		}
		return at
	}
	// something low goes on through it: the change over a millisecond holds little of that
	k := int(0.001 * rate)
	change := make([]float32, to-from)
	for i := range change {
		if j := from + i - k; j >= 0 {
			change[i] = mono[from+i] - mono[j]
		}
	}
	lead := int(0.009 * rate)
	lead = min(lead, len(change))
	limit = max(peakOf(change)*onsetTenth, peakOf(change[:lead])*1.05)
	for i, v := range change {
		if v > limit || -v > limit {
			return float64(from+i) / rate
		}
	}
	return at
}
