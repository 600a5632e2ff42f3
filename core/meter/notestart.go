package meter

import (
	"math"
	"math/cmplx"
	"sort"

	"mellowthump/core/dsp"
)

// How it is told where the notes of a bass begin.
const (
	strikeStep   = 0.002 // s, resolution of what linear prediction misses
	strikeHop    = 0.020 // s for which a prediction is good
	strikeBefore = 20    // steps that a strike is held against: over a period of the lowest note
	strikeSpan   = 3     // steps in which it comes
	strikeRise   = 3.0   // dB
	strikeFloor  = 1e-6  // of the largest: less is none
	strikeApart  = 0.060 // s between two
	leaveTrain   = 0.080 // s of sound that tell how it goes on
	leaveOrder   = 12    // of the prediction
	leaveOver    = 0.15  // of the largest difference: there the sound leaves what it was
	leaveBefore  = 4.0   // times what it differed by before

	weakRise   = 0.5   // dB that may still be a strike, where a note is known to begin anew
	weakBefore = 0.020 // s before the first frame in which that is seen
	weakAfter  = 0.085 // s after it: a frame is as long as that

	swellBand   = 120.0 // Hz, from there on a bass's harmonics show how it is struck
	swellFloor  = 4e-4  // -34 dB of the loudest: softer is none
	swellBefore = 16    // steps
	swellSpan   = 8     // steps
	swellRise   = 4.0   // dB

	changeReach = 0.080 // s around a time in which one pitch gives way to another

	againStep   = 0.006 // s, resolution of how a note repeats itself
	againSkip   = 12    // steps of a note in which it is not struck again
	againMissed = 0.45  // of its energy, that is no longer what it was a period ago
	againTimes  = 4.0   // times what is usual for the note

	combHarmonics = 10
	combAbsent    = 0.25  // of the strongest partial's root, against a pitch for every harmonic that is not there
	combReach     = 0.030 // of a harmonic's frequency in which its partial is looked for, at the most
	combWindow    = 0.30  // s of a note that are asked
	combSkip      = 0.015 // s after its start
)

// starts are the places at which the notes of a bass are struck.
type starts struct {
	low  []float32
	fs   float64
	at   []float64 // s
	rise []float64 // dB, how much more is missed than before, each strikeStep
	all  []float64 // mean squares of the sound, each strikeStep
}

// newStarts finds where the notes of a bass are struck: where linear prediction by the last 80 ms misses more
// than it did. What rings on, whatever its partials, is told ahead; a finger, a pick or a new note is not.
func newStarts(low []float32, fs float64) *starts {
	s := &starts{low: low, fs: fs}
	step, hop, train := strikeStep*fs, int(strikeHop*fs), int(leaveTrain*fs)
	missed := make([]float64, int(float64(len(low))/step)+1)
	s.all = make([]float64, len(missed))
	past := make([]float64, train)
	for from := 0; from < len(low); from += hop {
		clear(past)
		for i := max(0, train-from); i < train; i++ {
			past[i] = float64(low[from-train+i])
		}
		a := predictor(past, leaveOrder)
		for i := from; i < min(from+hop, len(low)); i++ {
			d, k := s.off(i, a), int(float64(i)/step)
			missed[k] = max(missed[k], d*d)
			s.all[k] += float64(low[i]) * float64(low[i])
		}
	}
	floor := largest(missed) * strikeFloor
	if floor <= 0 {
		return s
	}
	rise := make([]float64, len(missed))
	for k := range rise {
		before := max(floor, largest(missed[max(0, k-strikeBefore):k]))
		rise[k] = dsp.PowerDB(max(floor, largest(missed[k:min(len(missed), k+strikeSpan)])) / before)
	}
	s.rise = rise
	apart := int(strikeApart / strikeStep)
	for k, r := range rise {
		if r < strikeRise || r < largest(rise[max(0, k-apart/2):min(len(rise), k+apart/2+1)]) {
			continue
		}
		at := float64(k+1) * strikeStep
		if n := len(s.at); n == 0 || at-s.at[n-1] >= strikeApart {
			s.at = append(s.at, at)
		}
	}
	s.swells()
	return s
}

