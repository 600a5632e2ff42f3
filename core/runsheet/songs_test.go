package runsheet

import (
	"fmt"
	"math"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/demo"
	"mellowthump/core/dsp"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/internal/songs"
)

// brought is a song with its sounds and their facts, as it stands after Intake.
func brought(t testing.TB, d demo.Song) (*mix.Renderer, *session.Song, map[string]*facts.Analysis) {
	t.Helper()
	return songs.Brought(t, d)
}

// beat is a generated beat in which nothing is wrong: the kick and the bass take turns, every peak is in its window, nothing
// rings, rumbles or stands wide. The faults of the tests are planted in it. All of it is invented.
type beat struct {
	bpm   float64
	bars  int
	kick  float64 // Hz that it settles on
	kicks []int   // sixteenths
	snare []int
	hats  int // every so many sixteenths
	bass  []note
	seed  uint64
}

type note struct{ at, steps, midi int }

// three clean beats.
var beats = []beat{
	{bpm: 140, bars: 4, kick: 55, kicks: []int{0, 8}, snare: []int{4, 12}, hats: 2, bass: []note{{2, 5, 33}, {10, 5, 36}}, seed: 1},
	{bpm: 92, bars: 4, kick: 61.7, kicks: []int{0, 7}, snare: []int{4, 12}, hats: 4, bass: []note{{2, 4, 35}, {9, 3, 35}, {13, 2, 38}}, seed: 2},
	{bpm: 124, bars: 4, kick: 49, kicks: []int{0, 4, 8, 12}, snare: []int{4, 12}, hats: 2,
		bass: []note{{2, 2, 31}, {6, 2, 31}, {10, 2, 34}, {14, 2, 31}}, seed: 3},
}

const beatRate = 44100

func (b beat) step() float64 { return 60 / b.bpm / 4 }

func (b beat) silence(channels int) audio.Buffer {
	return audio.New(beatRate, channels, int(math.Round((float64(b.bars)*16*b.step()+0.5)*beatRate)))
}

// at adds a sound of some seconds at a sixteenth of a bar.
func (b beat) at(x []float32, bar, step int, seconds float64, f func(t float64) float64) {
	from := int(math.Round(float64(bar*16+step) * b.step() * beatRate))
	for i := range int(seconds * beatRate) {
		if from+i < len(x) {
			x[from+i] += float32(f(float64(i) / beatRate))
		}
	}
}

// hiss is noise between two frequencies, the same each time.
func hiss(n int, seed uint64, lo, hi float64) []float32 {
	rng := rand.New(rand.NewPCG(seed, 7))
	x := make([]float32, n)
	for i := range x {
		x[i] = float32(rng.NormFloat64())
	}
	s, err := dsp.Bandpass(lo, hi, beatRate)
	if err != nil {
		panic(err)
	}
	dsp.NewFilter(s).Process(x, x)
	return x
}

// peaking brings a sound to a peak, dBFS.
func peaking(b audio.Buffer, db float64) audio.Buffer {
	g := float32(dsp.Gain(db - float64(meter.PeakDB(b.Ch...))))
	for _, ch := range b.Ch {
		for i := range ch {
			ch[i] *= g
		}
	}
	return b
}

func (b beat) kickSound() audio.Buffer {
	out := b.silence(1)
	for bar := range b.bars {
		for _, step := range b.kicks {
			b.at(out.Ch[0], bar, step, 0.3, func(t float64) float64 {
				body := math.Sin(2*math.Pi*(b.kick*t+1.2*(1-math.Exp(-t/0.012)))) * math.Exp(-t/0.06) * math.Min(1, (0.3-t)/0.02)
				return body + 0.25*math.Sin(2*math.Pi*2400*t)*math.Exp(-t/0.003)
			})
		}
	}
	return peaking(out, -7)
}

