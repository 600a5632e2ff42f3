package bench

import (
	"math"
	"slices"
	"sort"

	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// HitMark is a hit of the kick, or what could be one, as a hand finds it.
type HitMark struct {
	At   float64 // s, in the song
	Kind HitKind
	Why  string // of a doubtful one
	Sure float64

	onset *meter.Onset // nil: it was put in by hand, or is a note
}

// HitKind says whether a hit counts, and why.
type HitKind string

// The kinds of marks.
const (
	FoundHit    HitKind = "found"
	AddedHit    HitKind = "added"    // by hand
	DoubtfulHit HitKind = "doubtful" // does not count
	OutHit      HitKind = "out"      // left out by hand
)

// Counts reports whether it is a hit.
func (m HitMark) Counts() bool { return m.Kind == FoundHit || m.Kind == AddedHit }

// HitMarks lists all hits of the kick's trigger, ascending, with those that do not count.
func (b *Bench) HitMarks() []HitMark {
	t, st := b.Song.Trigger(session.KickTrigger), b.Song.TriggerStem()
	if t == nil || st == nil {
		return nil
	}
	var out []HitMark
	by := st.Nudged() / 1000
	if st.MIDI != nil {
		for _, at := range st.MIDI.Hits() {
			out = append(out, HitMark{At: at + by, Kind: FoundHit, Sure: 1})
		}
	} else if a := b.Facts[st.Audio]; a != nil {
		counting := t.Found(a.Hits)
		for i := range a.Hits {
			o := &a.Hits[i]
			m := HitMark{At: o.At + by, Kind: FoundHit, Sure: o.Confidence(), onset: o}
			if _, ok := slices.BinarySearch(counting, o.At); !ok {
				m.Kind, m.Why = DoubtfulHit, o.Doubt(t.QuietDB())
				if m.Why == "" {
					m.Why = "closer to the hit before than is asked"
				}
			}
			out = append(out, m)
		}
	}
	near := func(a, b float64) bool { return math.Abs(a-b) <= move.HitNear }
	for i := range out {
		if slices.ContainsFunc(t.Removed, func(at float64) bool { return near(at, out[i].At) }) {
			out[i].Kind, out[i].Why = OutHit, "left out by hand"
		}
	}
	for _, at := range t.Added {
		out = slices.DeleteFunc(out, func(m HitMark) bool { return m.Kind != AddedHit && near(at, m.At) })
		out = append(out, HitMark{At: at, Kind: AddedHit, Sure: 1})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].At < out[j].At })
	return out
}

// MarkAt returns the mark at a time, nil where none is near it.
func MarkAt(marks []HitMark, at float64) *HitMark {
	var best *HitMark
	for i := range marks {
		d := math.Abs(marks[i].At - at)
		if d <= move.HitNear && (best == nil || d < math.Abs(best.At-at)) {
			best = &marks[i]
		}
	}
	return best
}

// How alike two hits are that are left out together. Own definition: of common practice none is known.
const (
	likeUnder = 3.0  // dB of their low bands' levels against those around them
	likeClick = 6.0  // dB of their clicks
	likeShape = 0.15 // of their low bands' shapes
)

// Quieter are the times of the counting hits whose low band stays as far under those around them as m's, or farther: m
// among them. nil where it is not known of m.
func (m HitMark) Quieter(marks []HitMark) []float64 {
	return m.those(marks, func(o *meter.Onset) bool { return o.Under >= m.onset.Under })
}

// Alike are the times of the hits that count as m does and sound like it, m among them: by level, click and shape.
func (m HitMark) Alike(marks []HitMark) []float64 {
	return m.those(marks, func(o *meter.Onset) bool {
		within := func(a, b meter.Figure, by float64) bool { return math.Abs(float64(a-b)) <= by }
		return within(o.Under, m.onset.Under, likeUnder) && within(o.Click, m.onset.Click, likeClick) && within(o.Like, m.onset.Like, likeShape) &&
			o.Mute == m.onset.Mute
	})
}

func (m HitMark) those(marks []HitMark, are func(*meter.Onset) bool) []float64 {
	if m.onset == nil {
		return nil
	}
	var out []float64
	for _, o := range marks {
		if o.Counts() == m.Counts() && o.onset != nil && (o.onset == m.onset || are(o.onset)) {
			out = append(out, o.At)
		}
	}
	return out
}

// Snap finds the start of the kick's sound that a place is nearest to: the first millisecond over a tenth of the peak that
// follows within reach, s. Where nothing rises there it is the place itself.
func Snap(kick []float32, step, from, at, reach float64) float64 {
	i := int(math.Round((at - from) / step))
	n := int(math.Round(reach / step))
	lo, hi := max(0, i-n), min(len(kick)-1, i+2*n)
	if lo >= hi {
		return at
	}
	best, rise := -1, 0.0
	for k := lo; k+5 <= hi; k++ { // the steepest 5 ms
		if d := float64(kick[k+5] - kick[k]); d > rise {
			best, rise = k, d
		}
	}
	top := 0.0
	for _, v := range kick {
		top = max(top, float64(v))
	}
	if best < 0 || rise < top/50 {
		return at
	}
	peak := 0.0
	for k := best; k <= min(len(kick)-1, best+n); k++ {
		peak = max(peak, float64(kick[k]))
	}
	for k := lo; k <= best+5; k++ {
		if float64(kick[k]) >= peak/10 && (k == 0 || kick[k] > kick[k-1]) {
			return from + float64(k)*step
		}
	}
	return from + float64(best)*step
}
