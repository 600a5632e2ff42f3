package meter

import (
	"math"

	"mellowthump/core/audio"
)

// AtHits returns the excitation of a sound at hits: by hit and frame, for each of the ear's channels, mean square. hits and windows
// are frames of the sound, in order; a hit's first frame begins a quarter of a frame before it, and more follow by half a frame
// while the middle of one lies within its window. It reads the sound once and holds no more of it than a hit's stretch. Errors are those of
// reading.
func (e *Ear) AtHits(s Sound, hits, windows []int) ([][][]float32, error) {
	out := make([][][]float32, len(hits))
	power, row := make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
	var held []float32 // from frame at of the sound on
	at, next := 0, 0
	judge := func(end bool) {
		for ; next < len(hits); next++ {
			first, n := e.framesOf(hits[next], windows[next])
			last := first + (n-1)*e.Frame/2 + e.Frame
			if last > at+len(held) && !end {
				break
			}
			for j := range n {
				e.Power(power, audio.Buffer{Rate: e.Rate, Ch: [][]float32{held}}, first+j*e.Frame/2-at)
				e.Excite(row, power, 0, len(row))
				got := make([]float32, len(row))
				for i, v := range row {
					got[i] = float32(v)
				}
				out[next] = append(out[next], got)
			}
		}
		keep := at + len(held)
		if next < len(hits) {
			first, _ := e.framesOf(hits[next], windows[next])
			keep = min(keep, max(at, first))
		}
		held, at = append(held[:0], held[keep-at:]...), keep
	}
	err := s.Read(func(x []float32) error {
		held = append(held, x...)
		judge(false)
		return nil
	})
	judge(true)
	return out, err
}

// framesOf are the frames that a hit is judged by: where the first begins, and how many there are.
func (e *Ear) framesOf(hit, window int) (first, n int) {
	return hit - e.Frame/4, max(1, (window-e.Frame/4)/(e.Frame/2)+1)
}

// Hidden returns for each hit of one part how much of it another hides, %: of its excitation over the threshold of hearing, cell by cell
// of frame and channel, the share that stands less than HeardChange out of both over the other alone. None where nothing of it is
// over the threshold. Own definition, of excitation by roex filters (see Ear) and Zwicker's 1 dB criterion.
func (e *Ear) Hidden(of, by [][][]float32) []Figure {
	least := math.Pow(10, HeardChange/10) - 1
	out := make([]Figure, len(of))
	for h := range of {
		all, hidden := 0.0, 0.0
		for f := range of[h] {
			for n, v := range of[h][f] {
				if k := float64(v); k > e.Quiet[n] {
					all += k
					if k < least*float64(by[h][f][n]) {
						hidden += k
					}
				}
			}
		}
		out[h] = None
		if all > 0 {
			out[h] = Figure(100 * hidden / all)
		}
	}
	return out
}
