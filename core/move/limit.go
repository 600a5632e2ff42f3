package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var limitKind = &Kind{
	Name: "limit", Label: "Limiter", Does: "turns down, ahead of them, the peaks that would pass a ceiling",
	Where: Anywhere, New: func() Params { return &Limit{Ceiling: -1, Ahead: 3, Release: 120} },
}

// limitTaps is of the longer of the two kernels that a limiter looks by (Kaiser, beta 6: flat to about 0.46 of the rate); the
// other is the soft clip's, of which meters' are alike. Near half the rate they see different peaks, and neither may pass the
// ceiling.
const limitTaps = 64

var longKernel, shortKernel = newKernel(limitTaps, 6), newKernel(clipTaps, 9)

// Limit turns the sound up by a drive and keeps its true peak under a ceiling, all channels together. Where the largest of
// them, between samples too (eight times the rate), would be p over the ceiling c, the gain has to be c / p. That is held down
// over the look-ahead before and after, let go so that nine tenths of it are back after the release, and averaged over the
// look-ahead: the gain at a peak is never over what it has to be. What comes out is looked at once more by another filter, and
// the little that the changing gain put between samples is taken off likewise. Sound under the ceiling is driven and nothing
// else.
type Limit struct {
	Drive   float64 `json:"drive_db"`
	Ceiling float64 `json:"ceiling_dbtp"`
	Ahead   float64 `json:"lookahead_ms"`
	Release float64 `json:"release_ms"` // until nine tenths of a reduction are given back
}

// Kind is limit.
func (*Limit) Kind() *Kind { return limitKind }

// Fields are drive, ceiling, look-ahead and release.
func (l *Limit) Fields() []field.Field {
	return []field.Field{
		{Name: "drive_db", Label: "drive", Unit: "dB", Number: &l.Drive, Lo: -24, Hi: 36, Step: 0.1},
		{Name: "ceiling_dbtp", Label: "ceiling", Unit: "dBTP", Number: &l.Ceiling, Lo: -24, Hi: 24, Step: 0.1},
		{Name: "lookahead_ms", Label: "look-ahead", Unit: "ms", Number: &l.Ahead, Lo: 0.5, Hi: 20, Step: 0.5},
		{Name: "release_ms", Label: "release", Unit: "ms", Number: &l.Release, Lo: 10, Hi: 1000, Step: 10},
	}
}

// Needs is nothing.
func (*Limit) Needs() Needs { return Needs{} }

const backs = 5.0 // releases, after which 100 dB of a reduction are given back

// Memory is the release until nothing is left, and both ways of the look-ahead.
func (l *Limit) Memory(p Place) int {
	return int(backs*l.Release*float64(p.Rate)/1000) + 4*l.ahead(p.Rate) + 4*limitTaps
}

func (l *Limit) ahead(rate int) int {
	return max(1, int(math.Round(l.Ahead*float64(rate)/1000)))
}

// Words says it.
func (l *Limit) Words() string {
	return fmt.Sprintf(
		"limiter at %s dBTP, driven by %s dB, look-ahead %s ms, release %s ms",
		figure.Signed(l.Ceiling, -1),
		figure.Signed(l.Drive, -1),
		figure.Short(l.Ahead),
		figure.Short(l.Release),
	)
}

// Processor limits all channels by one gain; it is as late as it looks ahead, and half its filter.
func (l *Limit) Processor(p Place) (Processor, error) {
	if err := Validate(l); err != nil {
		return nil, err
	}
	stage := func(drive float64, k *kernel) *limiting {
		n := l.ahead(p.Rate)
		o := &limiting{drive: float32(drive), top: dsp.Gain(l.Ceiling), span: n + 1, kernel: k,
			back: 1 - math.Exp(-math.Ln10/(l.Release*float64(p.Rate)/1000)), env: 1, quiet: k.taps}
		o.wide = make([]float64, o.span)
		for i := range o.wide {
			o.wide[i] = 1
		}
		o.sum = float64(o.span)
		return o
	}
	return &twice{stage(dsp.Gain(l.Drive), longKernel), stage(1, shortKernel)}, nil
}

// twice is a limiter with a look at what comes out of it.
type twice [2]*limiting

// Latency is that of both.
func (t *twice) Latency() int { return t[0].Latency() + t[1].Latency() }

// Process limits the next block.
func (t *twice) Process(x, key audio.Buffer) {
	t[0].Process(x, key)
	t[1].Process(x, key)
}

