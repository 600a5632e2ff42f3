package print

import (
	"context"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/move"
)

// StemSound is a stem as it comes to the master: the premaster is the sum of all.
type StemSound struct {
	ID, Name string
	Sound    audio.Buffer
}

// Share is how much of the limiters' work a stem made.
type Share struct {
	Part int     // which
	Of   float64 // 0 to 1; all together are 1
}

// Place is a stretch in which the limiters work.
type Place struct {
	From, To int     // frames of the stretch that was printed
	Most     float64 // dB
	Shares   []Share // the largest first
}

// Work is who made the limiters work.
type Work struct {
	Shares []Share // over all places, the largest first
	Places []Place // the deepest first
	Trim   int     // the part whose trim saves most
	Saves  float64 // dB of the deepest reduction that 1 dB less of it saves
}

const (
	apart     = 0.1 // s between two places
	longest   = 1.0 // s of one, where the limiter never rests
	placeMost = 6
)

// Who says who made the limiters of a chain work: wherever they turn down by more than 0.5 dB, by how much less they would
// without each part; what that comes to is shared among the parts by what each saves. Nothing where they do not work. lead is
// as for Run.
// Long because the chain is run once with each stem left out, and the rest shares it.
func Who(ctx context.Context, premaster audio.Buffer, parts []StemSound, chain move.Chain, lead int) (*Work, error) {
	all, err := Run(chain, premaster, lead)
	if err != nil {
		return nil, err
	}
	out := &Work{}
	places := working(all.Turned, premaster.Rate)
	if len(places) == 0 {
		return out, nil
	}
	saved := make([][]float64, len(parts)) // by part and place
	g, inner := group.WithContext(ctx)
	g.SetLimit(2)
	for k := range parts {
		g.Go(func() error {
			if err := inner.Err(); err != nil {
				return err
			}
			r, err := Run(chain, less(premaster, parts[k].Sound, 1), lead)
			if err != nil {
				return err
			}
			for _, p := range places {
				sum := 0.0
				for i := p.From; i < p.To; i++ {
					sum += math.Max(0, float64(all.Turned[i]-r.Turned[i]))
				}
				saved[k] = append(saved[k], sum)
			}
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	totals := make([]float64, len(parts))
	for n := range places {
		each := make([]float64, len(parts))
		for k := range parts {
			each[k] = saved[k][n]
			totals[k] += saved[k][n]
		}
		places[n].Shares = shares(each)
	}
	out.Shares = shares(totals)
	sort.SliceStable(places, func(i, j int) bool { return places[i].Most > places[j].Most })
	out.Places = places[:min(len(places), placeMost)]
	out.Trim = -1
	if len(out.Shares) > 0 {
		out.Trim = out.Shares[0].Part
		r, err := Run(chain, less(premaster, parts[out.Trim].Sound, 1-dsp.Gain(-1)), lead)
		if err != nil {
			return nil, err
		}
		was, is := float32(0), float32(0)
		for i := range all.Turned {
			was, is = max(was, all.Turned[i]), max(is, r.Turned[i])
		}
		out.Saves = math.Max(0, float64(was-is))
	}
	return out, nil
}

// less is a premaster without so much of a part.
func less(premaster, part audio.Buffer, of float64) audio.Buffer {
	out := audio.New(premaster.Rate, len(premaster.Ch), premaster.Frames())
	for c := range out.Ch {
		x := part.Ch[min(c, len(part.Ch)-1)]
		for i, v := range premaster.Ch[c] {
			out.Ch[c][i] = v
			if i < len(x) {
				out.Ch[c][i] -= float32(of) * x[i]
			}
		}
	}
	return out
}

// shares are those of amounts, of at least half a per cent each, the largest first.
func shares(of []float64) []Share {
	sum := 0.0
	for _, v := range of {
		sum += v
	}
	if sum == 0 {
		return nil
	}
	var out []Share
	for k, v := range of {
		out = append(out, Share{k, v / sum})
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Of > out[j].Of })
	return out
}

// working are the stretches in which a reduction is more than 0.5 dB; one that does not end is parted by the second.
func working(turned []float32, rate int) []Place {
	var out []Place
	gap := int(apart * float64(rate))
	for i, v := range turned {
		if v <= works {
			continue
		}
		if n := len(out); n > 0 && i-out[n-1].To < gap && i-out[n-1].From < int(longest*float64(rate)) {
			out[n-1].To = i + 1
			out[n-1].Most = math.Max(out[n-1].Most, float64(v))
			continue
		}
		out = append(out, Place{From: i, To: i + 1, Most: float64(v)})
	}
	return out
}

// Hit is what a print does at a hit of the kick, until the next.
type Hit struct {
	At         int     // frame
	Over       float64 // dB by which the driven peak would pass the ceiling
	Kick, Bass float64 // their shares of that peak, 0 to 1; the rest is all others
	Shaved     float64 // dB, most
	Turned     float64
}

// Pressed is a stretch of a premaster that a chain was run on, with what comes before it, and the kick's part and the bass's in it.
type Pressed struct {
	Premaster      audio.Buffer
	Lead           int // frames, as for Run
	Low            [2]audio.Buffer
	Drive, Ceiling float64 // dB, dBTP
}

// Hits says it of every hit, frames of the stretch.
func Hits(p Pressed, r Result, hits []int) []Hit {
	premaster, low, lead, drive, ceiling := p.Premaster, p.Low, p.Lead, p.Drive, p.Ceiling
	var out []Hit
	frames := premaster.Frames() - lead
	for k, at := range hits {
		end := frames
		if k+1 < len(hits) {
			end = min(end, hits[k+1])
		}
		if at < 0 || at >= end {
			continue
		}
		h := Hit{At: at}
		peak, where, channel := float32(0), lead+at, 0
		for c, ch := range premaster.Ch {
			for i := lead + at; i < lead+end; i++ {
				if v := max(ch[i], -ch[i]); v > peak {
					peak, where, channel = v, i, c
				}
			}
		}
		if peak > 0 {
			h.Over = math.Max(0, dsp.DB(float64(peak))+drive-ceiling)
			sign := float32(1)
			if premaster.Ch[channel][where] < 0 {
				sign = -1
			}
			for n, part := range low {
				if len(part.Ch) == 0 {
					continue
				}
				of := math.Max(0, float64(sign*part.Ch[min(channel, len(part.Ch)-1)][where]/peak))
				if n == 0 {
					h.Kick = of
				} else {
					h.Bass = of
				}
			}
			if sum := h.Kick + h.Bass; sum > 1 {
				h.Kick, h.Bass = h.Kick/sum, h.Bass/sum
			}
		}
		for i := at; i < end; i++ {
			if r.Shaved != nil {
				h.Shaved = math.Max(h.Shaved, float64(r.Shaved[i]))
			}
			if r.Turned != nil {
				h.Turned = math.Max(h.Turned, float64(r.Turned[i]))
			}
		}
		out = append(out, h)
	}
	return out
}