// bassSound has strong harmonics, so that it is heard on a phone; level gives each note its own, cents puts it out of tune,
// plain takes the harmonics away.
func (b beat) bassSound(level func(i int) float64, cents float64, plain bool) audio.Buffer {
	out := b.silence(1)
	i := 0
	for bar := range b.bars {
		for _, n := range b.bass {
			hz := 440 * math.Pow(2, (float64(n.midi)-69+cents/100)/12)
			long := float64(n.steps)*b.step() - 0.02
			g := level(i)
			i++
			b.at(out.Ch[0], bar, n.at, long, func(t float64) float64 {
				v := math.Sin(2 * math.Pi * hz * t)
				if !plain {
					for k := 2; k <= 24; k++ {
						v += 0.45 / math.Pow(float64(k), 0.55) * math.Sin(2*math.Pi*hz*float64(k)*t+float64(k*k))
					}
				}
				return g * v * math.Min(1, t/0.008) * math.Min(1, (long-t)/0.02)
			})
		}
	}
	return peaking(out, -9)
}

func even(int) float64 { return 1 }

func (b beat) snareSound(box float64) audio.Buffer {
	out := b.silence(1)
	n := hiss(20*beatRate, b.seed+10, 700, 9000)
	for bar := range b.bars {
		for k, step := range b.snare {
			from := (2*bar + k) * beatRate / 4 // another stretch of it each time
			b.at(out.Ch[0], bar, step, 0.16, func(t float64) float64 {
				return float64(n[from+int(t*beatRate)])*math.Exp(-t/0.03) + box*math.Sin(2*math.Pi*245*t)*math.Exp(-t/0.06)
			})
		}
	}
	return peaking(out, -8.5)
}

func (b beat) hatSound() audio.Buffer {
	out := b.silence(1)
	n := hiss(beatRate, b.seed+20, 7000, 16000)
	for bar := range b.bars {
		for step := 2; step < 16; step += b.hats {
			b.at(out.Ch[0], bar, step, 0.08, func(t float64) float64 { return float64(n[int(t*beatRate)]) * math.Exp(-t/0.018) })
		}
	}
	return peaking(out, -17)
}

// keySound is a soft chord of noise, which rings nowhere, between the hits of the snare.
func (b beat) keySound(lo, hi, peak float64, seed uint64) audio.Buffer {
	out := b.silence(1)
	n := hiss(20*beatRate, b.seed+seed, lo, hi)
	for bar := range b.bars {
		for k, step := range []int{0, 6, 14} {
			long, from := 2*b.step(), (3*bar+k)*beatRate/4
			b.at(out.Ch[0], bar, step, long, func(t float64) float64 {
				return float64(n[from+int(t*beatRate)]) * math.Min(1, t/0.03) * math.Min(1, (long-t)/0.05)
			})
		}
	}
	return peaking(out, peak)
}

// song puts the parts together; change may change them and the song before it is brought.
func (b beat) song(change func(s *demo.Song)) demo.Song {
	once, _ := clean.LoadOrStore(fmt.Sprint(b), sync.OnceValue(b.clean))
	out := once.(func() demo.Song)()
	out.Song = out.Song.Clone()
	out.Stems = slices.Clone(out.Stems)
	for i := range out.Stems { // a fault may be planted in them
		x := &out.Stems[i].Sound
		x.Ch = slices.Clone(x.Ch)
		for c := range x.Ch {
			x.Ch[c] = slices.Clone(x.Ch[c])
		}
	}
	if change != nil {
		change(&out)
	}
	return out
}

// clean are the beats as they are made.
var clean sync.Map

func (b beat) clean() demo.Song {
	s := session.New("A clean beat", b.bpm)
	s.Rate = beatRate
	s.Master.Fader = -2
	out := demo.Song{Song: s}
	add := func(id, name string, role session.Role, sound audio.Buffer) {
		out.Stems = append(out.Stems, demo.Stem{Stem: session.Stem{ID: id, Name: name, Role: role}, Sound: sound})
	}
	add("kick", "Kick", session.Kick, b.kickSound())
	add("bass", "808", session.Bass, b.bassSound(even, 0, false))
	add("snare", "Snare", session.Snare, b.snareSound(0))
	add("hats", "Hats", session.Hats, b.hatSound())
	add("keys", "Keys", session.Melodic, b.keySound(400, 5000, -13.5, 30))
	return out
}
