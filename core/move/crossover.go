package move

import (
	"mellowthump/core/audio"
	"mellowthump/core/dsp"
)

// crossover parts a sound into three bands at two corners, by Linkwitz and Riley's 4th order; the lowest band goes through the
// upper corner's all-pass, so that the three sum to a flat response.
type crossover struct {
	low, high dsp2 // at the lower corner, at the upper one
	each      []*crossed
	bands     [3]audio.Buffer
}

// dsp2 is the low and the high part of one corner.
type dsp2 struct{ low, high []dsp.Biquad }

// crossed is the state of one channel.
type crossed struct{ low, up, lowLow, lowHigh, mid, high *dsp.Filter }

func corner(hz, rate float64) (c dsp2, err error) {
	c.low, c.high, err = dsp.LinkwitzRiley(hz, rate)
	return c, err
}

func newCrossover(lowHz, highHz float64, rate int) (*crossover, error) {
	a, err := corner(lowHz, float64(rate))
	if err != nil {
		return nil, err
	}
	b, err := corner(min(highHz, 0.45*float64(rate)), float64(rate))
	return &crossover{low: a, high: b}, err
}

// settles is how long its filters remember, frames.
func (c *crossover) settles() int { return dsp.Settles(c.low.high) + dsp.Settles(c.high.high) }

// split returns the bands of a block; they are the crossover's own until the next call.
func (c *crossover) split(x audio.Buffer) [3]audio.Buffer {
	for b := range c.bands {
		if c.bands[b].Frames() < x.Frames() || len(c.bands[b].Ch) != len(x.Ch) {
			c.bands[b] = audio.New(x.Rate, len(x.Ch), x.Frames())
		}
	}
	var out [3]audio.Buffer
	for b := range out {
		out[b] = c.bands[b].Slice(0, x.Frames())
	}
	for ch := range x.Ch {
		if ch == len(c.each) {
			c.each = append(c.each, &crossed{
				low: dsp.NewFilter(c.low.low), up: dsp.NewFilter(c.low.high),
				lowLow: dsp.NewFilter(c.high.low), lowHigh: dsp.NewFilter(c.high.high), mid: dsp.NewFilter(c.high.low), high: dsp.NewFilter(c.high.high),
			})
		}
		f, low, mid, high := c.each[ch], out[0].Ch[ch], out[1].Ch[ch], out[2].Ch[ch]
		f.low.Process(low, x.Ch[ch])
		f.lowLow.Process(mid, low)
		f.lowHigh.Process(high, low)
		for i := range low {
			low[i] = mid[i] + high[i]
		}
		f.up.Process(high, x.Ch[ch])
		f.mid.Process(mid, high)
		f.high.Process(high, high)
	}
	return out
}
