package songs

import (
	"context"
	"fmt"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

const beatRate = 44100

// Beat is a kick over a bass that is in its way, eight seconds long, on the bench.
func Beat(t testing.TB) *bench.Bench {
	t.Helper()
	kick, bass := audio.New(beatRate, 1, 8*beatRate), audio.New(beatRate, 1, 8*beatRate)
	for h := 0; h < 16; h++ {
		for i := range beatRate / 4 {
			s := float64(i) / beatRate
			kick.Ch[0][h*beatRate/2+i] += float32(0.7 * math.Sin(2*math.Pi*(52*s+1.5*(1-math.Exp(-s/0.01)))) * math.Exp(-s/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.4 * math.Sin(2*math.Pi*46*float64(i)/beatRate))
	}
	return OnBench(t, Part{"k", session.Kick, kick}, Part{"b", session.Bass, bass})
}

// Part is a stem of a song on the bench; its file is its id, 64 times.
type Part struct {
	ID    string
	Role  session.Role
	Sound audio.Buffer
}

// OnBench is a song of some parts on the bench.
func OnBench(t testing.TB, parts ...Part) *bench.Bench {
	t.Helper()
	lib := &mix.Memory{}
	song := session.New("Test", 120)
	song.Rate = parts[0].Sound.Rate
	known := map[string]*facts.Analysis{}
	for _, s := range parts {
		sha := strings.Repeat(s.ID, 64)
		lib.Put(sha, s.Sound)
		a, err := facts.Analyse(context.Background(), audio.Memory{Buffer: s.Sound}, s.ID, nil)
		if err == nil {
			err = facts.Describe(context.Background(), audio.Memory{Buffer: s.Sound}, a)
		}
		if err != nil {
			t.Fatal(err)
		}
		known[sha] = a
		song.Stems = append(song.Stems, session.Stem{ID: s.ID, Name: s.ID, Role: s.Role, Audio: sha})
	}
	song.Settle()
	return bench.New(mix.New(lib, 1<<28), &song, known)
}

// FerryLoop is the demo song with eight of its bars.
func FerryLoop() (*mix.Renderer, *session.Song, mix.Window) {
	d := demo.SlowFerry()
	lib, song := &mix.Memory{}, d.Song
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		song.Stems = append(song.Stems, s.Stem)
	}
	return mix.New(lib, 1<<30), &song, mix.Window{From: 4 * song.Rate, To: 4*song.Rate + int(8*song.BarSeconds()*float64(song.Rate))}
}
