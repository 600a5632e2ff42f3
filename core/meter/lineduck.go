package meter

import (
	"math"
	"math/cmplx"
)

// A bass that is ducked already dips and comes back: the same tone, its phase going on under the dip. A note that is struck again
// begins a phase of its own (own definition).
const (
	duckDip    = 3.0  // dB that a dip is deep, at the least
	duckBack   = 12.0 // dB by which it may come back softer than it was
	duckOver   = 1.5  // or louder
	duckReach  = 0.25 // s from one piece of a tone to the next
	duckPhase  = 0.08 // cycles by which the phase may be off
	duckCents  = 35.0 // by which the pitch may be
	duckLeast  = 5    // dips, of a line that is ducked
	duckPart   = 0.35 // of the places where a tone comes back have to go on so; of struck ones one in four does by chance
	duckPeriod = 2.0  // periods of the tone that its level and phase are taken over
)

// underDucks puts the notes of a line together that a duck has cut, and returns by how much it is ducked, dB (median; 0: it is not).
func underDucks(notes []BassNote, low []float32, fs float64) ([]BassNote, float64) {
	type dip struct{ from, to int }
	var dips []dip
	var depths []Figure
	asked := 0
	for i := 0; i < len(notes); {
		next := i + 1
		for j := i + 1; j < len(notes) && notes[j].Start-notes[j-1].End < duckReach && j <= i+3; j++ {
			if math.Abs(1200*math.Log2(notes[j].Hz/notes[i].Hz)) > duckCents {
				if notes[j].End-notes[j].Start > duckReach { // another note
					break
				}
				continue // a piece in the dip
			}
			depth, same, back := dipBetween(low, fs, notes[i], notes[j])
			if back {
				asked++
			}
			if same {
				if dips = append(dips, dip{i, j}); back {
					depths = append(depths, Figure(depth))
				}
			}
			next = j
			break
		}
		i = next
	}
	if len(depths) < duckLeast || float64(len(depths)) < duckPart*float64(asked) {
		return notes, 0
	}
	gone := make([]bool, len(notes))
	for k := len(dips) - 1; k >= 0; k-- { // from the last on, so that what is put together grows
		d := dips[k]
		notes[d.from].End = notes[d.to].End
		for j := d.from + 1; j <= d.to; j++ {
			gone[j] = true
		}
	}
	var out []BassNote
	for i, n := range notes {
		if !gone[i] {
			out = append(out, n)
		}
	}
	return out, float64(Median(depths))
}

// dipBetween looks at how a tone dips between two pieces of it: how deep, whether its phase goes on, and whether it comes back as it
// was, and does not only swell.
func dipBetween(low []float32, fs float64, a, b BassNote) (depth float64, same, back bool) {
	const step = 0.005 // s
	wide := duckPeriod / a.Hz
	level := func(t float64) float64 { return cmplx.Abs(toneAt(low, fs, a.Hz, t, wide)) }
	from, to := math.Max(a.Start, a.End-0.2), math.Min(b.End, b.Start+0.35)
	least, at := math.Inf(1), 0.0
	for t := math.Max(from, a.End-0.08); t < math.Min(to, b.Start+0.08); t += step {
		if v := level(t); v < least {
			least, at = v, t
		}
	}
	before, after, tb, ta := 0.0, 0.0, 0.0, 0.0
	for t := from + wide/2; t <= at; t += step {
		if v := level(t); v >= before {
			before, tb = v, t
		}
	}
	for t := at; t <= to-wide/2; t += step {
		if v := level(t); v > after {
			after, ta = v, t
		}
	}
	if before == 0 || after == 0 || least == 0 {
		return 0, false, false
	}
	depth = 20 * math.Log10(before/least)
	by := 20 * math.Log10(after/before)
	back = depth >= duckDip && by >= -duckBack && by <= duckOver
	best, hz := 0.0, a.Hz // the pitch as exactly as the longer piece tells
	long, mid := math.Min(0.3, a.End-a.Start), (math.Max(a.Start, a.End-0.3)+a.End)/2
	if b.End-b.Start > a.End-a.Start {
		long = math.Min(0.3, b.End-b.Start)
		mid = (b.Start + math.Min(b.End, b.Start+0.3)) / 2
	}
	for c := -30.0; c <= 30; c += 1 {
		f := a.Hz * math.Pow(2, c/1200)
		if v := cmplx.Abs(toneAt(low, fs, f, mid, long)); v > best {
			best, hz = v, f
		}
	}
	turn := cmplx.Phase(toneAt(low, fs, hz, ta, wide)*cmplx.Conj(toneAt(low, fs, hz, tb, wide))) / (2 * math.Pi)
	return depth, math.Abs(turn) < duckPhase, back
}

// toneAt is the part of a sound at a frequency about a time, under a Hann window of a width in s: amplitude and phase against one that
// runs from the sound's start.
func toneAt(x []float32, fs, hz, at, wide float64) complex128 {
	from, n := int((at-wide/2)*fs), max(1, int(wide*fs))
	turn := cmplx.Rect(1, -2*math.Pi*hz/fs)
	z := cmplx.Rect(1, -2*math.Pi*hz*float64(from)/fs)
	var sum complex128
	for i := range n {
		if k := from + i; k >= 0 && k < len(x) {
			w := 0.5 - 0.5*math.Cos(2*math.Pi*(float64(i)+0.5)/float64(n))
			sum += complex(w*float64(x[k]), 0) * z
		}
		z *= turn
	}
	return sum / complex(float64(n)/2, 0)
}
