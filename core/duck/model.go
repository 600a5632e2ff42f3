package duck

import (
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

const (
	modelRing = 0.15 // s for which the home band rings, and hears back
	modelSoft = 1e-6 // -60 dB: the least u that a model is taken around
)

// room is what a curve may do: how deep, how soon back, how fast.
type room struct {
	cap  float64 // dB
	end  float64 // ms after the hit at which the gain is back at the latest
	rise float64 // dB/ms, the fastest that it comes back
	back float64 // ms from its last deepest point on that it takes at the least: a period of the kick's fundamental
	late bool    // it may not begin before the hit
	near float64 // ms after the hit at which the shortest way back must be over: the closest hits; 0: the way back is the same for all
}

// duck is what a curve is where it may do that.
func (r room) duck(k knots) *move.Duck {
	d := k.duck(1)
	d.Follow = r.near > 0
	return d
}

// roomDepth is what a curve may come back by in a period of the kick's fundamental, dB: the usual cap, or the one
// that is asked. A curve that comes back faster thumps; one of less depth takes as long, ever more slowly.
const roomDepth = 12.0

// room returns what a fit may do within a cap.
func (t *trial) room(m *meter.HitMeter, goal Goal) room {
	toMS := 1000 / float64(m.Rate)
	period := 1000 / m.HomeHz
	r := room{cap: goal.MaxDepth, rise: math.Min(move.ClickDB, math.Max(roomDepth, goal.MaxDepth)/period), back: period, late: goal.NoAhead}
	for i := range m.Windows {
		r.end = math.Max(r.end, float64(m.Windows[i])*toMS)
	}
	r.end += 1.5*period + boundPre
	near := math.Inf(1)
	for i := range m.Hits {
		near = math.Min(near, pair.Gap(m, i)-letGo)
	}
	if goal.Follow && near < r.end {
		r.near = near
	} else {
		r.end = math.Min(r.end, near)
	}
	return r
}

// around returns the model of the trial's bass around a curve; nil is none.
// Long because it is one model: its tables are filled in one pass over the hits.
func (t *trial) around(r room, d *move.Duck) *model {
	perStep := boundStep * t.fs / 1000
	m := &model{follow: r.near > 0, first: -int(boundPre / boundStep), least: r.cap, rise: r.rise, kick: slices.Clone(t.kick)}
	n := int(math.Ceil(r.end/boundStep)) - m.first
	n = max(n, 2-m.first)
	if r.late {
		m.wait = 1 - m.first
	}
	m.c = make([]float64, n)
	u, x := make([]float64, n), t.bass
	home, wide := t.home, t.wide
	for j := range u {
		u[j] = 1
		if d != nil {
			u[j] = math.Max(modelSoft, math.Pow(10, d.GainDB((float64(m.first+j)+0.5)*boundStep)/10))
		}
	}
	if d != nil {
		x = t.ducked(d)
		home, wide = make([]float32, len(x)), make([]float32, len(x))
		dsp.Process2(dsp.NewFilter(t.homeSOS), home, x, dsp.NewFilter(t.wideSOS), wide, x)
	}
	// what the energy of the wide band owes to each sample: the filter run backwards over its own output
	owes := make([]float32, len(x))
	after := 0.0
	for k := t.from; k < t.to; k++ {
		owes[len(x)-1-k] = wide[k]
		after += float64(wide[k]) * float64(wide[k])
	}
	dsp.NewFilter(t.wideSOS).Process(owes, owes)
	turn, over := math.Min(r.near/2, r.end/2), r.end // where the way back begins and ends, of no curve yet
	if d != nil && r.near > 0 {
		turn, _ = d.Back()
		_, over = d.Span()
	}
	ring := int(modelRing * t.fs)
	before := int(boundPre * t.fs / 1000)
	work := make([]float32, 0, len(x))
	for i, hit := range t.hits {
		end := min(hit+t.windows[i], len(x))
		from := max(0, hit-before-ring)
		work = work[:max(0, end-from)]
		clear(work)
		energy := 0.0
		for k := hit; k < end; k++ { // backwards
			work[end-1-k] = home[k]
			energy += float64(home[k]) * float64(home[k])
		}
		dsp.NewFilter(t.homeSOS).Process(work, work)
		e := make([]float64, n)
		last := len(x)
		if i+1 < len(t.hits) { // the next duck's own part is counted there
			last = t.hits[i+1] - before
		}
		frame := func(j int) int { return hit + int(math.Round(float64(m.first+j)*perStep)) }
		if need := t.gaps[i] - letGo; r.near > 0 && need < over { // what stands after the turn stands closer to it here
			by := math.Max(0.02, (need-turn)/(over-turn))
			frame = func(j int) int {
				ms := float64(m.first+j) * boundStep
				if ms > over {
					ms += (turn - over) * (1 - by)
				} else if ms > turn {
					ms = turn + (ms-turn)*by
				}
				return hit + int(math.Round(ms*t.fs/1000))
			}
		}
		for j := range e {
			a, b := frame(j), frame(j+1)
			for k := max(a, 0); k < min(b, last); k++ {
				v := float64(x[k])
				if k >= from && k < end {
					e[j] += v * float64(work[end-1-k])
				}
				m.c[j] += v * float64(owes[len(x)-1-k])
			}
			e[j] /= u[j]
			energy -= e[j] * u[j]
		}
		m.e, m.rest = append(m.e, e), append(m.rest, energy)
	}
	m.off = 1 - after/t.low
	for j := range m.c {
		m.c[j] /= u[j] * t.low
		m.off -= m.c[j] * (1 - u[j])
	}
	return m
}

// exact tries a curve with the real filters over the whole bass: the clearance that counts, and the loss.
func (t *trial) exact(d *move.Duck) judged {
	x := t.ducked(d)
	home, wide := make([]float32, len(x)), make([]float32, len(x))
	dsp.Process2(dsp.NewFilter(t.homeSOS), home, x, dsp.NewFilter(t.wideSOS), wide, x)
	clear := make([]meter.Figure, len(t.hits))
	for i, hit := range t.hits {
		clear[i] = meter.Clearance(t.kick[i], meter.Energy(home[min(hit, len(home)):min(hit+t.windows[i], len(home))]))
	}
	return judged{worst(clear), -dsp.PowerDB(math.Max(1e-9, meter.Energy(wide[t.from:t.to])/t.low))}
}

// ducked is the trial's bass with a curve at every hit; where two overlap the lower gain counts.
func (t *trial) ducked(d *move.Duck) []float32 {
	g := make([]float32, len(t.bass))
	for i := range g {
		g[i] = 1
	}
	from, to := d.Span()
	first, last := int(math.Floor(from*t.fs/1000)), int(math.Ceil(to*t.fs/1000))
	all := make([]float32, last-first+1)
	draw := func(one []float32, d *move.Duck) []float32 {
		for k := range one {
			one[k] = dsp.LevelGain(d.GainDB(1000 * float64(first+k) / t.fs))
		}
		return one
	}
	draw(all, d)
	for i, hit := range t.hits {
		one := all
		if c := d.For(t.gaps[i]); c != d {
			one = draw(make([]float32, len(all)), c)
		}
		for k, v := range one {
			if at := hit + first + k; at >= 0 && at < len(g) {
				g[at] = min(g[at], v)
			}
		}
	}
	for i, v := range t.bass {
		g[i] *= v
	}
	return g
}
