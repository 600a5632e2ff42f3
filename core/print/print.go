// Package print is the last stage: how loud, what it costs, and whose peaks made the limiter work.
package print

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// What the schools go by, where nothing else is asked: common practice.
const (
	clipKnee    = 3.0   // dB
	ahead       = 3.0   // ms
	release     = 120.0 // ms
	slowAhead   = 8.0   // of the first of two limiters
	slowRelease = 400.0
	lastRelease = 60.0 // of the second
	lastMost    = 1.5  // dB that the second takes at the most
	Service     = -14.0
	works       = 0.5 // dB of reduction from which a limiter works
)

// noClip is where no soft clip holds.
const noClip = -1

// Chain is what a school puts behind a premaster: driven by so many dB, a soft clip that holds so many dB over the ceiling
// (noClip: none), and a ceiling in dBTP. fader is the master's, which comes behind the chain.
func Chain(school string, drive, hold, ceiling, fader float64) move.Chain {
	var out move.Chain
	put := func(id string, p move.Params) { out = out.With(move.Move{ID: id, Params: p}) }
	switch school {
	case "clip":
		if hold >= 0 {
			put(session.PrintClip, &move.SoftClip{Threshold: tenth(ceiling - fader - drive + hold), Knee: clipKnee})
		}
		put(session.PrintLimit, &move.Limit{Drive: tenth(drive), Ceiling: tenth(ceiling - fader), Ahead: ahead, Release: release})
	case "limit":
		put(session.PrintLimit, &move.Limit{Drive: tenth(drive), Ceiling: tenth(ceiling - fader), Ahead: ahead, Release: release})
	case "two":
		put(session.PrintFirst, &move.Limit{Drive: tenth(drive - lastMost), Ceiling: tenth(ceiling - fader), Ahead: slowAhead, Release: slowRelease})
		put(session.PrintLimit, &move.Limit{Drive: lastMost, Ceiling: tenth(ceiling - fader), Ahead: ahead, Release: lastRelease})
	}
	return out
}

func tenth(v float64) float64 { return math.Round(10*v)/10 + 0 }

// Result is a premaster behind a chain.
type Result struct {
	Sound   audio.Buffer
	Shaved  []float32 // dB that the soft clip takes of each frame's peak, largest channel; nil: there is none
	Turned  []float32 // dB that the limiters turn each frame down by, together; nil: there is none
	clipped int
}

// Run lets a chain work on a premaster, without its latency. The first lead frames are what comes before the stretch: they are
// left out of what is returned.
func Run(chain move.Chain, premaster audio.Buffer, lead int) (Result, error) {
	x := audio.New(premaster.Rate, len(premaster.Ch), premaster.Frames())
	for c := range x.Ch {
		copy(x.Ch[c], premaster.Ch[c])
	}
	var r Result
	for _, m := range chain {
		if m.Off {
			continue
		}
		if l, ok := m.Params.(*move.Limit); ok {
			y, gains, err := l.Limited(x)
			if err != nil {
				return r, err
			}
			r.turn(gains[lead:])
			x = y
			continue
		}
		p, err := m.Params.Processor(move.Place{Rate: x.Rate, BPM: 120})
		if err != nil {
			return r, err
		}
		late := p.Latency()
		y := audio.New(x.Rate, len(x.Ch), x.Frames()+late)
		for c := range x.Ch {
			copy(y.Ch[c], x.Ch[c])
		}
		const block = 1 << 14
		for at := 0; at < y.Frames(); at += block {
			p.Process(y.Slice(at, min(at+block, y.Frames())), audio.Buffer{})
		}
		y = y.Slice(late, y.Frames())
		if _, ok := m.Params.(*move.SoftClip); ok {
			r.shave(x, y, lead)
		}
		x = y
	}
	r.Sound = x.Slice(lead, x.Frames())
	return r, nil
}

const faint = 1e-4 // amplitude under which nothing is said of a frame

// shave notes what was taken off each frame.
func (r *Result) shave(in, out audio.Buffer, lead int) {
	r.Shaved = make([]float32, in.Frames()-lead)
	for c := range in.Ch {
		for i := range r.Shaved {
			a, b := math.Abs(float64(in.Ch[c][lead+i])), math.Abs(float64(out.Ch[c][lead+i]))
			if a > b && a > faint && b > 0 {
				r.Shaved[i] = max(r.Shaved[i], float32(dsp.DB(a/b)))
			}
		}
	}
	for _, s := range r.Shaved {
		if s > 0.01 {
			r.clipped++
		}
	}
}

