package duck

import (
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/pair"
)

// The least loss that any curve can have, by a linear programme. With u = g squared on a grid of steps around every
// hit, the energy of the bass in the kick's octave over a hit's window, and that in 20-150 Hz over all, are linear
// in u to first order (exactly so at the curve around which they are taken). What a curve may do is linear in u too:
// no deeper than the cap is u >= 10^(-cap/10), a slope of so many dB a ms is a bound on u[j+1]/u[j], and being back
// before the next hit fixes the last steps. The programme is solved by column generation (Dantzig and Wolfe, Operations
// Research 8(1), 1960): its columns are curves, each the cheapest for some prices of the hits, found by dynamic
// programming over levels; the prices come from a revised simplex over the hits.
const (
	boundStep  = 2.0  // ms
	boundPre   = 12.0 // ms before the hit in which a curve may come down
	boundLevel = 0.1  // dB between the levels of the dynamic programme, or a 160th of the cap
	boundFall  = move.ClickDB
	boundBig   = 30.0 // price of missing a clearance; the whole bass is 1
	boundClose = 2e-4 // of the bass: the answer is as near as that to its bound
	boundMost  = 600  // pivots
)

// model is a bass on the grid, around some curve.
type model struct {
	first  int                    // step of the first column: a step j covers boundStep ms from (first+j) boundStep on
	e      [][]float64            // of each hit: energy in its home band that a step makes
	rest   []float64              // and what no step reaches
	kick   []float64              // its kick's energy
	c      []float64              // of each step: share of the energy in 20-150 Hz, over all hits
	off    float64                // share that is lost beside what the steps tell
	least  float64                // dB, the cap
	rise   float64                // dB/ms, the fastest a curve may come back
	follow bool                   // a curve's way back is shorter where the next hit is close
	known  map[*float64][]float64 // energies of curves, by their first step
	wait   int                    // steps at the start that stay at 0: where a curve may not begin before the hit
}

// steps is how many a model has.
func (m *model) steps() int { return len(m.c) }

// lost is the share of the energy in 20-150 Hz that a curve takes.
func (m *model) lost(u []float64) float64 {
	s := m.off
	for j, c := range m.c {
		s += c * (1 - u[j])
	}
	return s
}

// ratios sets how much of the bass there is at each hit against what a clearance in dB lets there be.
func (m *model) ratios(out, u []float64, clearance float64) {
	less := dsp.Gain(-clearance)
	less *= less
	for i := range m.e {
		out[i] = m.energy(i, u) / (m.kick[i] * less)
	}
}

// energy is that of the bass at a hit.
func (m *model) energy(hit int, u []float64) float64 {
	a, b := m.rest[hit], 0.0 // two sums that do not wait for each other
	e := m.e[hit][:len(u)]
	j := 0
	for ; j+1 < len(u); j += 2 {
		a += e[j] * u[j]
		b += e[j+1] * u[j+1]
	}
	if j < len(u) {
		a += e[j] * u[j]
	}
	return a + b
}

// energies are those of the bass at all hits; of a curve that is asked for again they are kept.
func (m *model) energies(u []float64) []float64 {
	if e := m.known[&u[0]]; e != nil {
		return e
	}
	if m.known == nil {
		m.known = map[*float64][]float64{}
	}
	e := make([]float64, len(m.e))
	for i := range e {
		e[i] = m.energy(i, u)
	}
	m.known[&u[0]] = e
	return e
}

// bounded is what a linear programme comes to.
type bounded struct {
	u      []float64
	lost   float64 // share of the bass, of u
	least  float64 // what no curve does with less, for the hits that are asked
	over   float64 // by how much the asked hits are missed at the most, as a part; 0: they are reached
	prices []float64
}

// solve finds the curve with the least loss that reaches a clearance in dB at the hits that are asked; where none
// does, the one that comes nearest. warm are curves to begin with, and gets the new ones.
// Long because it is one algorithm (column generation) whose steps share the programme.
func (m *model) solve(clearance float64, asked []bool, warm *[][]float64) bounded {
	n, less := m.steps(), dsp.Gain(-clearance)
	less *= less
	var rows []int
	for i := range m.e {
		if asked[i] && m.kick[i] > 0 {
			rows = append(rows, i)
		}
	}
	column := func(u []float64) ([]float64, float64) {
		a := make([]float64, len(rows)+1)
		e := m.energies(u)
		for k, i := range rows {
			a[k] = e[i] / (m.kick[i] * less)
		}
		a[len(rows)] = 1
		return a, m.lost(u)
	}
	flat := make([]float64, n)
	for j := range flat {
		flat[j] = 1
	}
	first, cost := column(flat)
	s := newSimplex(len(rows), first, cost)
	curves := map[int][]float64{s.flat: flat}
	for _, u := range *warm {
		a, cost := column(u)
		if s.enters(a, cost) {
			curves[s.pivot(a, cost)] = u
		}
	}
	out := bounded{least: math.Inf(-1)}
	weights := make([]float64, n)
	for range boundMost {
		if s.slacks() {
			continue
		}
		y := s.prices()
		for j := range weights {
			weights[j] = -m.c[j]
		}
		constant := m.off
		for j := range m.c {
			constant += m.c[j]
		}
		for k, i := range rows {
			p := -y[k] / (m.kick[i] * less)
			if p <= 0 {
				continue
			}
			constant += p*m.rest[i] + y[k]
			for j, v := range m.e[i] {
				weights[j] += p * v
			}
		}
		u := m.cheapest(weights)
		for j, v := range u {
			constant += weights[j] * v
		}
		out.least = math.Max(out.least, constant)
		a, cost := column(u)
		if !s.enters(a, cost) || s.value()-out.least < boundClose/10 {
			break
		}
		at := s.pivot(a, cost)
		if at < 0 {
			break
		}
		curves[at] = u
		*warm = append(*warm, u)
	}
	out.u = make([]float64, n)
	for id, part := range s.mix() {
		for j, v := range curves[id] {
			out.u[j] += part * v
		}
	}
	out.over, out.lost, out.prices = s.over(), m.lost(out.u), make([]float64, len(m.e))
	for k, p := range s.prices()[:len(rows)] {
		out.prices[rows[k]] = math.Max(0, -p)
	}
	return out
}

