package duck

import (
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/group"
	"mellowthump/core/move"
)

const (
	knotsMost  = 8    // points of a curve that a fit draws
	knotsApart = 0.2  // ms
	knotsFall  = 2.9  // dB/ms: a little under what may click, for rounding
	knotsRise  = 0.98 // of the fastest rise, likewise
	knotsRound = 0.01 // dB
)

// knots are a curve of straight segments in dB: at ms after the hit, depth dB down, the first and the last at 0.
type knots struct{ at, depth []float64 }

func (k knots) clone() knots { return knots{slices.Clone(k.at), slices.Clone(k.depth)} }

// deepest returns the largest depth.
func (k knots) deepest() float64 { return slices.Max(k.depth) }

// duck draws the curve with its depths times a scale.
func (k knots) duck(scale float64) *move.Duck {
	d := &move.Duck{School: move.CurveSchool}
	for i := range k.at {
		p := move.Point{MS: figure.Tenth(k.at[i]), DB: -math.Round(k.depth[i]*scale/knotsRound) * knotsRound}
		if p.DB == 0 {
			p.DB = 0 // no minus zero
		}
		d.Points = append(d.Points, p)
	}
	return d
}

// fits reports whether the curve keeps the rules within a room at a scale.
func (k knots) fits(r room, scale float64) bool {
	last := len(k.at) - 1
	if k.at[last] > r.end || k.at[0] < -boundPre-8 || r.late && k.at[0] < 0 || k.deepest()*scale > r.cap+1e-9 {
		return false
	}
	for i := 1; i <= last; i++ {
		gap, by := k.at[i]-k.at[i-1], k.depth[i]-k.depth[i-1]
		if gap < knotsApart || k.depth[i] < 0 || by*scale > knotsFall*gap || -by*scale > knotsRise*r.rise*gap+1e-9 {
			return false
		}
	}
	return k.at[last]-k.at[k.lastDeep()] >= r.back && k.soon(r, scale)
}

// soon reports whether the curve can be back before the closest hits, where its way back follows them.
func (k knots) soon(r room, scale float64) bool {
	if r.near <= 0 {
		return true
	}
	d := k.duck(scale) // rounded, as it will be
	d.Follow = true
	from, by := d.Squeeze(r.near + letGo)
	_, end := d.Span()
	return from+(end-from)*by <= r.near+1e-9
}

const knotDeep = move.DeepNear

// lastDeep is the last of the deepest points.
func (k knots) lastDeep() int {
	top, at := k.deepest(), 0
	for i, d := range k.depth {
		if d >= top-knotDeep {
			at = i
		}
	}
	return at
}

// steepest returns the scale at which a segment of the curve is as steep as may be, down or back.
func (k knots) steepest(fall, rise float64) float64 {
	scale := math.Inf(1)
	for i := 1; i < len(k.at); i++ {
		if by := k.depth[i] - k.depth[i-1]; by > 0 {
			scale = math.Min(scale, fall*(k.at[i]-k.at[i-1])/by)
		} else if by < 0 {
			scale = math.Min(scale, rise*(k.at[i]-k.at[i-1])/-by)
		}
	}
	return scale
}

// energy sets u, on a model's steps, of the curve at a scale.
func (k knots) energy(u []float64, m *model, scale float64) {
	s := 0
	for j := range u {
		t := (float64(m.first+j) + 0.5) * boundStep
		for s+1 < len(k.at)-1 && t >= k.at[s+1] {
			s++
		}
		u[j] = 1
		if t > k.at[0] && t < k.at[len(k.at)-1] {
			d := k.depth[s] + (k.depth[s+1]-k.depth[s])*(t-k.at[s])/(k.at[s+1]-k.at[s])
			g := float64(dsp.LevelGain(-d * scale))
			u[j] = g * g
		}
	}
}

// tracing turns what a linear programme says into points: those that tell it best.
// Long because it is one algorithm: what it has cut so far decides where it cuts next.
func tracing(m *model, u []float64, r room) knots {
	n := len(u)
	depth := make([]float64, n)
	for j := range u {
		depth[j] = -dsp.PowerDB(u[j])
	}
	bottom := 0 // and a single valley of it
	for j := range depth {
		if depth[j] > depth[bottom] {
			bottom = j
		}
	}
	for j := 1; j <= bottom; j++ {
		depth[j] = math.Max(depth[j], depth[j-1])
	}
	for j := n - 2; j >= bottom; j-- {
		depth[j] = math.Max(depth[j], depth[j+1])
	}
	at := func(j int) float64 { return (float64(m.first+j) + 0.5) * boundStep }
	from, to := 0, n-1
	for from < n-2 && depth[from+1] < 0.05 {
		from++
	}
	for to > from+1 && depth[to-1] < 0.05 {
		to--
	}
	chosen := []int{from, to}
	for len(chosen) < knotsMost {
		worst, where := 0.0, -1
		for c := 1; c < len(chosen); c++ {
			a, b := chosen[c-1], chosen[c]
			da, db := depth[a], depth[b]
			if c == 1 {
				da = 0
			}
			if c == len(chosen)-1 {
				db = 0
			}
			for j := a + 1; j < b; j++ {
				want := da + (db-da)*float64(j-a)/float64(b-a)
				if e := math.Abs(want-depth[j]) * float64(b-a); e > worst {
					worst, where = e, j
				}
			}
		}
		if where < 0 || worst < 0.05 {
			break
		}
		chosen = append(chosen, where)
		slices.Sort(chosen)
	}
	var k knots
	for c, j := range chosen {
		d := depth[j]
		if c == 0 || c == len(chosen)-1 {
			d = 0
		}
		k.at, k.depth = append(k.at, at(j)), append(k.depth, d)
	}
	if len(k.at) == 2 {
		k.at, k.depth = []float64{k.at[0], (k.at[0] + k.at[1]) / 2, k.at[1]}, []float64{0, 0.1, 0}
	}
	return k.ruly(r)
}

