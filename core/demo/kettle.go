package demo

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Copper Kettle: the grid.
const (
	kettleBPM   = 88.0
	kettleBars  = 16
	kettleLevel = 0.5   // of all stems: the premaster has room
	kettleLate  = 0.018 // s by which every second eighth is late
)

var (
	kettleStep  = 60 / kettleBPM / 4
	kettleKicks = []int{0, 7, 10}
	kettleLine  = [4][]ferryNote{ // of the break: long, and in its kick's way; MIDI notes, A#1 is 34
		{{0, 9, 34, 0}, {9, 7, 33, 0}}, {{0, 9, 31, 0}, {9, 7, 33, 0}}, {{0, 9, 34, 0}, {9, 7, 36, 0}}, {{0, 9, 33, 0}, {9, 7, 33, 0}},
	}
	kettleBass = [4][]ferryNote{
		{{0, 3, 38, 0}, {6, 2, 38, 0}, {10, 4, 41, 0}},
		{{0, 3, 36, 0}, {10, 5, 38, 0}},
		{{0, 3, 34, 0}, {6, 2, 34, 0}, {10, 4, 41, 0}},
		{{0, 6, 33, 0}, {10, 5, 33, 0}},
	}
	kettleKeys = [4][]int{{62, 65, 69, 72}, {60, 64, 67, 70}, {58, 62, 65, 69}, {57, 61, 64, 67}}
)

// CopperKettle is a boom bap beat, 88 bpm, in D minor, 16 bars: a break that was bounced as one file, kick and long bass in
// one, in each other's way; beside it a kick, a plucked bass, a snare, hats and keys.
func CopperKettle() Song {
	s := session.New("Copper Kettle", kettleBPM)
	s.Key, s.Rate = "D minor", ferryRate
	s.Buses = []session.Bus{{ID: "drums", Name: "Drums"}, {ID: "music", Name: "Music"}}
	s.Triggers = []session.Trigger{{ID: session.KickTrigger, Name: "Kick", Stem: "kick"}}
	parts := []struct {
		id, name string
		role     session.Role
		bus      string
		make     func() audio.Buffer
	}{
		{"kick", "Kick", session.Kick, "drums", kettleKick},
		{"bass", "Plucked bass", session.Bass, "", kettlePlucked},
		{"break", "Bounced break", session.Other, "", kettleBreak},
		{"snare", "Snare", session.Snare, "drums", kettleSnare},
		{"hats", "Hats", session.Hats, "drums", kettleHats},
		{"keys", "Keys", session.Melodic, "music", kettleChords},
	}
	out := Song{Song: s, Stems: make([]Stem, len(parts))}
	group.All(len(parts), func(i int) {
		p := parts[i]
		out.Stems[i].Stem = session.Stem{ID: p.id, Name: p.name, Role: p.role, Bus: p.bus}
		b := p.make()
		for _, x := range b.Ch {
			for k := range x {
				x[k] *= kettleLevel
			}
		}
		out.Stems[i].Sound = b
	})
	return out
}

// kettleTime is the time of Copper Kettle, with its swing.
var kettleTime = grid{bars: kettleBars, step: kettleStep, late: kettleLate}

// thud is a kick that settles at hz.
func thud(hz, decay float64) func(t float64) float64 {
	return func(t float64) float64 {
		return math.Sin(sweep(t, hz, 160, 0.009)) * math.Exp(-t/decay) * (1 - math.Exp(-t/0.0008))
	}
}

// kettleBreak is mono in its lows, with dust beside it.
func kettleBreak() audio.Buffer {
	b := kettleTime.silence(2)
	low := make([]float32, b.Frames())
	for bar := range kettleBars {
		for _, step := range kettleKicks {
			hit := thud(56, 0.075)
			kettleTime.put(low, bar, step, 0.5, func(t float64) float64 { return 0.55 * hit(t) })
		}
		for _, note := range kettleLine[bar%4] {
			hz, length := meter.NoteHz(note.midi), float64(note.steps)*kettleStep
			kettleTime.put(low, bar, note.at, length, func(t float64) float64 {
				edge := math.Min(1, math.Min(t/0.02, (length-t)/0.03))
				v := 0.0
				for h := 1.0; h <= 10; h++ { // a worn recording: its partials are strong
					v += math.Sin(2*math.Pi*hz*h*t) / (1 + 0.2*(h-1))
				}
				return 0.12 * edge * v
			})
		}
	}
	for c := range b.Ch {
		n := noise(41 + 2*c)
		last := 0.0
		for i := range b.Ch[c] {
			w := n.next()
			b.Ch[c][i] = low[i] + float32(0.006*(w-last))
			last = w
		}
	}
	return b
}

func kettleKick() audio.Buffer {
	b := kettleTime.silence(1)
	for bar := range kettleBars {
		for _, step := range kettleKicks {
			hit := thud(61, 0.09)
			kettleTime.put(b.Ch[0], bar, step, 0.6, func(t float64) float64 { return 0.7 * hit(t) })
		}
	}
	return b
}

// kettlePlucked is a string that dies away, its upper partials first.
func kettlePlucked() audio.Buffer {
	b := kettleTime.silence(1)
	for bar := range kettleBars {
		for _, note := range kettleBass[bar%4] {
			hz, length := meter.NoteHz(note.midi), float64(note.steps)*kettleStep
			kettleTime.put(b.Ch[0], bar, note.at, length, func(t float64) float64 {
				v := 0.0
				for h := 1.0; h <= 9; h++ {
					v += math.Sin(2*math.Pi*hz*h*t) * math.Exp(-t*(0.9+0.9*h)) / h
				}
				return 0.26 * v * math.Min(1, math.Min(t/0.002, (length-t)/0.02))
			})
		}
	}
	return b
}

func kettleSnare() audio.Buffer {
	b := kettleTime.silence(1)
	n := noise(53)
	for bar := range kettleBars {
		for _, step := range []int{4, 12} {
			kettleTime.put(b.Ch[0], bar, step, 0.4, func(t float64) float64 {
				return 0.3*math.Sin(sweep(t, 196, 90, 0.012))*math.Exp(-t/0.07) + 0.26*n.next()*math.Exp(-t/0.1)
			})
		}
	}
	return b
}

func kettleHats() audio.Buffer {
	b := kettleTime.silence(2)
	n := noise(59)
	for bar := range kettleBars {
		for step := 0; step < 16; step += 2 {
			for c := range b.Ch {
				last := 0.0
				kettleTime.put(b.Ch[c], bar, step, 0.12, func(t float64) float64 {
					w := n.next()
					v := w - last
					last = w
					return (0.06 + 0.04*float64(step%4/2)) * v * math.Exp(-t/0.022)
				})
			}
		}
	}
	return b
}

func kettleChords() audio.Buffer {
	b := kettleTime.silence(2)
	for bar := range kettleBars {
		for i, midi := range kettleKeys[bar%4] {
			hz := meter.NoteHz(midi)
			left := 0.4 + 0.2*float64(i%2)
			for c := range b.Ch {
				side := left
				if c == 1 {
					side = 1 - left
				}
				kettleTime.put(b.Ch[c], bar, 0, 12*kettleStep, func(t float64) float64 {
					bell := 1.2 * math.Exp(-t/0.3) * math.Sin(2*math.Pi*hz*t)
					return 0.13 * side * math.Sin(2*math.Pi*hz*t+bell) * math.Exp(-t/0.9) * math.Min(1, math.Min(t/0.003, (12*kettleStep-t)/0.05))
				})
			}
		}
	}
	return b
}