// cheapest returns the curve with the least sum of weights x u that goes down once and comes back once, by dynamic
// programming over levels: the least that leads to each, still going down, and already coming back.
// Long because it is one dynamic programme: its two states are filled side by side.
func (m *model) cheapest(weights []float64) []float64 {
	q := math.Max(boundLevel, m.least/160)
	levels := int(m.least/q+1e-9) + 1
	fall, rise := int(math.Ceil(boundFall*boundStep/q)), int(math.Ceil(m.rise*boundStep/q))
	u := make([]float64, levels)
	for l := range u {
		u[l] = math.Pow(10, -float64(l)*q/10)
	}
	n := len(weights)
	down, up := make([]float64, levels), make([]float64, levels)
	nextDown, nextUp := make([]float64, levels), make([]float64, levels)
	from := make([]int16, 2*n*levels) // where each came from; of those coming back, -1 less the level where it turned
	back := int(-pair.BackDB / q)     // levels that count as back
	queue := make([]int, levels)
	for l := range down {
		down[l], up[l] = math.Inf(1), math.Inf(1)
	}
	down[0] = weights[0]
	for j := 1; j < n; j++ {
		fromDown, fromUp := from[2*j*levels:(2*j+1)*levels], from[(2*j+1)*levels:(2*j+2)*levels]
		head, tail := 0, 0
		for l := range nextDown { // from levels l-fall to l
			for tail > head && down[queue[tail-1]] >= down[l] {
				tail--
			}
			queue[tail] = l
			tail++
			for queue[head] < l-fall {
				head++
			}
			nextDown[l], fromDown[l] = down[queue[head]]+weights[j]*u[l], int16(queue[head])
		}
		head, tail = 0, 0
		for l := levels - 1; l >= 0; l-- { // from levels l to l+rise, of either
			better := math.Min(up[l], down[l])
			for tail > head && math.Min(up[queue[tail-1]], down[queue[tail-1]]) >= better {
				tail--
			}
			queue[tail] = l
			tail++
			for queue[head] > l+rise {
				head++
			}
			k := queue[head]
			nextUp[l], fromUp[l] = math.Min(up[k], down[k])+weights[j]*u[l], int16(k)
			if down[k] < up[k] {
				fromUp[l] = int16(-1 - k)
			}
		}
		for l := range nextDown {
			if l > 0 && j < m.wait || l > back && j == n-1 {
				nextDown[l], nextUp[l] = math.Inf(1), math.Inf(1)
			}
		}
		down, nextDown, up, nextUp = nextDown, down, nextUp, up
	}
	at, turned := 0, false
	for l := range up {
		if math.Min(up[l], down[l]) < math.Min(up[at], down[at]) {
			at = l
		}
	}
	turned = up[at] < down[at]
	out := make([]float64, n)
	for j := n - 1; j >= 0; j-- {
		out[j] = u[at]
		if !turned {
			at = int(from[2*j*levels+at])
			continue
		}
		if at = int(from[(2*j+1)*levels+at]); at < 0 {
			at, turned = -1-at, false
		}
	}
	return out
}

// simplex is a revised simplex over columns that are given one by one: parts of curves that sum to 1, with a
// slack for each hit and one amount by which all may be missed, at a high price. Few hits are tight at a time: of the
// inverse of the basis, the columns of all others have a single 1, and are not kept.
type simplex struct {
	m     int         // rows: hits, then the sum of parts
	cols  [][]float64 // of the inverse; nil: a 1 in one row
	dense []int       // the columns that are kept
	owner []int       // of a row: the column whose only 1 stands in it, -1 for none
	x     []float64
	basis []int // what stands in each row: 0 to m-2 slacks, missed, flat, then columns
	cost  []float64
	made  int
	flat  int
}

