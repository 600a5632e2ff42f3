package duck

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// keyed is a mono bass that is taken through a keyed duck at the full rate, aligned.
type keyed struct {
	d         *move.Duck
	rate      int
	key, bass meter.Sound
}

// Frames is its length, the bass's.
func (c keyed) Frames() int { return c.bass.Frames() }

// carryBlock is how many frames are carried at a time.
const carryBlock = 4096

// Read gives it as it is carried out.
func (c keyed) Read(f func(x []float32) error) error {
	p, err := c.d.Processor(move.Place{Rate: c.rate, BPM: 120})
	if err != nil {
		return err
	}
	frames := c.Frames()
	skip := p.Latency()
	var ends []int
	for at := carryBlock; at < frames+skip; at += carryBlock {
		ends = append(ends, at)
	}
	ends = append(ends, frames+skip)
	x := make([]float32, carryBlock)
	return meter.Together(ends, func(_ int, in [][]float32) error {
		out := x[:copy(x, in[0])]
		p.Process(audio.Buffer{Rate: c.rate, Ch: [][]float32{out}}, audio.Buffer{Rate: c.rate, Ch: [][]float32{in[1]}})
		n := min(skip, len(out))
		if skip, out = skip-n, out[n:]; len(out) == 0 {
			return nil
		}
		return f(out)
	}, meter.Filled(c.bass, frames+skip), meter.Filled(c.key, frames+skip))
}

// keyedP10 carries a keyed duck out at the full rate and returns the clearance in the worst tenth of hits, and the one
// that counts (see worst).
func keyedP10(m *meter.HitMeter, key, bass meter.Sound, d *move.Duck, filter *move.KeyFilter) (p10 meter.Figure, counts float64, err error) {
	c := *d
	c.Key = filter
	clear, err := m.Clearances(keyed{&c, m.Rate, key, bass})
	if err != nil {
		return meter.None, math.Inf(-1), err
	}
	return meter.Percentile(clear, 1-Share), worst(clear), nil
}
