package demo

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// glass is a four on the floor beat: its grid, its notes and how its parts stand to each other.
type glass struct {
	bpm   float64
	bars  int
	free  int // bars of kick and hats alone at its start
	bass  [4]int
	sub   [4]int
	keys  [4][]int
	gains map[string]float64 // amplitude, by part
	seed  noise
}

// tidal is the demo song; the sub is too loud and under the kick, the hats are dull, the bass is thick.
var tidal = glass{
	bpm: 126, bars: 32, free: 4, seed: 61,
	bass:  [4]int{45, 45, 41, 43}, // A2, F2, G2
	sub:   [4]int{33, 33, 29, 31},
	keys:  [4][]int{{57, 60, 64, 69}, {57, 60, 64, 67}, {53, 57, 60, 65}, {55, 59, 62, 67}},
	gains: map[string]float64{"kick": 0.5, "clap": 0.3, "hats": 0.1, "bass": 0.2, "sub": 0.34, "keys": 0.12, "air": 0.05},
}

// harbour is the finished track beside it: another tune in E minor, balanced and louder.
var harbour = glass{
	bpm: 124, bars: 24, free: 4, seed: 67,
	bass:  [4]int{40, 43, 45, 47},
	sub:   [4]int{28, 31, 33, 35},
	keys:  [4][]int{{52, 55, 59, 64}, {55, 59, 62, 67}, {57, 60, 64, 69}, {59, 62, 66, 71}},
	gains: map[string]float64{"kick": 0.58, "clap": 0.3, "hats": 0.24, "bass": 0.11, "sub": 0.15, "keys": 0.13, "air": 0.07},
}

// time is that of the song.
func (g *glass) time() grid { return grid{bars: g.bars, step: 60 / g.bpm / 4} }

// again adds a rendered sound at steps of every fourth bar, from the k-th on, once all play.
func (g *glass) again(x []float32, k int, steps []int, sound []float32) {
	for bar := g.free + (k-g.free%4+4)%4; bar < g.bars; bar += 4 {
		for _, step := range steps {
			g.time().add(x, bar, step, 1, sound[:len(sound)-1])
		}
	}
}

func (g *glass) kick() audio.Buffer {
	b := g.time().silence(1)
	hit := render(0.45, func(t float64) float64 {
		return math.Sin(sweep(t, 50, 180, 0.008))*math.Exp(-t/0.09)*(1-math.Exp(-t/0.0007)) + 0.18*math.Sin(2*math.Pi*2900*t)*math.Exp(-t/0.003)
	})
	for bar := range g.bars {
		for step := 0; step < 16; step += 4 {
			g.time().put(b.Ch[0], bar, step, 0.44, func(t float64) float64 { return float64(hit[int(t*ferryRate)]) })
		}
	}
	return b
}

func (g *glass) clap() audio.Buffer {
	b := g.time().silence(1)
	n := g.seed
	for bar := g.free; bar < g.bars; bar++ {
		for _, step := range []int{4, 12} {
			lp := 0.0
			g.time().put(b.Ch[0], bar, step, 0.28, func(t float64) float64 {
				burst := math.Exp(-t / 0.07)
				for _, d := range []float64{0, 0.012, 0.024} {
					if t >= d {
						burst += math.Exp(-(t - d) / 0.004)
					}
				}
				w := n.next()
				lp += 0.15 * (w - lp)
				return 0.6 * (w - lp) * burst
			})
		}
	}
	return b
}

func (g *glass) hats() audio.Buffer {
	b := g.time().silence(2)
	n := g.seed + 4
	for bar := range g.bars {
		for step := 2; step < 16; step += 4 {
			for c := range b.Ch {
				last := 0.0
				g.time().put(b.Ch[c], bar, step, 0.2, func(t float64) float64 {
					w := n.next()
					v := w - last
					last = w
					return 0.6 * v * math.Exp(-t/0.05)
				})
			}
		}
	}
	return b
}

// offbeat is the bass on every second eighth, with strong partials.
func (g *glass) offbeat() audio.Buffer {
	b := g.time().silence(1)
	length := 2 * g.time().step
	for k, midi := range g.bass {
		hz := meter.NoteHz(midi)
		note := render(length, func(t float64) float64 {
			v := 0.0
			for h := 1.0; h <= 12; h++ {
				v += math.Sin(2*math.Pi*hz*h*t) * math.Exp(-t*(3+1.3*h)) / math.Sqrt(h)
			}
			return 0.5 * v * math.Min(1, math.Min(t/0.003, (length-t)/0.02))
		})
		g.again(b.Ch[0], k, []int{2, 6, 10, 14}, note)
	}
	return b
}

// rolling is the sub on the three sixteenths after each kick, ringing into the next.
func (g *glass) rolling() audio.Buffer {
	b := g.time().silence(1)
	length := 1.25 * g.time().step
	for k, midi := range g.sub {
		hz := meter.NoteHz(midi)
		note := render(length, func(t float64) float64 {
			w := 2 * math.Pi * hz * t
			return (math.Sin(w) + 0.12*math.Sin(2*w)) * math.Min(1, math.Min(t/0.006, (length-t)/0.02))
		})
		g.again(b.Ch[0], k, []int{1, 2, 3, 5, 6, 7, 9, 10, 11, 13, 14, 15}, note)
	}
	return b
}

