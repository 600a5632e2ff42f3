package meter

import (
	"fmt"
	"math"

	"mellowthump/core/dsp"
)

const (
	onsetStep       = 0.001  // s, resolution of the envelopes
	onsetRelease    = 0.040  // s, decay of the held envelope: over a half period of a sub bass
	onsetReach      = 8      // steps over which a rise is measured
	onsetRiseLow    = 6.0    // dB, rise of the low band alone that makes a hit
	onsetRiseMid    = 6.0    // dB, rise of the knock that makes one with
	onsetRiseWith   = 2.0    // dB in the low band
	onsetRiseClick  = 10.5   // dB, rise of the click that makes one where a tail covers the low band
	onsetCut        = 20.0   // dB, rise of the click that makes one where the low band is cut off
	onsetSplash     = 4.0    // dB, rise of the click that any hit has
	onsetAfter      = 6      // steps in which a click comes
	onsetBefore     = 10     // steps before it that it is held against
	onsetFresh      = 0.1    // -20 dB: where the low band was so far under what comes, that is new in any case
	onsetFloor      = 0.0316 // -30 dB under the loudest: quieter rises are room, not hits
	onsetLeast      = 1e-5   // -100 dBFS: nothing quieter is a hit
	onsetInBand     = 0.003  // -50 dB under the file's peak: a low band under it is leakage
	onsetApart      = 45     // steps between two hits
	onsetTenth      = 0.1    // of the local peak: where the hit is said to begin
	onsetClickFloor = 0.002  // -54 dB under the loudest click: softer ones are none
	onsetLow        = 150.0  // Hz, top of the low band
	onsetMid        = 300.0  // Hz, from there on the knock
	onsetClick      = 1000.0 // Hz, from there on the click
)

// Onset is a hit with what speaks for it.
type Onset struct {
	At    float64 `json:"at_s"`
	Under Figure  `json:"under_db"` // how far its low band stays under that of the hits around it; 0: not
	Click Figure  `json:"click_db"` // rise of the sound over 1 kHz
	Mute  bool    `json:"mute"`     // it has no click where the file's loud hits have one
	Like  Figure  `json:"like"`     // its low band's shape against that of the file's loud hits, 1: as like as they are among themselves

	fresh   Figure    // low energy that what rang before does not explain, dB of all that is there
	level   float64   // of the low band that is new, amplitude
	shape   []float64 // of it
	splash  float64   // of the click, amplitude
	rest    float64   // of what was over 1 kHz before it
	covered bool      // its beginning, by a tail
}

// QuietHits is how far a hit may stay under those around it before it is doubtful, dB, where nothing else is
// said (design, 3-sound).
const QuietHits = 12.0

const (
	doubtUnder  = 6.0  // dB under the others, from which on a hit has to be like them
	doubtLike   = 0.8  // and how like
	doubtClick  = 0.2  // -14 dB: of the click that a hit of its level has, softer is none
	doubtStands = 3.0  // times what was there before: a click that would not go under in it
	doubtOthers = 15.0 // dB: a rise of the loud hits' click, from which on a hit without one is doubtful
)

// Doubt says why a hit is doubtful; empty where it is not. quiet is how far it may stay under those around it, dB.
func (o Onset) Doubt(quiet float64) string {
	switch {
	case float64(o.Under) > quiet:
		return fmt.Sprintf("%.0f dB under the hits around it", float64(o.Under))
	case o.Mute:
		return "without the click of the others"
	case o.Under > doubtUnder && o.Like < doubtLike:
		return fmt.Sprintf("%.0f dB under the hits around it, and unlike them", float64(o.Under))
	}
	return ""
}

// Confidence is how sure it is that a hit is one of the drum that the file is about, 0 to 1.
func (o Onset) Confidence() float64 {
	c := max(0.1, min(1, 1.25-float64(o.Under)/24))
	if o.Mute {
		c *= 0.5
	}
	if o.Under > doubtUnder {
		c *= max(0.1, min(1, float64(o.Like)/doubtLike))
	}
	return math.Round(100*c) / 100
}

// Sure returns the times of the hits that are not doubtful, s.
func Sure(o []Onset, quiet float64) []float64 {
	t := []float64{}
	for _, h := range o {
		if h.Doubt(quiet) == "" {
			t = append(t, h.At)
		}
	}
	return t
}

// OnsetMeter follows the envelopes in which hits are looked for, block by block.
type OnsetMeter struct {
	rate, full float64 // Hz, of the envelopes' source and of the sound
	coarse     coarse
	low        *dsp.Filter
	mid, click *dsp.Filter
	deep       *dsp.Filter
	lowEnv     held
	midEnv     held
	clickEnv   held
	innovation innovation
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
	mid, _ := dsp.ButterworthHighpass(4, onsetMid, rate)
	click, _ := dsp.ButterworthHighpass(4, onsetClick, rate)
	deep, _ := dsp.ButterworthLowpass(4, deepTop, rate)
	a := math.Exp(-1 / (onsetRelease * rate))
	return &OnsetMeter{
		rate: rate, full: float64(fs), coarse: c,
		low: dsp.NewFilter(lp), mid: dsp.NewFilter(mid), click: dsp.NewFilter(click), deep: dsp.NewFilter(deep),
		lowEnv: held{decay: a}, midEnv: held{decay: a}, // the click is short: it is not held
		innovation: newInnovation(rate),
	}
}