// swells adds places at which the harmonics swell and prediction misses nothing: the note before was as rough.
func (s *starts) swells() {
	hp, err := dsp.ButterworthHighpass(2, swellBand, s.fs)
	if err != nil {
		return // the band lies far below half of any rate that is read
	}
	x := filtered(s.low, hp)
	step := strikeStep * s.fs
	env := make([]float64, len(s.rise))
	for i, v := range x {
		env[int(float64(i)/step)] += float64(v) * float64(v)
	}
	floor := largest(env) * swellFloor
	if floor <= 0 {
		return
	}
	rise := make([]float64, len(env))
	for k := range rise {
		before := max(floor/10, largest(env[max(0, k-swellBefore):k]))
		if after := largest(env[k:min(len(env), k+swellSpan)]); after > floor {
			rise[k] = dsp.PowerDB(after / before)
		}
	}
	apart := int(strikeApart / strikeStep)
	for k, r := range rise {
		if r < swellRise || r < largest(rise[max(0, k-apart/2):min(len(rise), k+apart/2+1)]) {
			continue
		}
		at := float64(k) * strikeStep
		i := sort.SearchFloat64s(s.at, at-strikeApart)
		if i < len(s.at) && s.at[i] < at+strikeApart {
			continue
		}
		if better := s.weakly(at); better > 0 {
			at = better
		}
		s.at = append(s.at, at)
		sort.Float64s(s.at)
	}
}

// off is how far a sample lies off what a prediction makes of those before it.
func (s *starts) off(i int, a []float64) float64 {
	d := float64(s.low[i])
	for k, c := range a {
		if j := i - 1 - k; j >= 0 {
			d -= c * float64(s.low[j])
		}
	}
	return math.Abs(d)
}

// between reports whether a note is struck in the hop before a time.
func (s *starts) between(at, hop float64) bool {
	k := sort.SearchFloat64s(s.at, at-hop)
	return k < len(s.at) && s.at[k] < at
}

// begins returns where a note of that pitch begins whose pitch is there from a time on, after a pitch that was
// there before (Hz; 0: none). It is where it is struck; where that is not near, where the one pitch gives way to
// the other, or where the sound leaves what it was.
func (s *starts) begins(at, was, is float64) float64 {
	best := math.Inf(1)
	for k := sort.SearchFloat64s(s.at, at-startBefore); k < len(s.at) && s.at[k] <= at+startAfter; k++ {
		if math.Abs(s.at[k]-at) < math.Abs(best-at) {
			best = s.at[k]
		}
	}
	switch {
	case !math.IsInf(best, 1):
		return best
	case was > 0 && math.Abs(1200*math.Log2(is/was)) > glideLeast:
		return s.changes(at, was, is)
	}
	if k := s.weakly(at); k > 0 && was > 0 {
		return k
	}
	return s.leaves(at)
}

// weakly returns the likeliest place near a time at which the note is struck, 0 where there is none.
func (s *starts) weakly(at float64) float64 {
	best, place := weakRise, 0.0
	for k := max(0, int((at-weakBefore)/strikeStep)); k < min(len(s.rise), int((at+weakAfter)/strikeStep)); k++ {
		if s.rise[k] > best {
			best, place = s.rise[k], float64(k+1)*strikeStep
		}
	}
	return place
}

// changes returns the place near a time up to which the sound repeats a period ago by one pitch, and from which
// on it repeats a period later by another: the least sum of what is missed on both sides.
func (s *starts) changes(at, was, is float64) float64 {
	period := func(hz float64) func(i, way int) float64 {
		p := s.fs / hz
		k, f := int(p), float32(p-math.Floor(p))
		return func(i, way int) float64 {
			a, b := i+way*k, i+way*(k+1)
			if a < 0 || b < 0 || a >= len(s.low) || b >= len(s.low) {
				return float64(s.low[i])
			}
			return float64(s.low[i] - s.low[a] - f*(s.low[b]-s.low[a]))
		}
	}
	before, after := period(was), period(is)
	from, to := max(0, int((at-changeReach)*s.fs)), min(len(s.low), int((at+changeReach)*s.fs))
	sum := 0.0 // with the change at from
	for i := from; i < to; i++ {
		d := after(i, 1)
		sum += d * d
	}
	least, best := sum, from
	for i := from; i < to; i++ {
		a, b := before(i, -1), after(i, 1)
		if sum += a*a - b*b; sum < least {
			least, best = sum, i+1
		}
	}
	return float64(best) / s.fs
}