// ruly bends a curve to the rules, from its deepest point to both sides.
func (k knots) ruly(r room) knots {
	last := len(k.at) - 1
	k.at[last] = math.Min(k.at[last], r.end)
	if r.late {
		k.at[0] = math.Max(k.at[0], 0)
	}
	for i := 1; i <= last; i++ {
		k.at[i] = math.Max(k.at[i], k.at[i-1]+knotsApart)
	}
	for i := last; i >= 0 && (i == last && k.at[i] > r.end || i < last && k.at[i] > k.at[i+1]-knotsApart); i-- {
		k.at[i] = r.end
		if i < last {
			k.at[i] = k.at[i+1] - knotsApart
		}
	}
	for i := 1; i <= last; i++ { // down no faster than may be
		k.depth[i] = math.Min(k.depth[i], k.depth[i-1]+knotsFall*(k.at[i]-k.at[i-1]))
	}
	for i := last - 1; i >= 0; i-- { // and back
		k.depth[i] = math.Min(k.depth[i], k.depth[i+1]+knotsRise*r.rise*(k.at[i+1]-k.at[i]))
	}
	// and not too soon: what is too near the end is a little less deep
	for range last {
		enough := k.at[last]-k.at[k.lastDeep()] >= r.back
		if enough && k.soon(r, 1) || k.deepest() == 0 {
			break
		}
		if i := k.lastDeep(); !enough && k.at[last] < r.end {
			k.at[last] = math.Min(r.end, k.at[i]+r.back)
		} else if i > 1 {
			k.depth[i] = math.Max(0, k.deepest()-1.5*knotDeep)
		} else {
			k.at[i] = math.Max(k.at[0]+knotsApart, math.Min(k.at[i]-1, k.at[last]-r.back))
		}
	}
	return k
}

// polish moves points, first far, then finely, as long as that loses less for the same clearance. It works on a
// model; the scale that comes with the curve reaches the clearance there, where reached says so.
type polish struct {
	m         *model
	r         room
	clearance float64
	asked     []bool
	u         []float64
	ratio     []float64
	near      []int // the hits that may become the worst; nil: all that are asked
}

// best polishes curves and returns the one with the least loss.
func (p *polish) best(starts []knots, coarse bool) (best knots, least float64) {
	found, costs := make([]knots, len(starts)), make([]float64, len(starts))
	group.All(len(starts), func(i int) {
		own := newPolish(p.m, p.r, p.clearance, p.asked)
		found[i], costs[i], _ = own.run(starts[i].clone(), coarse)
	})
	least = math.Inf(1)
	for i, cost := range costs {
		if cost < least {
			best, least = found[i], cost
		}
	}
	return best, least
}

// lossDB is a share of the energy that is lost, in dB.
func lossDB(share float64) float64 { return -dsp.PowerDB(math.Max(1e-9, 1-share)) }

// knotSame is how far a point may lie off the line between its neighbours to be left out, dB.
const knotSame = 0.06

// pruned leaves out points that say nothing.
func (k knots) pruned(r room) knots {
	was := k.clone()
	for i := 1; i < len(k.at)-1 && len(k.at) > 3; {
		a, b := i-1, i+1
		line := k.depth[a] + (k.depth[b]-k.depth[a])*(k.at[i]-k.at[a])/(k.at[b]-k.at[a])
		if math.Abs(line-k.depth[i]) > knotSame {
			i++
			continue
		}
		k.at, k.depth = slices.Delete(k.at, i, i+1), slices.Delete(k.depth, i, i+1)
	}
	for len(k.at) > 3 && k.depth[len(k.at)-2] == 0 {
		k.at, k.depth = k.at[:len(k.at)-1], k.depth[:len(k.at)-1]
	}
	for len(k.at) > 3 && k.depth[1] == 0 {
		k.at, k.depth = k.at[1:], k.depth[1:]
	}
	if !k.fits(r, 1) {
		return was
	}
	return k
}

