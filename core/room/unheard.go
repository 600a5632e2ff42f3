// Package room measures what the rest of a beat puts under kick and bass, and what of it can be taken out without anybody
// hearing it.
package room

import (
	"context"
	"math"
	"slices"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Corners are the corners that are tried, Hz: the nominal third-octaves of IEC 61260-1.
var (
	LowCorners  = []float64{20, 25, 31.5, 40, 50, 63, 80, 100, 125, 160, 200, 250, 315, 400, 500}
	HighCorners = []float64{20000, 16000, 12500, 10000, 8000, 6300, 5000, 4000, 3150, 2500, 2000, 1600, 1250, 1000}
)

const (
	heardShare = 0.05 // of the frames in which a stem sounds: where a change is heard in no more of them, it is unheard
	soundLeast = 1e-6 // of its loudest frame's energy: a frame with more sounds
	reach      = 4.0  // times a corner, up to which a cut is looked for: further off a Butterworth filter does nothing
)

// Side says from which end a cut takes.
type Side string

// The two ends.
const (
	Low  Side = "low"  // a high-pass
	High Side = "high" // a low-pass
)

// id is that of its cut on a stem.
func (s Side) id() string {
	if s == High {
		return session.RoomHigh
	}
	return session.RoomLow
}

// corners are those that are tried, the least far first.
func (s Side) corners() []float64 {
	if s == High {
		return HighCorners
	}
	return LowCorners
}

// cut returns the filter that takes a side off at a corner.
func (s Side) cut(hz float64, slope int) *move.Filter {
	f := &move.Filter{Shape: dsp.Highpass, Hz: hz, Slope: slope}
	if s == High {
		f.Shape = dsp.Lowpass
	}
	return f
}

// channels are those of an ear that a cut can change.
func (s Side) channels(e *meter.Ear, hz float64) (from, to int) {
	if s == High {
		return e.Below(hz / reach), len(e.Hz)
	}
	return 0, e.Below(hz * reach)
}

// Excited is a sound as an ear takes it, frame by frame; the sound itself is not held.
type Excited struct {
	ear   *meter.Ear
	at    []int       // of each frame: its first sample
	was   [][]float64 // its excitation
	total []float64   // its energy
}

// Excite listens to a sound that begins frame from before what is judged.
func Excite(ctx context.Context, e *meter.Ear, x audio.Buffer, from int) (*Excited, error) {
	s := &Excited{ear: e}
	power := make([]float64, e.Frame/2+1)
	for at := from; at+e.Frame <= x.Frames() || at == from; at += e.Frame / 2 {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		e.Power(power, x, at)
		sum, w := 0.0, make([]float64, len(e.Hz))
		for _, p := range power {
			sum += p
		}
		if sum > 0 {
			e.Excite(w, power, 0, len(w))
		}
		s.at, s.was, s.total = append(s.at, at), append(s.was, w), append(s.total, sum)
	}
	return s, nil
}

// Bytes is what it takes, about, beside the sound.
func (s *Excited) Bytes() int { return len(s.at) * (8*len(s.ear.Hz) + 48) }

// Sounding lists the frames in which the sound is there and over the threshold of hearing.
func (s *Excited) Sounding() []int {
	loudest := 0.0
	for _, t := range s.total {
		loudest = math.Max(loudest, t)
	}
	var frames []int
	for i, w := range s.was {
		if s.total[i] == 0 || s.total[i] < loudest*soundLeast {
			continue
		}
		for n, v := range w {
			if v > s.ear.Quiet[n] {
				frames = append(frames, i)
				break
			}
		}
	}
	return frames
}

// Trimmed is a sound behind a cut as an ear takes it: the frames that were asked for, in the channels that the cut can change.
type Trimmed struct {
	mu       sync.Mutex
	of       *Excited
	cut      *move.Filter
	from, to int // channels
	rows     [][]float32
}

// Trim is nothing yet: frames are worked out as they are asked for.
func Trim(of *Excited, side Side, hz float64, slope int) *Trimmed {
	t := &Trimmed{of: of, cut: side.cut(hz, slope), rows: make([][]float32, len(of.at))}
	t.from, t.to = side.channels(of.ear, hz)
	return t
}

// Bytes is what it takes at most, about.
func (t *Trimmed) Bytes() int { return len(t.rows) * (4*(t.to-t.from) + 24) }

// each goes over some frames in order, until f says that it is enough. now is the excitation of the channels from t.from on.
func (t *Trimmed) each(ctx context.Context, x Hearing, frames []int, f func(frame int, now []float32) bool) error {
	t.mu.Lock()
	defer t.mu.Unlock()
	var was, changed audio.Buffer
	e := t.of.ear
	from, to := 0, 0 // of the sound: what is behind the cut
	power, now := []float64(nil), []float64(nil)
	for _, i := range frames {
		if t.rows[i] == nil {
			if err := ctx.Err(); err != nil {
				return err
			}
			if power == nil {
				var err error
				if was, err = x(ctx); err != nil {
					return err
				}
				power, now = make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
			}
			if at := t.of.at[i]; at+e.Frame > to {
				from, to = at, min(at+trimStretch*e.Frame, max(was.Frames(), at+e.Frame))
				var err error
				if changed, err = filteredPart(was, t.cut, from, to); err != nil {
					return err
				}
			}
			e.Power(power, changed, t.of.at[i]-from)
			e.Excite(now, power, t.from, t.to)
			row := make([]float32, t.to-t.from)
			for n := range row {
				row[n] = float32(now[t.from+n])
			}
			t.rows[i] = row
		}
		if !f(i, t.rows[i]) {
			return nil
		}
	}
	return nil
}

// unheard judges a cut of a sound in some frames: alone, and beside a rest whose excitation is known, where what is unlike
// adds up by its energy. Either is unheard where it is heard in no more of the frames than may be; one that is decided
// already is not judged again.
func (t *Trimmed) unheard(ctx context.Context, x Hearing, frames []int, rest [][]float64, alone, inMix bool) (bool, bool, error) {
	most := int(heardShare * float64(len(frames)))
	own, mixed := 0, 0
	if alone {
		own = most + 1
	}
	if inMix {
		mixed = most + 1
	}
	e := t.of.ear
	a, b := make([]float64, len(e.Hz)), make([]float64, len(e.Hz))
	err := t.each(ctx, x, frames, func(i int, now []float32) bool {
		was := t.of.was[i]
		if own <= most {
			for n := t.from; n < t.to; n++ {
				b[n] = float64(now[n-t.from])
			}
			if e.Heard(was, b, t.from, t.to) {
				own++
			}
		}
		if mixed <= most {
			for n := t.from; n < t.to; n++ {
				a[n], b[n] = rest[i][n]+was[n], rest[i][n]+float64(now[n-t.from])
			}
			if e.Heard(a, b, t.from, t.to) {
				mixed++
			}
		}
		return own <= most || mixed <= most
	})
	return alone || own <= most, inMix || mixed <= most, err
}

// trimStretch is how much of a sound is filtered at once, in frames of the ear: few are often enough.
const trimStretch = 24

// filteredPart returns a part of a sound through a filter that has settled when it begins.
func filteredPart(x audio.Buffer, f *move.Filter, from, to int) (audio.Buffer, error) {
	s, err := f.Sections(float64(x.Rate))
	if err != nil {
		return audio.Buffer{}, err
	}
	begin, end := max(0, from-dsp.Settles(s)), min(to, x.Frames())
	if begin >= end {
		return audio.New(x.Rate, len(x.Ch), 0), nil
	}
	out, err := filtered(x.Slice(begin, end), f)
	if err != nil {
		return audio.Buffer{}, err
	}
	return out.Slice(min(from, end)-begin, out.Frames()), nil
}

// filtered returns a sound through a filter.
func filtered(x audio.Buffer, f *move.Filter) (audio.Buffer, error) {
	s, err := f.Sections(float64(x.Rate))
	if err != nil {
		return audio.Buffer{}, err
	}
	out := audio.New(x.Rate, len(x.Ch), x.Frames())
	for c, ch := range x.Ch {
		if c > 0 && slices.Equal(ch, x.Ch[0]) {
			copy(out.Ch[c], out.Ch[0])
			continue
		}
		dsp.NewFilter(s).Process(out.Ch[c], ch)
	}
	return out, nil
}

// Corner finds how far a side can go unheard: of a sound alone, and beside the rest of the mix that it is a part of, the
// furthest of the corners whose change is heard in at most 5 % of the frames in which the sound is there; 0 where none
// is. What is unlike adds up by its energy, so that the rest only masks: in the mix it is never less far than alone.
//
// x is the sound that own was made of, rest the excitation of the rest, frame by frame; at gives what is known of a cut at a
// corner.
func Corner(
	ctx context.Context,
	own *Excited,
	x Hearing,
	rest [][]float64,
	side Side,
	at func(hz float64) (*Trimmed, error),
) (alone, inMix float64, err error) {
	frames := own.Sounding()
	if len(frames) == 0 {
		return 0, 0, nil
	}
	corners := side.corners()
	for i := len(corners) - 1; i >= 0 && alone == 0; i-- {
		hz := corners[i]
		if hz > 0.45*float64(own.ear.Rate) {
			continue
		}
		t, err := at(hz)
		if err != nil {
			return 0, 0, err
		}
		a, m, err := t.unheard(ctx, x, frames, rest, false, inMix > 0)
		if err != nil {
			return 0, 0, err
		}
		if a {
			alone = hz
		}
		if m && inMix == 0 {
			inMix = hz
		}
	}
	return alone, inMix, nil
}