// again returns the places within a note of that pitch at which it is struck again: where the sound no longer
// repeats a period ago as it did, and not for the change of the note's first moments.
func (s *starts) again(n BassNote) []float64 {
	p := int(math.Round(s.fs / n.Hz))
	step := int(againStep * s.fs)
	from, to := int(n.Start*s.fs), min(int(n.End*s.fs), len(s.low)-p)
	var missed []float64
	for i := from + p; i+step <= to; i += step {
		var d, e float64
		for k := i; k < i+step; k++ {
			v := float64(s.low[k] - s.low[k-p])
			d += v * v
		}
		for k := i - p; k < i+step; k++ {
			e += float64(s.low[k]) * float64(s.low[k])
		}
		missed = append(missed, d/math.Max(e*float64(step)/float64(p+step), 1e-12))
	}
	if len(missed) == 0 {
		return nil
	}
	usual := Middle(missed)
	skip, last := againSkip, 0
	if n.Glide != 0 {
		skip = int(math.Round(glideMost / againStep))
	}
	var at []float64
	for k, m := range missed {
		if k < skip || k-last < againSkip && last > 0 || k+againSkip/2 > len(missed) || m < againMissed || m < againTimes*usual ||
			m < againTimes*missed[k-1] && m < againTimes*missed[k-2] {
			continue
		}
		last = k
		at = append(at, float64(from+p+k*step)/s.fs)
	}
	return at
}

// leaves returns the place near a time at which the sound is no longer what linear prediction by what came
// before makes of it.
func (s *starts) leaves(at float64) float64 {
	from, to, train := max(0, int((at-startBefore)*s.fs)), min(len(s.low), int((at+startAfter)*s.fs)), int(leaveTrain*s.fs)
	var past []float64
	for _, v := range s.low[max(0, from-train):from] {
		past = append(past, float64(v))
	}
	var a []float64
	if len(past) > 3*leaveOrder {
		a = predictor(past, leaveOrder)
	}
	before, most := 0.0, 0.0
	for i := max(0, from-train/2); i < to; i++ {
		if d := s.off(i, a); i < from {
			before = max(before, d)
		} else {
			most = max(most, d)
		}
	}
	limit := max(leaveOver*most, min(leaveBefore*before, most/2))
	for i := from; i < to; i++ {
		if s.off(i, a) > limit {
			return float64(i) / s.fs
		}
	}
	return at
}

// apart cuts notes where they are struck again.
func (s *starts) apart(notes []BassNote) []BassNote {
	var out []BassNote
	for _, n := range notes {
		for _, at := range s.again(n) {
			first := n
			first.End = at
			out = append(out, first)
			n.Start, n.Glide = at, 0
		}
		out = append(out, n)
	}
	return out
}

// complete gives the struck notes on which no one pitch lasts the pitch that their harmonics have.
func (s *starts) complete(notes []BassNote) []BassNote {
	comb := newComb(s.fs)
	for k, from := range s.at {
		to := float64(len(s.low)) / s.fs
		if k+1 < len(s.at) {
			to = s.at[k+1]
		}
		to = s.sounds(from, to)
		if to-from < lineLeast {
			continue
		}
		sure := 0.0 // of its time that has a pitch that lasts
		for _, n := range notes {
			if both := min(n.End, to) - max(n.Start, from); both > 0 && (n.clear > lineClear && n.End-n.Start > lineLasts || both > lineCovered*(to-from)) {
				sure += both
			}
		}
		if sure >= lineCovered*(to-from) {
			continue
		}
		hz := comb.pitch(s.low[int(from*s.fs):int(to*s.fs)])
		if hz == 0 {
			continue
		}
		n := BassNote{Start: from, End: to, Hz: hz, clear: 1}
		n.Note, n.Cents = Note(hz)
		var kept []BassNote
		for _, o := range notes { // what was there of it goes
			if (o.Start+o.End)/2 < from || (o.Start+o.End)/2 > to {
				o.End = min(o.End, max(from, o.Start))
				if (o.Start+o.End)/2 > to {
					o.Start = max(o.Start, to)
				}
				kept = append(kept, o)
			}
		}
		notes = append(kept, n)
		sort.Slice(notes, func(i, j int) bool { return notes[i].Start < notes[j].Start })
	}
	return notes
}

