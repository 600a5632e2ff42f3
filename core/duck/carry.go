package duck

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// carryOut takes a mono bass through a keyed duck at the full rate, aligned.
func carryOut(d *move.Duck, rate int, key, bass []float32) ([]float32, error) {
	p, err := d.Processor(move.Place{Rate: rate, BPM: 120})
	if err != nil {
		return nil, err
	}
	late := p.Latency()
	x := append(append([]float32(nil), bass...), make([]float32, late)...)
	k := append(append([]float32(nil), key...), make([]float32, late)...)
	const block = 4096
	for at := 0; at < len(x); at += block {
		end := min(at+block, len(x))
		p.Process(audio.Buffer{Rate: rate, Ch: [][]float32{x[at:end]}}, audio.Buffer{Rate: rate, Ch: [][]float32{k[at:end]}})
	}
	return x[late:], nil
}

// keyedP10 carries a keyed duck out at the full rate and returns the clearance in the worst tenth of hits, and the one
// that counts (see worst).
func keyedP10(m *meter.HitMeter, key, bass []float32, d *move.Duck, filter *move.KeyFilter) (p10 meter.Figure, counts float64, err error) {
	c := *d
	c.Key = filter
	out, err := carryOut(&c, m.Rate, key, bass)
	if err != nil {
		return meter.None, math.Inf(-1), err
	}
	clear := m.Clearances(out)
	return meter.Percentile(clear, 1-Share), worst(clear), nil
}