// turn notes by how much each frame was turned down.
func (r *Result) turn(gains []float32) {
	if r.Turned == nil {
		r.Turned = make([]float32, len(gains))
	}
	for i, g := range gains {
		if g < 1 {
			r.Turned[i] -= float32(dsp.DB(float64(g)))
		}
	}
}

// Figures are what a print is, or a premaster.
type Figures struct {
	Loudness  meter.Figure // LUFS
	TruePeak  meter.Figure // dBTP
	Crest     meter.Figure // dB
	Attack    meter.Figure // dB of the peak in 0 to 20 ms after a hit over the RMS of 20 to 120 ms, median
	Clearance meter.Figure // dB, of the kick in 9 of 10 hits; None where nothing says what kick and bass are
	Clipped   meter.Figure // % of the frames from which the soft clip takes anything
	Most      meter.Figure // dB, the deepest reduction of the limiters
	Mean      meter.Figure // dB, where they work
}

// Measure measures a result; hits are frames of its sound.
func (r Result) Measure(hits []int) Figures {
	f := Figures{
		Loudness:  meter.IntegratedLoudness(r.Sound),
		TruePeak:  meter.None,
		Crest:     meter.None,
		Clearance: meter.None,
		Clipped:   meter.None,
		Most:      meter.None,
		Mean:      meter.None,
		Attack:    attack(r.Sound, hits),
	}
	t := meter.NewTruePeak(len(r.Sound.Ch))
	t.Add(r.Sound)
	f.TruePeak = t.Peak()
	m := meter.NewLevelMeter(r.Sound.Rate, len(r.Sound.Ch))
	m.Add(r.Sound)
	f.Crest = m.Levels().Crest
	if len(r.Shaved) > 0 {
		f.Clipped = meter.Figure(100 * float64(r.clipped) / float64(len(r.Shaved)))
	}
	if r.Turned != nil {
		most, sum, n := 0.0, 0.0, 0
		for _, v := range r.Turned {
			most = math.Max(most, float64(v))
			if v > 0.1 {
				sum, n = sum+float64(v), n+1
			}
		}
		f.Most, f.Mean = meter.Figure(most), 0
		if n > 0 {
			f.Mean = meter.Figure(sum / float64(n))
		}
	}
	return f
}

// Clearance is the kick's over the bass in 9 of 10 hits, before and behind a print: low are kick and bass as they come to it,
// turned down and shaved together as the whole is, at each frame; lead is as for Run, hz where the kick settles.
func Clearance(low [2]audio.Buffer, r Result, hits []int, lead int, hz float64) (before, now meter.Figure) {
	var mono [2][]float32
	for i, x := range low {
		if len(x.Ch) == 0 {
			return meter.None, meter.None
		}
		mono[i] = x.Slice(lead, x.Frames()).Mono()
	}
	measure := func(kick, bass []float32) meter.Figure {
		m, err := meter.NewHitMeter(kick, low[0].Rate, hits, hz, meter.Range{To: len(kick)})
		if err != nil {
			return meter.None
		}
		return m.Measure(bass).ClearanceP10
	}
	before = measure(mono[0], mono[1])
	for i := range mono {
		y := append([]float32(nil), mono[i]...)
		for k := range y {
			db := float32(0)
			if r.Shaved != nil {
				db += r.Shaved[k]
			}
			if r.Turned != nil {
				db += r.Turned[k]
			}
			if db > 0 {
				y[k] *= float32(dsp.Gain(-float64(db)))
			}
		}
		mono[i] = y
	}
	return before, measure(mono[0], mono[1])
}

// attack is the median over hits of the peak in the first 20 ms over the RMS of the next 100, of the louder channel, dB.
func attack(x audio.Buffer, hits []int) meter.Figure {
	var all []meter.Figure
	a, b := x.Rate/50, x.Rate*120/1000
	for _, h := range hits {
		if h < 0 || h+b > x.Frames() {
			continue
		}
		peak, energy := 0.0, 0.0
		for _, ch := range x.Ch {
			peak = math.Max(peak, float64(meter.Peak(ch[h:h+a])))
			energy = math.Max(energy, meter.Energy(ch[h+a:h+b])/float64(b-a))
		}
		if peak > 0 && energy > 0 {
			all = append(all, meter.Figure(dsp.DB(peak)-dsp.PowerDB(energy)))
		}
	}
	return meter.Median(all)
}
