package demo

import (
	"math"

	"mellowthump/core/audio"
)

// grid is the time of a song: its bars, its sixteenths in s, and by how much every second eighth is late, s.
type grid struct {
	bars       int
	step, late float64
}

// silence is the whole of it and a second, to be filled.
func (g grid) silence(channels int) audio.Buffer {
	return audio.New(ferryRate, channels, int(math.Round((float64(g.bars)*16*g.step+1)*ferryRate)))
}

// at is when a step of a bar begins, s.
func (g grid) at(bar, step int) float64 {
	t := float64(bar*16+step) * g.step
	if g.late > 0 && step%4 == 2 {
		t += g.late
	}
	return t
}

// put adds a sound made by f(t seconds after its start) at a step of a bar.
func (g grid) put(x []float32, bar, step int, seconds float64, f func(t float64) float64) {
	putAt(x, g.at(bar, step), seconds, f)
}

// add adds a rendered sound at a step of a bar.
func (g grid) add(x []float32, bar, step int, gain float32, sound []float32) {
	from := int(math.Round(g.at(bar, step) * ferryRate))
	for i, v := range sound {
		if from+i < len(x) {
			x[from+i] += gain * v
		}
	}
}

// putAt adds a sound made by f(t seconds after its start) at a time, s.
func putAt(x []float32, at, seconds float64, f func(t float64) float64) {
	from := int(math.Round(at * ferryRate))
	for i := range int(seconds * ferryRate) {
		if from+i < len(x) {
			x[from+i] += float32(f(float64(i) / ferryRate))
		}
	}
}

// render makes a sound by f(t), to be added in several places.
func render(seconds float64, f func(t float64) float64) []float32 {
	x := make([]float32, int(seconds*ferryRate))
	for i := range x {
		x[i] = float32(f(float64(i) / ferryRate))
	}
	return x
}

// noise is a repeatable noise source, flat from -1 to 1.
type noise uint64

func (n *noise) next() float64 {
	*n = *n*6364136223846793005 + 1442695040888963407
	return float64(int64(*n)) / (1 << 63)
}

// sweep is the phase of a tone that falls from f0+by to f0 with time constant tau.
func sweep(t, f0, by, tau float64) float64 {
	return 2 * math.Pi * (f0*t + by*tau*(1-math.Exp(-t/tau)))
}
