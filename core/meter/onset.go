package meter

import (
	"math"

	"mellowthump/core/dsp"
)

const (
	onsetStep     = 0.001  // s, resolution of the envelopes
	onsetRelease  = 0.040  // s, decay of the held envelope: over a half period of a sub bass
	onsetReach    = 0.008  // s over which a rise is measured
	onsetRiseLow  = 6.0    // dB, rise of the low band alone that makes a hit
	onsetRiseMid  = 6.0    // dB, rise of the click that makes one with
	onsetRiseWith = 2.0    // dB in the low band
	onsetFloor    = 0.0316 // -30 dB under the loudest: quieter rises are room, not hits
	onsetLeast    = 1e-5   // -100 dBFS: nothing quieter is a hit
	onsetInBand   = 0.003  // -50 dB under the file's peak: a low band under it is leakage
	onsetApart    = 0.045  // s between two hits
	onsetTenth    = 0.1    // of the local peak: where the hit is said to begin
	onsetLow      = 150.0  // Hz, top of the low band
	onsetMidLow   = 300.0  // Hz, the click's band
	onsetMidHigh  = 3000.0
)

// OnsetMeter follows the envelopes in which hits are looked for, block by block.
type OnsetMeter struct {
	rate      float64
	low, mid  *dsp.Filter
	lowEnv    held
	midEnv    held
	scratch   []float32
	frames    int
	nextFrame int
}

// held follows a magnitude with instant attack and slow release; it keeps the largest value
// of each millisecond.
type held struct {
	now, decay float32
	env        []float64
}

// NewOnsetMeter returns a meter for mono sound of that rate in Hz.
func NewOnsetMeter(fs int) *OnsetMeter {
	rate := float64(fs)
	lp, _ := dsp.ButterworthLowpass(2, onsetLow, rate) // the corners lie under any rate's half
	hp, _ := dsp.ButterworthHighpass(2, onsetMidLow, rate)
	top, _ := dsp.ButterworthLowpass(2, math.Min(onsetMidHigh, 0.4*rate), rate)
	a := float32(math.Exp(-1 / (onsetRelease * rate)))
	return &OnsetMeter{
		rate:   rate,
		low:    dsp.NewFilter(append(lp, dsp.Biquad{B0: 1})), // two sections, to run beside the other
		mid:    dsp.NewFilter(append(hp, top...)),
		lowEnv: held{decay: a}, midEnv: held{decay: a},
	}
}

// Add takes the next block of mono sound.
func (m *OnsetMeter) Add(x []float32) {
	low, mid := m.room(len(x))
	dsp.Process2(m.low, low, x, m.mid, mid, x)
	m.follow(low, mid)
}

// room returns space for a block's two bands.
func (m *OnsetMeter) room(n int) (low, mid []float32) {
	if len(m.scratch) < 2*n {
		m.scratch = make([]float32, 2*n)
	}
	return m.scratch[:n], m.scratch[len(m.scratch)/2:][:n]
}

// follow takes the next block of the two bands into the envelopes.
func (m *OnsetMeter) follow(low, mid []float32) {
	for at := 0; at < len(low); {
		k := len(m.lowEnv.env) - 1 // the millisecond being filled
		if m.frames+at == m.nextFrame {
			m.lowEnv.env = append(m.lowEnv.env, 0)
			m.midEnv.env = append(m.midEnv.env, 0)
			k++
			m.nextFrame = int(math.Ceil(float64(k+1) * onsetStep * m.rate))
		}
		end := min(len(low), m.nextFrame-m.frames)
		m.lowEnv.follow(low[at:end], k)
		m.midEnv.follow(mid[at:end], k)
		at = end
	}
	m.frames += len(low)
}

func (h *held) follow(x []float32, k int) {
	now, top, decay := h.now, float32(h.env[k]), h.decay
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
	rate, low, mid := m.rate, m.lowEnv.env, m.midEnv.env
	loudest := 0.0
	for _, v := range low {
		loudest = max(loudest, v)
	}
	if loudest < max(onsetLeast, onsetInBand*float64(peakOf(mono))) {
		return nil
	}
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
		if l >= onsetRiseLow || m >= onsetRiseMid && l >= onsetRiseWith {
			strength[i] = max(l, 0) + max(m, 0)
		}
	}
	var hits []float64
	apart := int(onsetApart / onsetStep)
	for i := 0; i < len(strength); i++ {
		if strength[i] == 0 {
			continue
		}
		best := i
		end := min(len(strength), i+apart)
		for j := i; j < end; j++ {
			if strength[j] > strength[best] {
				best = j
			}
		}
		t := refine(mono, rate, float64(best)*onsetStep)
		if len(hits) == 0 || t-hits[len(hits)-1] >= onsetApart {
			hits = append(hits, t)
		}
		i = max(end, best+apart/2) - 1
		for i+1 < len(strength) && strength[i+1] > 0 { // the rest of the same rise
			i++
			if i-best > apart {
				break
			}
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
	limit := max(peakOf(mono[from:to])*onsetTenth, before*1.05)
	for i := from; i < to; i++ {
		if v := mono[i]; v > limit || -v > limit {
			return float64(i) / rate
		}
	}
	return at
}