// Add takes the next block of mono sound.
func (m *OnsetMeter) Add(x []float32) {
	x = m.coarse.add(x)
	b := m.room(len(x))
	dsp.Process2(m.mid, b.mid, x, m.click, b.click, x)
	m.low.Process(b.low, x)
	m.deep.Process(b.deep, x)
	m.follow(b)
}

// onsetBands are a block's bands.
type onsetBands struct{ low, mid, click, deep []float32 }

// room returns space for a block's bands.
func (m *OnsetMeter) room(n int) onsetBands {
	if len(m.scratch) < 4*n {
		m.scratch = make([]float32, 4*n)
	}
	s := m.scratch
	return onsetBands{s[:n], s[n : 2*n], s[2*n : 3*n], s[3*n : 4*n]}
}

// follow takes the next block of the bands into the envelopes.
func (m *OnsetMeter) follow(b onsetBands) {
	m.innovation.pick(b.deep)
	for at := 0; at < len(b.low); {
		k := len(m.lowEnv.env) - 1 // the millisecond being filled
		if m.frames+at == m.nextFrame {
			k++
			for _, h := range []*held{&m.lowEnv, &m.midEnv, &m.clickEnv} {
				h.env = append(h.env, 0)
			}
			m.nextFrame = int(math.Ceil(float64(k+1) * onsetStep * m.rate))
		}
		end := min(len(b.low), m.nextFrame-m.frames)
		m.lowEnv.follow(b.low[at:end], k)
		m.midEnv.follow(b.mid[at:end], k)
		m.clickEnv.env[k] = max(m.clickEnv.env[k], float64(peakOf(b.click[at:end])))
		at = end
	}
	m.frames += len(b.low)
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

// Onsets returns the times in seconds at which hits begin that are no doubtful ones. mono is at rate fs.
func Onsets(mono []float32, fs int) []float64 {
	m := NewOnsetMeter(fs)
	m.Add(mono)
	return Sure(m.Onsets(mono), QuietHits)
}

// Onsets returns the hits of all that was added, which is mono: places where the low band rises, or the
// click where a tail covers the low band, and where the low band is not what it would be without a hit (see
// innovation). Each is refined to the first sample over a tenth of the local peak.
// Long because it is one pass: a hit is judged beside those before it.
func (m *OnsetMeter) Onsets(mono []float32) []Onset {
	low, mid, click := m.lowEnv.env, m.midEnv.env, m.clickEnv.env
	loudest := largest(low)
	if loudest < max(onsetLeast, onsetInBand*float64(peakOf(mono))) {
		return nil
	}
	floor := loudest * onsetFloor
	clickFloor := max(floor*0.01, largest(click)*onsetClickFloor)
	rise := func(e []float64, i int) float64 {
		before := floor * 0.1
		if i >= onsetReach {
			before = max(before, e[i-onsetReach])
		}
		return dsp.DB(max(e[min(i+onsetReach, len(e)-1)], floor*0.1) / before)
	}
	splash := func(i int) float64 { // of the click
		after := max(clickFloor, largest(click[i:min(len(click), i+onsetAfter)]))
		return dsp.DB(after / max(clickFloor, largest(click[max(0, i-onsetBefore):max(0, i-1)])))
	}
	strength := make([]float64, len(low))
	for i := range low {
		if low[min(i+2*onsetReach, len(low)-1)] < floor {
			continue
		}
		l, m, c := rise(low, i), rise(mid, i), splash(i)
		if m >= onsetRiseMid && l >= onsetRiseWith || c >= onsetRiseClick || l >= onsetRiseLow {
			strength[i] = max(l, 0) + max(m, 0) + max(c, 0)
		}
	}
	var hits []Onset
	var steps []int
	last := -onsetApart // step of the hit before
	top, upTo := 0.0, 0 // the largest of the low band since, up to a step
	for i, v := range strength {
		if v == 0 || i-last < onsetApart || v < largest(strength[max(0, i-onsetApart/2):min(len(strength), i+onsetApart/2+1)]) {
			continue
		}
		o := Onset{Click: Figure(splash(i)), rest: largest(click[max(0, i-onsetBefore):max(0, i-1)]), splash: largest(click[i:min(len(click), i+onsetAfter)])}
		after, before := low[min(i+2*onsetReach, len(low)-1)], low[max(0, i-onsetReach)]
		if i > onsetReach && before > after*onsetFresh {
			for ; upTo <= i-onsetReach; upTo++ {
				top = max(top, low[upTo])
			}
			// without a click it may be the beat of two modes, which comes back no louder
			if o.Click < onsetSplash && after < top {
				continue
			}
			var fell bool
			if o.fresh, fell = m.innovation.at(i, last); fell && o.Click < onsetCut {
				continue // it dies away sooner than it would have
			}
			if o.fresh < innovationLeast && o.Click < onsetRiseClick || o.fresh < innovationClick {
				continue
			}
		}
		hits = append(hits, o)
		steps = append(steps, i)
		last, top, upTo = i, 0, i
	}
	m.refine(mono, hits, steps)
	m.compare(hits, steps)
	return hits
}

const (
	likeOver  = 0.050 // s of the low band that are compared
	likeShift = 2     // samples of it by which two hits may be shifted against each other
	likeLoud  = 0.5   // -6 dB of the loudest: hits that tell what the file's hits are like
	likeMore  = 1.2   // times the energy that is there: what was told ahead is worse than nothing
	likeMost  = 24    // of them that are compared with each other
)

// compare sets how far hits are under their neighbours, and how much they are like the file's loud ones.
// Long because it is one comparison of many features, in order.
func (m *OnsetMeter) compare(hits []Onset, steps []int) {
	last, loudest := -onsetApart, 0.0
	for k := range hits {
		o := &hits[k]
		v := &m.innovation
		n := v.frame(o.At+v.late) - 1
		off, is, _ := v.ahead(n, v.frame(likeOver), last)
		if off == nil { // too soon after the hit before to take that away
			for _, x := range v.x[min(n, len(v.x)):min(n+v.frame(likeOver), len(v.x))] {
				is = append(is, float64(x))
			}
		}
		o.shape = off
		if off == nil || sumSquares(off) > likeMore*sumSquares(is) {
			o.shape = is
		}
		o.level = min(most(o.shape), most(is))
		loudest = max(loudest, o.level)
		last = steps[k]
	}
	var loud []int
	for k := range hits {
		if hits[k].level >= loudest*likeLoud && len(loud) < likeMost {
			loud = append(loud, k)
		}
	}
	best, pattern := -1.0, -1
	for _, i := range loud {
		sum := 0.0
		for _, j := range loud {
			sum += alike(hits[i].shape, hits[j].shape)
		}
		if sum > best {
			best, pattern = sum, i
		}
	}
	if pattern < 0 {
		return // nothing here is a number
	}
	var clicks, parts []Figure
	for _, i := range loud {
		clicks, parts = append(clicks, hits[i].Click), append(parts, Figure(hits[i].splash/hits[i].level))
	}
	clicking, part := Median(clicks) >= doubtOthers, float64(Median(parts))
	for k := range hits {
		o := &hits[k] // its own click would stand out of what was there before it
		o.Mute = clicking && o.splash < max(doubtClick*part*o.level, o.rest) && part*o.level > doubtStands*o.rest
		o.Like = Figure(alike(o.shape, hits[pattern].shape))
	}
	var likes []Figure
	for _, i := range loud {
		likes = append(likes, hits[i].Like)
	}
	usual := max(doubtLike, Median(likes))
	for k := range hits {
		hits[k].Like = min(1, hits[k].Like/usual)
	}
	for k := range hits {
		hits[k].Under = Figure(math.Max(0, dsp.DB(around(hits, k)/math.Max(hits[k].level, 1e-9))))
	}
}

func most(x []float64) float64 {
	m := 0.0
	for _, v := range x {
		m = max(m, v, -v)
	}
	return m
}

// around is the level of the hits around one that are like the file's loud ones: of the loudest on each side
// the softer.
func around(hits []Onset, k int) float64 {
	const near, seconds = 4, 3.0
	side := func(step int) float64 {
		most := 0.0
		for i, n := k+step, 0; i >= 0 && i < len(hits) && n < near && math.Abs(hits[i].At-hits[k].At) < seconds; i += step {
			if hits[i].Like >= doubtLike {
				most = max(most, hits[i].level)
				n++
			}
		}
		return most
	}
	a, b := side(-1), side(1)
	if a == 0 || b == 0 {
		return max(a, b)
	}
	return min(a, b)
}

// alike is the largest correlation of two shapes, shifted by some samples at the most.
func alike(a, b []float64) float64 {
	best := 0.0
	for d := -likeShift; d <= likeShift; d++ {
		var ab, aa, bb float64
		for i := range a {
			if j := i + d; j >= 0 && j < len(b) {
				ab, aa, bb = ab+a[i]*b[j], aa+a[i]*a[i], bb+b[j]*b[j]
			}
		}
		if aa > 0 && bb > 0 {
			best = max(best, ab/math.Sqrt(aa*bb))
		}
	}
	return best
}
