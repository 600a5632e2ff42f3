package meter

import (
	"fmt"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

// long808 is a line of decaying, driven sines, with glides of a length into one note of three, and a gap of a twentieth between notes
// or none; it returns when each begins.
func long808(seed uint64, glide float64, legato bool, attack float64) (x []float32, starts []float64) {
	r := rand.New(rand.NewPCG(seed, 5))
	x = make([]float32, 15*testRate)
	last := 0.0
	for at := 0.2; at < 14; {
		long := []float64{0.35, 0.5, 0.7, 1.0}[r.IntN(4)]
		hz, from := NoteHz([]int{28, 31, 33, 35, 29}[r.IntN(5)]), 0.0
		if glide > 0 && last > 0 && r.IntN(3) == 0 {
			from = last
		}
		sounds := long
		if !legato {
			sounds *= 0.95
		}
		phase := 0.0
		for i := int(at * testRate); i < int((at+sounds)*testRate) && i < len(x); i++ {
			t, f := float64(i)/testRate-at, hz
			if from > 0 && t < glide {
				f = from * math.Pow(hz/from, t/glide)
			}
			phase += 2 * math.Pi * f / testRate
			x[i] += float32(0.5 * math.Tanh(1.5*math.Sin(phase)) * math.Exp(-t/1.2) * math.Min(1, t/attack) * math.Min(1, (sounds-t)/0.015))
		}
		starts, last, at = append(starts, at), hz, at+long
		if r.IntN(5) == 0 {
			at += 0.4
		}
	}
	return x, starts
}

// duckedBy takes a sound down by dB for 80 ms every half second, and lets it back over 120 ms.
func duckedBy(x []float32, db float64) []float32 {
	y := make([]float32, len(x))
	for i, v := range x {
		g, t := 0.0, math.Mod(float64(i)/testRate, 0.5)
		switch {
		case t < 0.005:
			g = -db * t / 0.005
		case t < 0.08:
			g = -db
		case t < 0.2:
			g = -db * (0.2 - t) / 0.12
		}
		y[i] = v * float32(math.Pow(10, g/20))
	}
	return y
}

// Lines of sampled basses and of 808s, as they are, low-passed at 85 Hz, and ducked by 6 and 12 dB at every kick: notes begin where
// they begin, and a duck cuts them no more than now and then; how deep it is is told, and of what is not ducked nothing.
func TestDuckedLines(t *testing.T) {
	outside.Slow(t)
	t.Parallel()
	type line struct {
		name   string
		x      []float32
		starts []float64
	}
	var lines []line
	for _, program := range []int{34, 36, 38} {
		for _, bent := range []bool{false, true} {
			x, notes := sampledLine(t, program, 28, 1, bent)
			l := line{name: fmt.Sprintf("program %d bent %t", program, bent), x: x}
			for _, n := range notes {
				l.starts = append(l.starts, n.At)
			}
			lines = append(lines, l)
		}
	}
	for seed, glide := range []float64{0, 0.08, 0.25} {
		for k, attack := range []float64{0.004, 0.03} {
			x, starts := long808(uint64(seed), glide, k == 0, attack)
			lines = append(lines, line{fmt.Sprintf("808 glide %g attack %g", glide, attack), x, starts})
		}
	}
	lp, err := dsp.ButterworthLowpass(4, 85, testRate)
	if err != nil {
		t.Fatal(err)
	}
	for _, way := range []struct {
		name       string
		db         float64
		near, many float64 // of the notes
	}{{"as it is", 0, 0.95, 1.05}, {"low-passed", 0, 0.92, 1.04}, {"ducked", 6, 0.9, 1.2}, {"ducked", 12, 0.88, 1.25}} {
		notes, near, read, told := 0, 0, 0, 0
		for _, l := range lines {
			x := duckedBy(l.x, way.db)
			if way.name == "low-passed" {
				x = make([]float32, len(l.x))
				dsp.NewFilter(lp).Process(x, l.x)
			}
			low, fs := Low(x, testRate)
			line, ducked := DuckedLine(low, fs)
			for _, s := range l.starts {
				for _, n := range line {
					if math.Abs(n.Start-s) < 0.03 {
						near++
						break
					}
				}
			}
			notes, read = notes+len(l.starts), read+len(line)
			if ducked > 0 {
				told++
			}
			if way.db == 0 && ducked > 0 || ducked > 0 && math.Abs(ducked-way.db) > 5 {
				t.Errorf("%s, %s by %g: told to be ducked by %.1f dB", l.name, way.name, way.db, ducked)
			}
		}
		t.Logf("%s by %g dB: %d notes, %d begin within 30 ms, %d read; %d of %d told to be ducked", way.name, way.db, notes, near, read, told, len(lines))
		if float64(near) < way.near*float64(notes) || float64(read) > way.many*float64(notes) || way.db > 0 && told < len(lines)*3/4 {
			t.Errorf("%s by %g dB: of %d notes %d are near, %d are read; %d told", way.name, way.db, notes, near, read, told)
		}
	}
}