// sounds returns until when, between two times, the sound stays over a part of its peak.
func (s *starts) sounds(from, to float64) float64 {
	a, b := int(from/strikeStep), min(len(s.all), int(to/strikeStep))
	if a >= b {
		return from
	}
	top := largest(s.all[a:b])
	for b > a && s.all[b-1] < lineSounds*top {
		b--
	}
	return min(to, float64(b)*strikeStep)
}

// comb finds a pitch by the harmonics that are there: subharmonic summation (Hermes, JASA 83(1), 1988) over the
// partials of a note, each taken by the root of its amplitude.
type comb struct {
	fs  float64
	fft *dsp.FFT
	x   []float64
	c   []complex128
	amp []float64
}

func newComb(fs float64) *comb {
	n := 1
	for n < int(2*combWindow*fs) {
		n *= 2
	}
	return &comb{fs: fs, fft: dsp.NewFFT(n), x: make([]float64, n)}
}

// pitch returns the pitch of a note in Hz, 0 where it has none.
// Long because it is one algorithm: its partials are found, matched and weighed in one frame.
func (c *comb) pitch(x []float32) float64 {
	skip := min(int(combSkip*c.fs), len(x)/4)
	x = x[skip:min(len(x), skip+int(combWindow*c.fs))]
	window := dsp.Hann(len(x))
	for i := range c.x {
		c.x[i] = 0
		if i < len(x) {
			c.x[i] = float64(x[i]) * window[i]
		}
	}
	c.c = c.fft.Coefficients(c.c, c.x)
	c.amp = c.amp[:0]
	for _, v := range c.c {
		c.amp = append(c.amp, cmplx.Abs(v))
	}
	type partial struct{ hz, amp float64 }
	var partials []partial
	top := largest(c.amp)
	if top <= 0 {
		return 0
	}
	bin := c.fs / float64(len(c.x))
	for k := 2; k+1 < len(c.amp) && float64(k)*bin < pitchBand; k++ {
		if a := c.amp[k]; a > 0.01*top && a >= c.amp[k-1] && a > c.amp[k+1] {
			partials = append(partials, partial{(float64(k) - vertex(-c.amp[k-1], -a, -c.amp[k+1])) * bin, math.Sqrt(a / top)})
		}
	}
	width := 2 / (float64(len(x)) / c.fs) / 2 // half the main lobe of the window
	score := func(f float64) float64 {
		s, w := 0.0, 1.0
		for h := 1; h <= combHarmonics && float64(h)*f < pitchBand; h++ {
			best := 0.0
			for _, p := range partials {
				if d := math.Abs(p.hz - float64(h)*f); d < min(width, max(combReach*p.hz, 1.5)) {
					best = max(best, p.amp*(1-d/(2*width)))
				}
			}
			if best == 0 && h > 1 {
				best = -combAbsent
			}
			s += w * best
			w *= shsDecay
		}
		return s
	}
	best, at := 0.0, 0.0
	for cents := 0.0; cents < 1200*math.Log2(MaxHz/MinHz); cents += 10 {
		f := MinHz * math.Pow(2, cents/1200)
		if v := score(f); v > best {
			best, at = v, f
		}
	}
	if at == 0 {
		return 0
	}
	// finer: the amplitude-weighted mean over its harmonics
	var sum, weight float64
	for h := 1; h <= combHarmonics; h++ {
		for _, p := range partials {
			if math.Abs(p.hz-float64(h)*at) < min(width, max(combReach*p.hz, 1.5)) && h > 1 {
				sum, weight = sum+p.amp*p.hz/float64(h)*float64(h), weight+p.amp*float64(h)
			}
		}
	}
	if weight > 0 {
		return sum / weight
	}
	return at
}