func (g *glass) chords() audio.Buffer {
	b := g.time().silence(2)
	length := 16 * g.time().step
	for k, chord := range g.keys {
		for c := range b.Ch {
			sound := render(length, func(t float64) float64 {
				v := 0.0
				for i, midi := range chord {
					side := 0.35 + 0.1*float64(i)
					if c == 1 {
						side = 1 - side
					}
					w := 2 * math.Pi * meter.NoteHz(midi) * (1 + 0.0008*float64(2*c-1)) * t
					for h := 1.0; h <= 8; h++ {
						v += side * math.Sin(w*h) / h
					}
				}
				return 0.6 * v * math.Min(1, math.Min(t/0.03, (length-t)/0.04))
			})
			g.again(b.Ch[c], k, []int{0}, sound)
		}
	}
	return b
}

// air is noise that swells over four bars.
func (g *glass) air() audio.Buffer {
	b := g.time().silence(2)
	span := 64 * g.time().step
	for c := range b.Ch {
		n := g.seed + noise(10+2*c)
		lp := 0.0
		for i := range b.Ch[c] {
			w := n.next()
			lp += 0.3 * (w - lp)
			u := math.Mod(float64(i)/ferryRate, span) / span
			b.Ch[c][i] = float32((0.15 + 0.85*u*u) * (w - lp))
		}
	}
	return b
}

type glassPart struct {
	key, name string
	role      session.Role
	bus       string
	make      func() audio.Buffer
}

func (g *glass) parts() []glassPart {
	return []glassPart{
		{"kick", "Kick", session.Kick, "drums", g.kick},
		{"sub", "Rolling sub", session.Bass, "low", g.rolling},
		{"bass", "Offbeat bass", session.Bass, "low", g.offbeat},
		{"clap", "Clap", session.Snare, "drums", g.clap},
		{"hats", "Hats", session.Hats, "drums", g.hats},
		{"keys", "Glass keys", session.Melodic, "music", g.chords},
		{"air", "Spray", session.Texture, "", g.air},
	}
}

func (g *glass) make() []audio.Buffer {
	parts := g.parts()
	out := make([]audio.Buffer, len(parts))
	group.All(len(parts), func(i int) {
		out[i] = parts[i].make()
		for _, ch := range out[i].Ch {
			for k := range ch {
				ch[k] *= float32(g.gains[parts[i].key])
			}
		}
	})
	return out
}

// TidalGlass is a four on the floor beat, 126 bpm, in A minor, 32 bars: an offbeat bass and a rolling sub, keys ducked to kick
// and clap; beside it a finished track of another tune. Against it the song has too much sub, too thick a bass and dull hats.
func TidalGlass() Song {
	g := &tidal
	s := session.New("Tidal Glass", g.bpm)
	s.Key, s.Rate = "A minor", ferryRate
	s.Buses = []session.Bus{{ID: "drums", Name: "Drums"}, {ID: "low", Name: "Low end"}, {ID: "music", Name: "Music"}}
	s.Triggers = []session.Trigger{
		{ID: session.KickTrigger, Name: "Kick", Stem: "kick"},
		{ID: "pump", Name: "Kick and clap", Stem: "kick", Stems: []string{"clap"}},
	}
	out := Song{Song: s}
	sounds := g.make()
	for i, p := range g.parts() {
		st := session.Stem{ID: p.key, Name: p.name, Role: p.role, Bus: p.bus}
		if p.key == "keys" {
			st.Moves = move.Chain{
				{
					ID:     "duck-pump",
					Params: &move.Duck{School: move.CurveSchool, Trigger: "pump", Points: []move.Point{{MS: -2}, {MS: 4, DB: -8}, {MS: 60, DB: -8}, {MS: 230}}},
				},
			}
		}
		out.Stems = append(out.Stems, Stem{Stem: st, Sound: sounds[i]})
	}
	out.Finished = []Finished{{Name: "Harbour Light", Sound: finishedTrack()}}
	return out
}

// finishedTrack is the finished track: mixed, ducked, driven into a soft ceiling of -1 dBFS.
func finishedTrack() audio.Buffer {
	g := &harbour
	out := g.time().silence(2)
	for i, x := range g.make() {
		key := g.parts()[i].key
		for c := range out.Ch {
			in := x.Ch[min(c, len(x.Ch)-1)]
			for k, v := range in {
				if key == "sub" || key == "bass" || key == "keys" { // away from each kick, back in 160 ms
					since := math.Mod(float64(k)/ferryRate, 4*g.time().step)
					v *= float32(math.Min(1, 0.25+0.75*since/0.16))
				}
				out.Ch[c][k] += v
			}
		}
	}
	top := dsp.Gain(-1)
	for _, ch := range out.Ch {
		for k, v := range ch {
			ch[k] = float32(top * math.Tanh(2.1*float64(v)/top))
		}
	}
	return out
}
