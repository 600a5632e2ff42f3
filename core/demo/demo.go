// Package demo synthesises the demo songs. All of it is invented, and the same on every run.
package demo

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Stem is a synthesised stem with what a song says of it.
type Stem struct {
	session.Stem
	Sound audio.Buffer
}

// Song is a demo song: the session without audio hashes, and the sound of its stems.
type Song struct {
	session.Song
	Stems    []Stem
	Finished []Finished
}

// Finished is a finished track that a demo song is compared with, invented like all of it.
type Finished struct {
	Name  string
	Sound audio.Buffer
}

// Slow Ferry: the grid.
const (
	ferryRate  = 44100
	ferryBPM   = 142.0
	ferryBars  = 32
	ferrySharp = 17.0 // cents by which the 808 is out of tune
	ferryClip  = 1.4  // dB by which the drum bus goes over full scale
	ferryKick  = 48.0 // Hz on which the kick settles
)

var (
	ferryStep  = 60 / ferryBPM / 4 // s, a sixteenth
	ferryKicks = [2][]int{{0, 6, 10}, {0, 3, 8, 14}}
	ferryLine  = [4][]ferryNote{ // MIDI notes; F1 is 29
		{{0, 10, 29, 0}, {10, 6, 29, 0}},
		{{0, 8, 29, 0}, {8, 6, 25, 29}, {14, 2, 25, 0}},
		{{0, 10, 29, 0}, {10, 6, 27, 0}},
		{{0, 8, 29, 24}, {8, 8, 24, 0}},
	}
)

type ferryNote struct{ at, steps, midi, glideFrom int }

// SlowFerry is a trap beat, 142 bpm felt at 71, in F minor, 32 bars, with deliberate faults:
// the 808 17 cents sharp and in the kick's way on F1, its level stepping between notes; one
// kick layer of flipped polarity; a boxy snare; rumble under the bell; a pad out of phase in
// its lows; the drum bus over full scale; the texture too loud; the snare's fader locked.
func SlowFerry() Song {
	s := session.New("Slow Ferry", ferryBPM)
	s.FeltBPM, s.Key, s.Rate = 71, "F minor", ferryRate
	s.Buses = []session.Bus{{ID: "drums", Name: "Drums"}, {ID: "low", Name: "Low end"}, {ID: "music", Name: "Music"}}
	s.Triggers = []session.Trigger{{ID: session.KickTrigger, Name: "Kick", Stem: "kick-low"}}
	parts := []struct {
		id, name string
		role     session.Role
		bus      string
		make     func() audio.Buffer
	}{
		{"kick-low", "Kick low", session.Kick, "drums", ferryKickLow},
		{"kick-top", "Kick top", session.Kick, "drums", ferryKickTop},
		{"808", "808", session.Bass, "low", ferry808},
		{"snare", "Snare", session.Snare, "drums", ferrySnare},
		{"clap", "Clap", session.Snare, "drums", ferryClap},
		{"hats", "Hats", session.Hats, "drums", ferryHats},
		{"open-hat", "Open hat", session.Hats, "drums", ferryOpenHat},
		{"perc", "Wood block", session.Perc, "drums", ferryPerc},
		{"bell", "Bell", session.Melodic, "music", ferryBell},
		{"pad", "Pad", session.Melodic, "music", ferryPad},
		{"texture", "River noise", session.Texture, "", ferryTexture},
		{"riser", "Riser", session.Effects, "", ferryRiser},
	}
	out := Song{Song: s, Stems: make([]Stem, len(parts))}
	group.All(len(parts), func(i int) {
		p := parts[i]
		out.Stems[i].Stem = session.Stem{ID: p.id, Name: p.name, Role: p.role, Bus: p.bus}
		out.Stems[i].Sound = p.make()
	})
	out.Stems[3].Locks = []session.Step{session.TrackStep}
	clipDrums(out.Stems)
	return out
}

// clipDrums scales the drum stems so that their bus goes over full scale by ferryClip.
func clipDrums(stems []Stem) {
	sum := ferryTime.silence(2)
	for _, s := range stems {
		if s.Bus == "drums" {
			for c := range sum.Ch {
				for i, v := range s.Sound.Ch[min(c, len(s.Sound.Ch)-1)] {
					sum.Ch[c][i] += v
				}
			}
		}
	}
	g := float32(dsp.Gain(ferryClip - float64(meter.PeakDB(sum.Ch...))))
	for _, s := range stems {
		if s.Bus == "drums" {
			for c := range s.Sound.Ch {
				for i := range s.Sound.Ch[c] {
					s.Sound.Ch[c][i] *= g
				}
			}
		}
	}
}

// ferryTime is the time of Slow Ferry.
var ferryTime = grid{bars: ferryBars, step: ferryStep}

