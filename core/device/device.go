// Package device holds small simulated stand-ins for things that play: a phone, a laptop, a car. All values are invented; no
// real thing was measured.
package device

import (
	"fmt"
	"math"
	"strings"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
)

// Device is a small simulated stand-in for a thing that plays: what it does to the sound as a chain of plain moves, how much
// softer than the room it is and what sounds beside it. All values are invented; no real thing was measured.
type Device struct {
	ID, Name string  // "phone", "a phone"
	From, To float64 // Hz, -3 dB of its two outer filters
	Order    int     // of both Butterworth filters
	Peaks    []move.Filter
	OneBox   bool    // it has one speaker: both channels sum there
	OneLow   float64 // Hz under which both channels are summed; 0: they are not
	Softer   float64 // dB under the playback level of the room
	Ceiling  float64 // dBFS at which it stops getting louder, rounded over 6 dB; 0: it has none
	Noise    float64 // dB SPL of what sounds beside it, pink under 200 Hz; 0: nothing does
}

// All are the stand-ins, the smallest first.
var All = []Device{
	{
		ID:      "phone",
		Name:    "a phone",
		From:    350,
		To:      12000,
		Order:   4,
		OneBox:  true,
		Softer:  12,
		Ceiling: -9,
		Peaks:   []move.Filter{{Shape: dsp.Bell, Hz: 2500, Q: 1, DB: 4}},
	},
	{ID: "laptop", Name: "a laptop", From: 180, To: 14000, Order: 4, Softer: 8, Ceiling: -6, Peaks: []move.Filter{{Shape: dsp.Bell, Hz: 900, Q: 1, DB: 3}}},
	{
		ID:      "kitchen",
		Name:    "a kitchen radio",
		From:    110,
		To:      10000,
		Order:   2,
		OneBox:  true,
		Softer:  6,
		Ceiling: -6,
		Peaks:   []move.Filter{{Shape: dsp.Bell, Hz: 220, Q: 1, DB: 3}},
	},
	{ID: "earbuds", Name: "earbuds", From: 40, To: 16000, Order: 2, Peaks: []move.Filter{{Shape: dsp.Bell, Hz: 3000, Q: 1, DB: 3}}},
	{
		ID:     "car",
		Name:   "a car",
		From:   35,
		To:     14000,
		Order:  2,
		Softer: 3,
		Noise:  68,
		Peaks:  []move.Filter{{Shape: dsp.Bell, Hz: 60, Q: 1, DB: 6}, {Shape: dsp.Bell, Hz: 250, Q: 1, DB: -3}},
	},
	{
		ID:      "club",
		Name:    "a club",
		From:    30,
		To:      16000,
		Order:   4,
		OneLow:  120,
		Softer:  -12,
		Ceiling: -3,
		Peaks:   []move.Filter{{Shape: dsp.LowShelf, Hz: 90, Q: 0.7, DB: 6}},
	},
}

// Of returns the stand-in with an id; ok is false where there is none, and it is the first.
func Of(id string) (d Device, ok bool) {
	for _, d := range All {
		if d.ID == id {
			return d, true
		}
	}
	return All[0], false
}

// Short is its name without the article.
func (d Device) Short() string { return strings.TrimPrefix(d.Name, "a ") }