func newSimplex(hits int, first []float64, cost float64) *simplex {
	m := hits + 1
	s := &simplex{
		m:     m,
		cols:  make([][]float64, m),
		owner: make([]int, m),
		x:     make([]float64, m),
		basis: make([]int, m),
		cost:  make([]float64, m),
		made:  m + 1,
		flat:  m,
	}
	worst := -1
	for i := range hits {
		if first[i] > 1 && (worst < 0 || first[i] > first[worst]) {
			worst = i
		}
	}
	// the basis: slacks, the flat curve in the last row and, where it misses, the amount missed in the worst row
	for i := range m {
		s.owner[i], s.basis[i] = i, i
	}
	s.basis[m-1], s.cost[m-1] = s.flat, cost
	last := s.keep(m - 1)
	for i := range hits {
		last[i] = -first[i]
	}
	if worst >= 0 {
		s.basis[worst], s.cost[worst] = m-1, boundBig
		w := s.keep(worst)
		w[worst], last[worst] = -1, first[worst]
		for i := range hits {
			if i != worst {
				w[i], last[i] = w[i]-1, last[i]+first[worst]
			}
		}
	}
	s.settle()
	return s
}

// keep writes a column out whose only 1 stands in the row of the same number, or in the one that it owns.
func (s *simplex) keep(column int) []float64 {
	c := make([]float64, s.m)
	for row, o := range s.owner {
		if o == column {
			c[row], s.owner[row] = 1, -1
		}
	}
	s.cols[column] = c
	s.dense = append(s.dense, column)
	return c
}

// settle works out x from the inverse: the right side is all ones.
func (s *simplex) settle() {
	for i, o := range s.owner {
		s.x[i] = 0
		if o >= 0 {
			s.x[i] = 1
		}
	}
	for _, c := range s.dense {
		for i, v := range s.cols[c] {
			s.x[i] += v
		}
	}
}

// prices are those of the rows.
func (s *simplex) prices() []float64 {
	y := make([]float64, s.m)
	for i, o := range s.owner {
		if o >= 0 {
			y[o] = s.cost[i]
		}
	}
	for i, cost := range s.cost {
		if cost != 0 {
			for _, c := range s.dense {
				y[c] += cost * s.cols[c][i]
			}
		}
	}
	return y
}

func (s *simplex) value() float64 {
	v := 0.0
	for i, c := range s.cost {
		v += c * s.x[i]
	}
	return v
}

const pivotLeast = 1e-9

// enters reports whether a column would lower the cost.
func (s *simplex) enters(a []float64, cost float64) bool {
	for i, y := range s.prices() {
		cost -= y * a[i]
	}
	return cost < -boundClose/50
}

// slacks lets the slack, or the amount missed, enter that lowers the cost most; it reports whether one did.
func (s *simplex) slacks() bool {
	y := s.prices()
	best, at := pivotLeast, -1
	sum := 0.0
	for i := range s.m - 1 {
		if sum -= y[i]; y[i] > best {
			best, at = y[i], i
		}
	}
	a := make([]float64, s.m)
	if at >= 0 {
		a[at] = 1
		return s.enter(a, 0, at)
	}
	if boundBig-sum < -pivotLeast { // the amount missed stands with -1 in each row
		for i := range s.m - 1 {
			a[i] = -1
		}
		return s.enter(a, boundBig, s.m-1)
	}
	return false
}

// pivot lets a column enter and returns its number, -1 where it cannot.
func (s *simplex) pivot(a []float64, cost float64) int {
	s.made++
	if !s.enter(a, cost, s.made) {
		return -1
	}
	return s.made
}

func (s *simplex) enter(a []float64, cost float64, id int) bool {
	d := make([]float64, s.m)
	for i, o := range s.owner {
		if o >= 0 {
			d[i] = a[o]
		}
	}
	for _, c := range s.dense {
		if v := a[c]; v != 0 {
			for i, w := range s.cols[c] {
				d[i] += w * v
			}
		}
	}
	row, least := -1, math.Inf(1)
	for i, v := range d {
		if v > pivotLeast {
			if t := math.Max(0, s.x[i]) / v; t < least-1e-12 || t < least+1e-12 && row >= 0 && v > d[row] {
				row, least = i, t
			}
		}
	}
	if row < 0 {
		return false
	}
	if o := s.owner[row]; o >= 0 {
		s.keep(o)
	}
	for _, c := range s.dense {
		col := s.cols[c]
		v := col[row] / d[row]
		if v == 0 {
			continue
		}
		for i, w := range d {
			col[i] -= w * v
		}
		col[row] = v
	}
	s.basis[row], s.cost[row] = id, cost
	if id < s.m-1 { // a slack's column is a single 1 again
		s.cols[id], s.owner[row] = nil, id
		s.dense = slices.DeleteFunc(s.dense, func(c int) bool { return c == id })
	}
	s.settle()
	return true
}

// mix returns the parts of the curves.
func (s *simplex) mix() map[int]float64 {
	out := map[int]float64{}
	for i, b := range s.basis {
		if b >= s.flat && s.x[i] > 0 {
			out[b] += s.x[i]
		}
	}
	return out
}

// over is the amount missed.
func (s *simplex) over() float64 {
	for i, b := range s.basis {
		if b == s.m-1 {
			return math.Max(0, s.x[i])
		}
	}
	return 0
}
