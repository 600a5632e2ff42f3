// Package songs holds, for tests, the demo songs and what is measured of sounds, each worked out once a test program.
package songs

import (
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"math"
	"sync"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/group"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// The demo songs. Their sounds are shared: they must not be changed.
var (
	SlowFerry    = kept(demo.SlowFerry)
	CopperKettle = kept(demo.CopperKettle)
	TidalGlass   = kept(demo.TidalGlass)
)

// kept is a song that is made once; stems and the rest of the song are each caller's own.
func kept(of func() demo.Song) func() demo.Song {
	once := sync.OnceValue(of)
	return func() demo.Song {
		d := once()
		d.Song = d.Song.Clone()
		d.Stems = append([]demo.Stem(nil), d.Stems...)
		d.Finished = append(d.Finished[:0:0], d.Finished...)
		return d
	}
}

// FirstHalf is the first half of a song: what lies in its second is cut off.
func FirstHalf(d demo.Song) demo.Song {
	for i := range d.Stems {
		b := &d.Stems[i].Sound
		*b = b.Slice(0, b.Frames()/2)
	}
	return d
}

// analyses are what was measured, by sound and name.
var analyses sync.Map

type sound [sha256.Size]byte

func hashOf(name string, b audio.Buffer) sound {
	h := sha256.New()
	fmt.Fprintln(h, name, b.Rate, len(b.Ch))
	var part [4096]byte
	for _, ch := range b.Ch {
		for len(ch) > 0 {
			n := min(len(ch), len(part)/4)
			for i, v := range ch[:n] {
				binary.LittleEndian.PutUint32(part[4*i:], math.Float32bits(v))
			}
			h.Write(part[:4*n])
			ch = ch[n:]
		}
	}
	return sound(h.Sum(nil))
}

// Measured is what Intake finds in a sound, its portrait too; it is shared, and must not be changed.
func Measured(t testing.TB, name string, b audio.Buffer) *facts.Analysis {
	t.Helper()
	once, _ := analyses.LoadOrStore(hashOf(name, b), sync.OnceValues(func() (*facts.Analysis, error) {
		src := audio.Memory{Buffer: b}
		a, err := facts.Analyse(context.Background(), src, name, nil)
		if err == nil {
			err = facts.Describe(context.Background(), src, a)
		}
		return a, err
	}))
	a, err := once.(func() (*facts.Analysis, error))()
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// Brought is a song with its sounds and their facts, as it stands after Intake.
func Brought(t testing.TB, d demo.Song) (*mix.Renderer, *session.Song, map[string]*facts.Analysis) {
	t.Helper()
	lib := &mix.Memory{}
	song := d.Song
	known := make([]*facts.Analysis, len(d.Stems))
	group.All(len(d.Stems), func(i int) { known[i] = Measured(t, d.Stems[i].Name, d.Stems[i].Sound) })
	byHash := map[string]*facts.Analysis{}
	for i, st := range d.Stems {
		sha := fmt.Sprintf("%064x", i+1)
		lib.Put(sha, st.Sound)
		byHash[sha] = known[i]
		st.Stem.Audio = sha
		song.Stems = append(song.Stems, st.Stem)
	}
	song.Settle()
	return mix.New(lib, 720<<20), &song, byHash
}