func eachKick(f func(bar, step int, level float64)) {
	for bar := range ferryBars {
		for _, step := range ferryKicks[bar%2] {
			level := 1.0
			if step == 3 || step == 14 { // the pushed hits are softer
				level = 0.86
			}
			f(bar, step, level)
		}
	}
}

func ferryKickLow() audio.Buffer {
	b := ferryTime.silence(1)
	hit := render(0.6, func(t float64) float64 {
		return math.Sin(sweep(t, ferryKick, 200, 0.0075)) * math.Exp(-t/0.08) * (1 - math.Exp(-t/0.0006))
	})
	eachKick(func(bar, step int, level float64) { ferryTime.add(b.Ch[0], bar, step, float32(level), hit) })
	return b
}

// ferryKickTop has a click and a body that stands upside down against the low layer.
func ferryKickTop() audio.Buffer {
	b := ferryTime.silence(1)
	n := noise(3)
	eachKick(func(bar, step int, level float64) {
		hp := 0.0
		ferryTime.put(b.Ch[0], bar, step, 0.25, func(t float64) float64 {
			w := n.next()
			hp += 0.3 * (w - hp)
			click := 0.22 * (w - hp) * math.Exp(-t/0.004)
			body := -0.24 * math.Sin(sweep(t, ferryKick+3, 200, 0.0075)) * math.Exp(-t/0.06)
			return level * (click + body)
		})
	})
	return b
}

func ferry808() audio.Buffer {
	b := ferryTime.silence(1)
	sharp := math.Pow(2, ferrySharp/1200)
	steps := []float64{0.30, 0.235, 0.28, 0.325, 0.25} // the levels jump from note to note
	k := 0
	for bar := range ferryBars {
		for _, note := range ferryLine[bar%4] {
			hz := meter.NoteHz(note.midi) * sharp
			from := hz
			if note.glideFrom != 0 {
				from = meter.NoteHz(note.glideFrom) * sharp
			}
			level := steps[k%len(steps)]
			k++
			length := float64(note.steps) * ferryStep
			phase := 0.0
			ferryTime.put(b.Ch[0], bar, note.at, length, func(t float64) float64 {
				glide := math.Exp(-t / 0.035)
				phase += 2 * math.Pi * hz * math.Pow(from/hz, glide) / ferryRate
				edge := math.Min(1, math.Min(t/0.004, (length-t)/0.012))
				tone := math.Tanh(1.5*math.Sin(phase)) + 0.05*math.Sin(2*phase)
				return level * tone * math.Exp(-t/1.4) * edge
			})
		}
	}
	return b
}

func ferrySnare() audio.Buffer {
	b := ferryTime.silence(1)
	n := noise(5)
	for bar := range ferryBars {
		ferryTime.put(b.Ch[0], bar, 8, 0.35, func(t float64) float64 {
			body := 0.26 * math.Sin(sweep(t, 182, 80, 0.01)) * math.Exp(-t/0.06)
			box := 0.26 * math.Sin(2*math.Pi*240*t) * math.Exp(-t/0.11) // boxy
			return body + box + 0.22*n.next()*math.Exp(-t/0.09)
		})
	}
	return b
}

func ferryClap() audio.Buffer {
	b := ferryTime.silence(1)
	n := noise(7)
	for bar := 4; bar < ferryBars; bar++ {
		lp := 0.0
		ferryTime.put(b.Ch[0], bar, 8, 0.3, func(t float64) float64 {
			burst := math.Exp(-t / 0.08)
			for _, d := range []float64{0, 0.011, 0.023} {
				if t >= d {
					burst += math.Exp(-(t - d) / 0.004)
				}
			}
			w := n.next()
			lp += 0.12 * (w - lp)
			return 0.17 * (w - lp) * burst
		})
	}
	return b
}

// hatSound is how a hat sounds: its level, its decay in s, its place from -1 left to 1 right.
type hatSound struct{ level, decay, pan float64 }

func hat(b audio.Buffer, n *noise, bar, step int, h hatSound) {
	level, decay, pan := h.level, h.decay, h.pan
	last := 0.0
	ferryTime.put(b.Ch[0], bar, step, decay*6, func(t float64) float64 {
		w := n.next()
		hp := (w - last) / 2
		last = w
		return level * (1 - pan) * hp * math.Exp(-t/decay)
	})
	last = 0
	ferryTime.put(b.Ch[1], bar, step, decay*6, func(t float64) float64 {
		w := n.next()
		hp := (w - last) / 2
		last = w
		return level * (1 + pan) * hp * math.Exp(-t/decay)
	})
}

func ferryHats() audio.Buffer {
	b := ferryTime.silence(2)
	n := noise(11)
	for bar := range ferryBars {
		for step := 0; step < 16; step += 2 {
			hat(b, &n, bar, step, hatSound{0.22 + 0.08*float64(step%4/2), 0.018, 0.15})
		}
		if bar%4 == 3 { // a roll at the end of the phrase
			for step := 12; step < 16; step++ {
				hat(b, &n, bar, step, hatSound{0.18, 0.012, -0.2})
			}
		}
	}
	return b
}