// Described says all that it is.
func (d Device) Described() string {
	said := []string{fmt.Sprintf("%s Hz to %s kHz, %d dB per octave", figure.Short(d.From), figure.Short(d.To/1000), 6*d.Order)}
	for _, p := range d.Peaks {
		what := "about"
		if p.Shape == dsp.LowShelf {
			what = "under"
		}
		said = append(said, fmt.Sprintf("%s dB %s %s Hz", figure.Plus(p.DB, 0), what, figure.Short(p.Hz)))
	}
	switch {
	case d.OneBox:
		said = append(said, "one speaker")
	case d.OneLow > 0:
		said = append(said, fmt.Sprintf("mono under %s Hz", figure.Short(d.OneLow)))
	}
	switch {
	case d.Softer > 0:
		said = append(said, figure.Short(d.Softer)+" dB softer than the room")
	case d.Softer < 0:
		said = append(said, figure.Short(-d.Softer)+" dB louder than the room")
	}
	if d.Ceiling != 0 {
		said = append(said, "no louder than "+figure.Signed(d.Ceiling, 0)+" dBFS")
	}
	if d.Noise > 0 {
		said = append(said, fmt.Sprintf("road noise of %s dB SPL", figure.Short(d.Noise)))
	}
	return strings.Join(said, ", ")
}