// Limited is a sound limited, without the latency, and what it is turned down by, the drive left out, as amplitude, one value a frame.
func (l *Limit) Limited(x audio.Buffer) (audio.Buffer, []float32, error) {
	p, err := l.Processor(Place{Rate: x.Rate})
	if err != nil {
		return x, nil, err
	}
	o := p.(*twice)
	late := o.Latency()
	for _, of := range o {
		of.record = make([]float32, 0, x.Frames()+late)
	}
	y := audio.New(x.Rate, len(x.Ch), x.Frames()+late)
	for c := range x.Ch {
		copy(y.Ch[c], x.Ch[c])
	}
	const block = 1 << 14
	for at := 0; at < y.Frames(); at += block {
		o.Process(y.Slice(at, min(at+block, y.Frames())), audio.Buffer{})
	}
	g := o[0].record[o[0].Latency():] // the second's come out so much later
	for i, v := range o[1].record[late:] {
		g[i] *= v
	}
	return y.Slice(late, y.Frames()), g[:x.Frames()], nil
}

// limiting is a limiter at work.
type limiting struct {
	drive  float32
	top    float64
	span   int // frames of the look-ahead, and one
	kernel *kernel
	back   float64

	past   [][]float32 // of each channel: what is not out yet, driven
	quiet  int         // frames since one that could pass the ceiling
	at     int         // frames so far
	mins   []lowest    // ascending places of what may be the lowest of the span
	env    float64     // what is let go
	wide   []float64   // the last span of it, round
	sum    float64
	record []float32
}

type lowest struct {
	at   int
	gain float64
}

// Latency is the look-ahead and half the filter.
func (o *limiting) Latency() int { return o.span - 1 + o.kernel.taps/2 }

// Process limits the next block.
func (o *limiting) Process(x, _ audio.Buffer) {
	late := o.Latency()
	keep := max(late, o.kernel.taps-1)
	for len(o.past) < len(x.Ch) {
		o.past = append(o.past, make([]float32, keep))
	}
	n := x.Frames()
	for c, ch := range x.Ch {
		for _, v := range ch {
			o.past[c] = append(o.past[c], o.drive*v)
		}
	}
	loud := float32(o.top) / o.kernel.bound
	for i := range n {
		for c := range x.Ch {
			if v := o.past[c][keep+i]; v > loud || -v > loud {
				o.quiet = -1
			}
		}
		o.quiet++
		need := 1.0
		if o.quiet < o.kernel.taps {
			need = o.need(keep+i, len(x.Ch))
		}
		g := float32(o.next(need))
		for c, ch := range x.Ch {
			ch[i] = g * o.past[c][keep+i-late]
		}
		if o.record != nil {
			o.record = append(o.record, g)
		}
	}
	for c := range o.past {
		m := copy(o.past[c], o.past[c][len(o.past[c])-keep:])
		o.past[c] = o.past[c][:m]
	}
}

// need is the gain that the points from half a filter back to the next frame have to have, the newest frame at end.
func (o *limiting) need(end, channels int) float64 {
	var most float32
	for c := range channels {
		w := o.past[c][end-o.kernel.taps+1 : end+1]
		a, b := w[len(w)/2-1], w[len(w)/2]
		top := max(a, -a, b, -b)
		for _, round := range looks { // closer where it may be over
			for _, k := range round.phases {
				v := o.kernel.at(k, w)
				top = max(top, v, -v)
			}
			if float64(top)*round.short <= o.top {
				break
			}
		}
		most = max(most, top)
	}
	if float64(most) <= o.top {
		return 1
	}
	return o.top / float64(most)
}

// looks are the phases that are looked at, closer and closer, each time with by how much the peak may be over what is seen: so
// many times the rate fall short by cos(pi / 2n) at the most.
var looks = []struct {
	phases []int
	short  float64
}{{[]int{4}, 1.4143}, {[]int{2, 6}, 1.0824}, {[]int{1, 3, 5, 7}, 1}}

// next takes the gain that a place has to have, and returns that of the place a look-ahead before it.
func (o *limiting) next(need float64) float64 {
	for len(o.mins) > 0 && o.mins[len(o.mins)-1].gain >= need {
		o.mins = o.mins[:len(o.mins)-1]
	}
	o.mins = append(o.mins, lowest{o.at, need})
	if o.mins[0].at <= o.at-o.span {
		o.mins = o.mins[:copy(o.mins, o.mins[1:])]
	}
	if least := o.mins[0].gain; least <= o.env {
		o.env = least
	} else if o.env += (least - o.env) * o.back; least-o.env < 1e-6 {
		o.env = least
	}
	k := o.at % o.span
	o.sum += o.env - o.wide[k]
	o.wide[k] = o.env
	if k == 0 { // no error adds up
		o.sum = 0
		for _, v := range o.wide {
			o.sum += v
		}
	}
	o.at++
	return o.sum / float64(o.span)
}
