package duck

import (
	"mellowthump/core/audio"
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
