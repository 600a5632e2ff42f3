package duck

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// How the free curve is found.
const (
	freeRounds = 4
	freeClose  = 0.01 // dB
)

// free finds the curve of any shape, step by step, with the least loss: a linear programme around the last curve,
// then as far toward its answer as the real filters follow. It returns the model around the curve and the curve.
func (t *trial) free(m *meter.HitMeter, r room, clearance float64, warm *[][]float64) (*model, []float64, []bool) {
	mod := t.around(r, nil)
	b, asked := mod.choose(clearance, warm)
	at := b.u
	u, loss := t.carried(mod, r, at, clearance)
	for _, k := range plain(m, r) {
		e := make([]float64, mod.steps())
		k.energy(e, mod, 1)
		if v, l := t.carried(mod, r, e, clearance); l < loss {
			u, loss = v, l
		}
	}
	for range freeRounds {
		mod = t.around(r, mod.duck(u))
		b = mod.solve(clearance, asked, warm)
		was := loss
		for _, part := range []float64{1, 0.4, 0.15} {
			mixed := make([]float64, len(u))
			for j := range mixed {
				mixed[j] = u[j] + part*(b.u[j]-u[j])
			}
			if v, l := t.carried(mod, r, mixed, clearance); l < loss {
				u, loss = v, l
				break
			}
		}
		if loss > was-freeClose {
			break
		}
	}
	return mod, u, asked
}

// duck draws u as a curve of as many points as there are steps.
func (m *model) duck(u []float64) *move.Duck {
	d := &move.Duck{School: move.CurveSchool, Follow: m.follow}
	for j, v := range u {
		d.Points = append(d.Points, move.Point{MS: (float64(m.first+j) + 0.5) * boundStep, DB: math.Min(0, dsp.PowerDB(v))})
	}
	d.Points[0].DB, d.Points[len(u)-1].DB = 0, 0
	return d
}

// carried scales a curve, in dB, to what reaches a clearance with the real filters at the low rate, within the cap;
// it returns it with its loss in dB, and where none reaches a loss beyond all, the less the nearer it comes.
func (t *trial) carried(m *model, r room, u []float64, clearance float64) ([]float64, float64) {
	least := 1.0
	for _, v := range u {
		least = math.Min(least, v)
	}
	top := math.Min(2, r.cap/math.Max(0.1, -dsp.PowerDB(least)))
	scaled := func(s float64) []float64 {
		out := make([]float64, len(u))
		for j, v := range u {
			out[j] = math.Pow(v, s)
		}
		return out
	}
	judge := func(s float64) judged { return t.exact(m.duck(scaled(s))) }
	hi := math.Min(1, top)
	j := judge(hi)
	for n := 0; n < 4 && j.clearance < clearance && hi < top; n++ {
		hi = math.Min(top, hi*(1.01+math.Min(0.5, (clearance-j.clearance)/8)))
		j = judge(hi)
	}
	if j.clearance < clearance {
		return scaled(hi), 100 + clearance - j.clearance
	}
	for range 4 { // back as far as may be
		if j.clearance < clearance+0.02 {
			break
		}
		s := hi * (1 - math.Min(0.3, (j.clearance-clearance)/10))
		if k := judge(s); k.clearance >= clearance {
			hi, j = s, k
		} else {
			break
		}
	}
	return scaled(hi), j.loss
}

// choose picks the hits that a clearance in dB is asked at, all but those that may miss it: the ones that cost
// most; and solves for these.
func (m *model) choose(clearance float64, warm *[][]float64) (bounded, []bool) {
	asked := make([]bool, len(m.e))
	n := 0
	for i := range asked {
		if asked[i] = m.kick[i] > 0; asked[i] {
			n++
		}
	}
	b := m.solve(clearance, asked, warm)
	ratio := make([]float64, len(m.e))
	for left := int((1-Share)*float64(n) + 1e-9); left > 0; {
		m.ratios(ratio, b.u, clearance)
		hard := func(i int) float64 { // what it costs to ask, then how near it is
			if !asked[i] {
				return -1
			}
			return b.prices[i] + 1e-3*ratio[i]
		}
		for range (left + 1) / 2 {
			most := -1
			for i := range asked {
				if asked[i] && (most < 0 || hard(i) > hard(most)) {
					most = i
				}
			}
			asked[most] = false
			left--
		}
		b = m.solve(clearance, asked, warm)
	}
	return b, asked
}

func clearances(f meter.HitFigures) []meter.Figure {
	c := make([]meter.Figure, len(f.Hits))
	for i, h := range f.Hits {
		c[i] = h.Clearance
	}
	return c
}

// lowered is a bass lowered by a duck at the hits that are judged.
type lowered struct {
	meter.Sound
	m *meter.HitMeter
	d *move.Duck
}

// apply lowers a bass by a duck at the hits that are judged.
func apply(m *meter.HitMeter, d *move.Duck, bass meter.Sound) meter.Sound { return lowered{bass, m, d} }

// Read gives it as it is lowered.
func (l lowered) Read(f func(x []float32) error) error {
	p, err := l.d.Processor(move.Place{Rate: l.m.Rate, BPM: 120, Hits: l.m.Hits})
	if err != nil {
		return err
	}
	var out []float32
	return l.Sound.Read(func(x []float32) error {
		out = append(out[:0], x...)
		p.Process(audio.Buffer{Rate: l.m.Rate, Ch: [][]float32{out}}, audio.Buffer{})
		return f(out)
	})
}

// TradeOff returns the least loss for targets from 0 to 20 dB, and the least that any curve has; it ends where
// none is reached with a depth of deepest.
func (t *trial) TradeOff(m *meter.HitMeter, goal Goal) []Trade {
	if t.low <= 0 {
		return nil
	}
	goal.MaxDepth = deepest
	r := t.room(m, goal)
	if r.end < 4*knotsApart {
		return nil
	}
	now := t.exact(&move.Duck{}).clearance
	mod := t.around(r, nil)
	var warm [][]float64
	var out []Trade
	var k knots
	for c := 0.0; c <= 20 && goal.stopped() == nil; c++ {
		if c <= now {
			out = append(out, Trade{Clearance: c})
			continue
		}
		b, asked := mod.choose(c, &warm)
		if b.over > 1e-3 {
			break
		}
		first := k.at == nil
		if first {
			k = tracing(mod, b.u, r)
		}
		goal.did(c / 20)
		starts := []knots{k, tracing(mod, b.u, r)}
		if first {
			starts = append(starts, plain(m, r)...)
		}
		next, cost := newPolish(mod, r, c, asked).best(starts, first)
		if cost > 1 {
			break
		}
		k = next
		mod = t.around(r, r.duck(k))
		b = mod.solve(c, asked, &warm)
		loss := t.exact(r.duck(k)).loss
		out = append(
			out,
			Trade{Clearance: c, Loss: math.Max(0, loss), Bound: math.Max(0, math.Min(loss, -dsp.PowerDB(math.Max(1e-9, 1-b.least)))), Depth: k.deepest()},
		)
	}
	return out
}