func ferryOpenHat() audio.Buffer {
	b := ferryTime.silence(2)
	n := noise(13)
	for bar := range ferryBars {
		if bar%2 == 1 {
			hat(b, &n, bar, 6, hatSound{0.2, 0.11, 0.1})
		}
	}
	return b
}

func ferryPerc() audio.Buffer {
	b := ferryTime.silence(1)
	for bar := range ferryBars {
		for _, step := range [][]int{{5, 13}, {11}}[bar%2] {
			ferryTime.put(b.Ch[0], bar, step, 0.15, func(t float64) float64 {
				return 0.2 * (math.Sin(2*math.Pi*820*t) + 0.5*math.Sin(2*math.Pi*1340*t)) * math.Exp(-t/0.022)
			})
		}
	}
	return b
}

// ferryBell carries rumble near 40 Hz that nobody asked for.
func ferryBell() audio.Buffer {
	b := ferryTime.silence(2)
	melody := [][4]int{{65, 68, 72, 68}, {65, 61, 68, 72}, {63, 67, 70, 67}, {60, 63, 67, 72}}
	rings := map[int][]float32{}
	for bar := range ferryBars {
		for i, midi := range melody[bar%4] {
			if rings[midi] == nil {
				hz := meter.NoteHz(midi)
				rings[midi] = render(1.6, func(t float64) float64 {
					mod := 1.8 * math.Exp(-t/0.25) * math.Sin(2*math.Pi*hz*2.76*t)
					return 0.17 * math.Sin(2*math.Pi*hz*t+mod) * math.Exp(-t/0.5) * math.Min(1, t/0.002)
				})
			}
			ferryTime.add(b.Ch[i%2], bar, i*4, 1, rings[midi])
			ferryTime.add(b.Ch[1-i%2], bar, i*4, 0.6, rings[midi])
		}
	}
	n := noise(17)
	lp := 0.0
	for i := range b.Ch[0] {
		t := float64(i) / ferryRate
		lp += 0.006 * (n.next() - lp)
		rumble := float32(0.028*math.Sin(2*math.Pi*40.5*t)*(1+0.4*math.Sin(2*math.Pi*0.7*t)) + 0.12*lp)
		b.Ch[0][i] += rumble
		b.Ch[1][i] += rumble
	}
	return b
}

// ferryPad is wide, and out of phase between the channels under 200 Hz.
func ferryPad() audio.Buffer {
	b := ferryTime.silence(2)
	chords := [4][3]int{{53, 56, 60}, {49, 53, 56}, {51, 55, 58}, {48, 51, 55}}
	length := 16 * ferryStep
	for k, chord := range chords {
		for c := range b.Ch {
			detune := math.Pow(2, float64(2*c-1)*6/1200)
			sign := float64(1 - 2*c)
			sound := render(length+0.25, func(t float64) float64 {
				v := 0.0
				for _, midi := range chord {
					w := 2 * math.Pi * meter.NoteHz(midi) * t
					v += sign * 0.027 * math.Sin(w) // the lows, one side upside down
					for h := 2.0; h <= 6; h++ {
						v += 0.05 / h * math.Sin(w*detune*h)
					}
				}
				return v * math.Min(1, t/0.25) * math.Min(1, math.Max(0, (length+0.25-t)/0.25))
			})
			for bar := k; bar < ferryBars; bar += len(chords) {
				ferryTime.add(b.Ch[c], bar, 0, 1, sound)
			}
		}
	}
	return b
}

func ferryTexture() audio.Buffer {
	b := ferryTime.silence(2)
	for c := range b.Ch {
		n := noise(19 + 4*c)
		lp, slow := 0.0, 0.0
		for i := range b.Ch[c] {
			w := n.next()
			lp += 0.25 * (w - lp)
			slow += 0.02 * (lp - slow)
			v := 0.22 * (lp - slow)
			if w > 0.99985 { // a crackle now and then
				v += 0.12
			}
			b.Ch[c][i] = float32(v)
		}
	}
	return b
}

func ferryRiser() audio.Buffer {
	b := ferryTime.silence(2)
	n := noise(29)
	length := 32 * ferryStep
	for bar := 6; bar < ferryBars; bar += 8 {
		for c := range b.Ch {
			lp := 0.0
			ferryTime.put(b.Ch[c], bar, 0, length, func(t float64) float64 {
				u := t / length
				w := n.next()
				lp += (0.02 + 0.5*u*u) * (w - lp)
				return 0.3 * u * u * (w - lp) * math.Min(1, (length-t)/0.01)
			})
		}
	}
	return b
}
