// Package room measures what the rest of a beat puts under kick and bass, and what of it can be taken out without anybody
// hearing it.
package room

import (
	"context"
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
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

// Excited is a sound as an ear takes it, frame by frame.
type Excited struct {
	ear   *meter.Ear
	x     audio.Buffer
	at    []int       // of each frame: its first sample
	was   [][]float64 // its excitation
	total []float64   // its energy
}

// Excite listens to a sound that begins frame from before what is judged.
func Excite(ctx context.Context, e *meter.Ear, x audio.Buffer, from int) (*Excited, error) {
	s := &Excited{ear: e, x: x}
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

// unheard judges a change of the sound, in the channels from..to and some frames: alone, and beside a rest whose
// excitation is known, where what is unlike adds up by its energy. Either is unheard where it is heard in no more of the
// frames than may be; one that is decided already is not judged again.
func (s *Excited) unheard(frames []int, changed audio.Buffer, rest *Excited, from, to int, alone, inMix bool) (bool, bool) {
	most := int(heardShare * float64(len(frames)))
	own, mixed := 0, 0
	if alone {
		own = most + 1
	}
	if inMix {
		mixed = most + 1
	}
	power, now := make([]float64, s.ear.Frame/2+1), make([]float64, len(s.ear.Hz))
	a, b := make([]float64, len(now)), make([]float64, len(now))
	for _, i := range frames {
		if own > most && mixed > most {
			break
		}
		s.ear.Power(power, changed, s.at[i])
		s.ear.Excite(now, power, from, to)
		if own <= most && s.ear.Heard(s.was[i], now, from, to) {
			own++
		}
		if mixed <= most {
			for n := from; n < to; n++ {
				r := rest.was[i][n]
				a[n], b[n] = r+s.was[i][n], r+now[n]
			}
			if s.ear.Heard(a, b, from, to) {
				mixed++
			}
		}
	}
	return alone || own <= most, inMix || mixed <= most
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
func Corner(ctx context.Context, own, rest *Excited, side Side, slope int) (alone, inMix float64, err error) {
	frames := own.Sounding()
	if len(frames) == 0 {
		return 0, 0, nil
	}
	corners := LowCorners
	if side == High {
		corners = HighCorners
	}
	for i := len(corners) - 1; i >= 0 && alone == 0; i-- {
		if err := ctx.Err(); err != nil {
			return 0, 0, err
		}
		hz := corners[i]
		if hz > 0.45*float64(own.x.Rate) {
			continue
		}
		changed, err := filtered(own.x, side.cut(hz, slope))
		if err != nil {
			return 0, 0, err
		}
		from, to := side.channels(own.ear, hz)
		a, m := own.unheard(frames, changed, rest, from, to, false, inMix > 0)
		if a {
			alone = hz
		}
		if m && inMix == 0 {
			inMix = hz
		}
	}
	return alone, inMix, nil
}