// scaled deepens a curve as far as the rules let each of its points.
func (k knots) scaled(by float64, r room) knots {
	c := k.clone()
	for i := range c.depth {
		c.depth[i] = math.Min(r.cap, c.depth[i]*by)
	}
	return c.ruly(r)
}

// valley reports whether a curve goes down once and comes back. Others would lose less yet, up to half a dB on played
// basses: by going up and down within a hit, in step with the bass's own period, which is heard as a buzz.
func (k knots) valley() bool {
	back := false
	for i := 1; i < len(k.depth); i++ {
		if k.depth[i] < k.depth[i-1] {
			back = true
		} else if back && k.depth[i] > k.depth[i-1] {
			return false
		}
	}
	return true
}

func newPolish(m *model, r room, clearance float64, asked []bool) *polish {
	return &polish{m: m, r: r, clearance: clearance, asked: asked, u: make([]float64, m.steps()), ratio: make([]float64, len(m.e))}
}

// worst is how much of the bass there is at the worst of the asked hits, against what may be.
func (p *polish) worst(k knots, scale float64) float64 {
	k.energy(p.u, p.m, scale)
	w := 0.0
	if p.near != nil {
		less := dsp.Gain(-p.clearance)
		less *= less
		for _, i := range p.near {
			w = math.Max(w, p.m.energy(i, p.u)/(p.m.kick[i]*less))
		}
		return w
	}
	p.m.ratios(p.ratio, p.u, p.clearance)
	for i, v := range p.ratio {
		if p.asked[i] {
			w = math.Max(w, v)
		}
	}
	return w
}

// nearWorst is how near to the worst hit others are that polishing may make the worst.
const nearWorst = 0.8

// closeIn chooses the hits to look at while a curve is polished.
func (p *polish) closeIn(k knots, scale float64) {
	p.near = nil
	w := p.worst(k, scale)
	for i, v := range p.ratio {
		if p.asked[i] && v >= nearWorst*w {
			p.near = append(p.near, i)
		}
	}
}

// scale returns the least scale with which a curve reaches the clearance and what it loses then; where it does not
// within its cap, the largest one and more than 1.
func (p *polish) scale(k knots) (scale, cost float64) {
	top := p.r.cap / k.deepest()
	top = math.Min(top, k.steepest(knotsFall, knotsRise*p.r.rise))
	over := p.worst(k, top)
	if over > 1 {
		return top, 1 + over
	}
	lo, hi, flo, fhi := 0.0, top, math.Inf(1), math.Log(over)
	for range 14 {
		mid := (lo + hi) / 2
		if !math.IsInf(flo, 1) { // by interpolation: in decibels it goes nearly straight
			mid = lo + (hi-lo)*math.Min(0.95, math.Max(0.05, flo/(flo-fhi)))
		} else if g := math.Min(1, top); lo == 0 && g < top {
			mid = math.Min(g, (lo+hi)/2)
		}
		f := math.Log(p.worst(k, mid))
		if f <= 0 {
			hi, fhi = mid, f
		} else {
			lo, flo = mid, f
		}
		if hi-lo < 1e-4*hi || fhi > -2e-4 {
			break
		}
	}
	k.energy(p.u, p.m, hi)
	return hi, p.m.lost(p.u)
}

// run polishes a curve and returns it with its depths as they reach the clearance, what it loses, and whether it
// does.
func (p *polish) run(k knots, coarse bool) (knots, float64, bool) {
	scale, cost := p.scale(k)
	if !k.fits(p.r, scale) {
		k = k.ruly(p.r)
		if scale, cost = p.scale(k); !k.fits(p.r, scale) {
			return k, math.Inf(1), false
		}
	}
	p.closeIn(k, scale)
	try := func(c knots) bool {
		s, v := 1.0, math.Inf(1)
		if c.fits(p.r, 1e-3) && c.valley() {
			if s, v = p.scale(c); !c.fits(p.r, s) {
				return false
			}
		}
		if v < cost-1e-7 {
			k, scale, cost = c, s, v
			return true
		}
		return false
	}
	steps := [][2]float64{{6, 1.5}, {3, 0.7}, {1.5, 0.3}, {0.6, 0.12}, {0.2, 0.05}}
	if !coarse {
		steps = steps[2:]
	}
	for _, step := range steps {
		for range 4 {
			moved := false
			for i := range k.at {
				for _, sign := range []float64{-1, 1} {
					c := k.clone()
					c.at[i] += sign * step[0]
					moved = try(c) || moved
					if i == 0 || i == len(k.at)-1 {
						continue
					}
					c = k.clone()
					c.depth[i] = math.Max(0, c.depth[i]+sign*step[1])
					moved = try(c) || moved
					c = k.clone() // along with the next one
					c.at[i] += sign * step[0]
					c.at[i+1] += sign * step[0]
					moved = try(c) || moved
				}
			}
			if !moved {
				break
			}
		}
		p.near = nil // the others have the last word
		scale, cost = p.scale(k)
		p.closeIn(k, scale)
	}
	p.near = nil
	for i := range k.depth {
		k.depth[i] *= scale
	}
	return k, cost, cost <= 1
}
