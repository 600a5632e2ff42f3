package meter

import (
	"math"
	"sort"
)

// Tempo is an estimate of a song's grid.
type Tempo struct {
	BPM        float64   `json:"bpm"`
	Offset     float64   `json:"offset_s"`   // of the grid's first beat
	Confidence float64   `json:"confidence"` // 0 to 1
	Others     []float64 `json:"others"`     // half and double, where they are in range
}

const (
	minTempo  = 60.0 // bpm
	maxTempo  = 180.0
	tempoStep = 0.25  // bpm, of the first search
	gridWidth = 0.012 // s by which a hit may miss the grid
	division  = 4     // parts of a beat that hits stand on: sixteenths
)

// EstimateTempo finds the grid that the hits of a beat stand on: for each tempo, how well they
// fall on sixteenths of it (the length of the mean vector of their phases), with a preference
// for grids that are used and not merely fine; then a refinement by least squares. weights
// may be nil. It returns nil for fewer than four hits.
func EstimateTempo(hits, weights []float64) *Tempo {
	if len(hits) < 4 {
		return nil
	}
	type candidate struct{ bpm, score float64 }
	var all []candidate
	for bpm := minTempo; bpm <= maxTempo; bpm += tempoStep {
		all = append(all, candidate{bpm, gridScore(hits, weights, bpm)})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].score > all[j].score })
	best := all[0]
	bpm, offset := refineTempo(hits, best.bpm)
	rival := 0.0 // the best that is not the same grid counted differently
	for _, c := range all {
		r := c.bpm / best.bpm
		if math.Abs(r-1) > 0.02 && math.Abs(r-2) > 0.04 && math.Abs(r-0.5) > 0.01 {
			rival = c.score
			break
		}
	}
	t := &Tempo{BPM: bpm, Offset: offset, Confidence: max(0, min(1, 2*(best.score-rival)/best.score))}
	for _, r := range []float64{0.5, 2} {
		if o := bpm * r; o >= minTempo/2 && o <= 2*maxTempo {
			t.Others = append(t.Others, o)
		}
	}
	return t
}

// gridScore is how well hits fall on a tempo's eighths and sixteenths, against what they
// would by chance on so fine a grid.
func gridScore(hits, weights []float64, bpm float64) float64 {
	score := 0.0
	for _, part := range []struct{ of, weight float64 }{{1, 0.5}, {2, 0.35}, {division, 0.6}} {
		period := 60 / bpm / part.of
		var re, im, sum float64
		for i, h := range hits {
			w := 1.0
			if weights != nil {
				w = weights[i]
			}
			a := 2 * math.Pi * h / period
			re, im, sum = re+w*math.Cos(a), im+w*math.Sin(a), sum+w
		}
		r := math.Hypot(re, im) / sum
		// hits that miss by gridWidth lose more on a finer grid: measure against that
		blur := math.Exp(-2 * math.Pow(math.Pi*gridWidth/4/period, 2))
		score += part.weight * r * blur
	}
	// common practice, no published source: beats are mostly felt between 80 and 160 bpm
	return score * (1 - 0.12*math.Abs(math.Log2(bpm/115)))
}

// refineTempo fits hit = offset + k period/4 by least squares over whole k.
func refineTempo(hits []float64, bpm float64) (refined, offset float64) {
	period := 60 / bpm / division
	var re, im float64
	for _, h := range hits {
		a := 2 * math.Pi * h / period
		re, im = re+math.Cos(a), im+math.Sin(a)
	}
	offset = math.Atan2(im, re) / (2 * math.Pi) * period
	for range 8 {
		var n, sk, sh, skk, skh float64
		for _, h := range hits {
			k := math.Round((h - offset) / period)
			if math.Abs(h-offset-k*period) > 0.35*period {
				continue
			}
			n, sk, sh, skk, skh = n+1, sk+k, sh+h, skk+k*k, skh+k*h
		}
		d := n*skk - sk*sk
		if n < 3 || d == 0 {
			break
		}
		period = (n*skh - sk*sh) / d
		offset = (sh - period*sk) / n
	}
	var on [division]int // which sixteenth of the beat most hits stand on
	for _, h := range hits {
		k := int(math.Round((h - offset) / period))
		on[(k%division+division)%division]++
	}
	most := 0
	for j, n := range on {
		if n > on[most] {
			most = j
		}
	}
	beat := period * division
	offset = math.Mod(offset+float64(most)*period, beat)
	if offset < 0 {
		offset += beat
	}
	if beat-offset < 0.005 { // a beat that begins with the file
		offset = 0
	}
	return 60 / (period * division), offset
}