// Sections are its filters at a rate in Hz.
func (d Device) Sections(rate float64) ([]dsp.Biquad, error) {
	high, err := dsp.ButterworthHighpass(d.Order, d.From, rate)
	if err != nil {
		return nil, err
	}
	low, err := dsp.ButterworthLowpass(d.Order, math.Min(d.To, 0.45*rate), rate)
	if err != nil {
		return nil, err
	}
	out := append(high, low...)
	for _, p := range d.Peaks {
		s, err := dsp.RBJ(p.Shape, p.Hz, p.Q, p.DB, rate)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}

// ResponseDB is what it does to a tone, dB, at a rate in Hz.
func (d Device) ResponseDB(hz, rate float64) (float64, error) {
	s, err := d.Sections(rate)
	if err != nil {
		return 0, err
	}
	g := dsp.Response(s, hz, rate)
	return dsp.PowerDB(real(g)*real(g) + imag(g)*imag(g)), nil
}

const (
	beside      = 200.0 // Hz under which what sounds beside a device lies
	roundedOver = 6.0   // dB
	Lead        = 0.5   // s of a loop's end that filters hear before its start, where it goes round
	besideSeam  = 0.1   // s over which the noise of a loop goes into itself
)

// Play returns a sound as the stand-in plays it: channels, filters, ceiling, noise. A loop (round) is heard as it goes round:
// its start follows its end. Its softness is left out: it is told, and no one has to turn up. playback is the level, dB SPL,
// of -20 dBFS RMS in the room.
func (d Device) Play(x audio.Buffer, round bool, playback float64) (audio.Buffer, error) {
	y, err := d.filtered(x, round)
	if err != nil || d.Noise == 0 {
		return y, err
	}
	n := d.beside(y.Rate, y.Frames(), playback)
	for _, ch := range y.Ch {
		for i := range ch {
			ch[i] += n[i]
		}
	}
	return y, nil
}

// Mono returns a sound behind its filters alone, mono: what the ear of Body listens to, part by part.
func (d Device) Mono(x audio.Buffer) (audio.Buffer, error) {
	sections, err := d.Sections(float64(x.Rate))
	if err != nil {
		return audio.Buffer{}, err
	}
	y := append([]float32(nil), x.Mono()...)
	dsp.NewFilter(sections).Process(y, y)
	return audio.Buffer{Rate: x.Rate, Ch: [][]float32{y}}, nil
}

func (d Device) filtered(x audio.Buffer, round bool) (audio.Buffer, error) {
	lead := 0
	if round {
		lead = min(int(Lead*float64(x.Rate)), x.Frames())
	}
	y := audio.New(x.Rate, len(x.Ch), lead+x.Frames())
	for c, ch := range x.Ch {
		copy(y.Ch[c], ch[len(ch)-lead:])
		copy(y.Ch[c][lead:], ch)
	}
	if d.OneBox && len(y.Ch) > 1 {
		m := y.Mono()
		y.Ch = [][]float32{m}
	}
	sections, err := d.Sections(float64(x.Rate))
	if err != nil {
		return y, err
	}
	if d.OneLow > 0 && len(y.Ch) > 1 {
		m, err := (&move.MonoBelow{Hz: d.OneLow}).Processor(move.Place{Rate: y.Rate}) // it has no latency
		if err != nil {
			return y, err
		}
		m.Process(y, audio.Buffer{})
	}
	for _, ch := range y.Ch {
		dsp.NewFilter(sections).Process(ch, ch)
	}
	if d.Ceiling != 0 {
		for _, ch := range y.Ch {
			roundOff(ch, dsp.Gain(d.Ceiling-roundedOver), dsp.Gain(d.Ceiling))
		}
	}
	return y.Slice(lead, lead+x.Frames()), nil
}

// roundOff rounds off what rises over a, up to b, straight into level, as the soft clip does; as it is a stand-in, at the rate that it has.
func roundOff(x []float32, a, b float64) {
	for i, v := range x {
		u := math.Abs(float64(v))
		switch {
		case u <= a:
			continue
		case u >= 2*b-a:
			u = b
		default:
			u -= (u - a) * (u - a) / (4 * (b - a))
		}
		x[i] = float32(math.Copysign(u, float64(v)))
	}
}

// noises are the seconds of noise that are made once for a rate, at a mean square of 1.
var noises sync.Map

const noiseLong = 6.0 // s

func noiseAt(rate int) []float32 {
	if n, ok := noises.Load(rate); ok {
		return n.([]float32)
	}
	n := dsp.PinkNoise(int(noiseLong*float64(rate)), float64(rate))
	if low, err := dsp.ButterworthLowpass(2, beside, float64(rate)); err == nil {
		dsp.NewFilter(low).Process(n, n)
	}
	g := float32(1 / math.Sqrt(meter.Energy(n)/float64(len(n))+1e-20))
	for i := range n {
		n[i] *= g
	}
	noises.Store(rate, n)
	return n
}

// beside is what sounds beside the device, so many frames that go round without a seam.
func (d Device) beside(rate, frames int, playback float64) []float32 {
	n := noiseAt(rate)
	fade := min(int(besideSeam*float64(rate)), frames, len(n)/4)
	out := make([]float32, frames)
	g := float32(dsp.Gain(d.besideDBFS(playback)))
	step := len(n) - fade // each run of it goes into the next, and the last into the first
	for at := 0; at < frames; at += step {
		for i := range min(step, frames-at) {
			v := n[i]
			if i < fade {
				part := float64(i) / float64(fade)
				before := n[step+i]
				if at == 0 && frames%step != 0 {
					before = n[frames%step+i]
				}
				v = float32(math.Sqrt(part))*v + float32(math.Sqrt(1-part))*before
			}
			out[at+i] = g * v
		}
	}
	return out
}

// besideDBFS is the level of the noise beside a song that is played on the device: as much over the music there.
func (d Device) besideDBFS(playback float64) float64 { return d.Noise + d.Softer - playback - 20 }

// Quiet is what a sound on the device has to rise over, as excitation of an ear: the threshold of hearing where it is played
// so softly, and the noise beside it.
func (d Device) Quiet(rate int, playback float64) (*meter.Ear, []float64) {
	e := meter.NewEar(rate, playback-d.Softer)
	quiet := append([]float64(nil), e.Quiet...)
	if d.Noise == 0 {
		return e, quiet
	}
	const frames = 1 << 16
	n := audio.Buffer{Rate: rate, Ch: [][]float32{d.beside(rate, frames, playback)}}
	power, mean := make([]float64, e.Frame/2+1), make([]float64, e.Frame/2+1)
	count := 0
	for at := 0; at+e.Frame <= frames; at += e.Frame / 2 {
		e.Power(power, n, at)
		for i, p := range power {
			mean[i] += p
		}
		count++
	}
	for i := range mean {
		mean[i] /= float64(count)
	}
	noise := make([]float64, len(e.Hz))
	e.Excite(noise, mean, 0, len(noise))
	for i := range quiet {
		quiet[i] += noise[i]
	}
	return e, quiet
}
