package bench

import (
	"context"
	"fmt"
	"testing"

	"mellowthump/core/demo"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// ferryLoop is the demo song with eight of its bars.
func ferryLoop() (*mix.Renderer, *session.Song, mix.Window) {
	d := demo.SlowFerry()
	lib, song := &mix.Memory{}, d.Song
	for i, s := range d.Stems {
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, s.Sound)
		song.Stems = append(song.Stems, s.Stem)
	}
	return mix.New(lib, 1<<30), &song, mix.Window{From: 4 * song.Rate, To: 4*song.Rate + int(8*song.BarSeconds()*float64(song.Rate))}
}

// BenchmarkBodyEdit renders the demo's eight bars of twelve stems after a saturation, or a shaper, was changed; 80 ms are asked.
func BenchmarkBodyEdit(b *testing.B) {
	r, song, w := ferryLoop()
	ctx := context.Background()
	for name, set := range map[string]func(k int){
		"drive": func(k int) {
			song.Stem("808").SetMove(move.Move{ID: session.BodyDrive, Params: &move.Drive{Adds: move.DriveBoth, Drive: 6 + 0.001*float64(k), Over: 120, Level: -12}})
		},
		"attack": func(k int) {
			song.Stem("snare").SetMove(move.Move{ID: session.BodyAttack, Params: &move.Attack{Attack: 3 + 0.001*float64(k)}})
		},
	} {
		b.Run(name, func(b *testing.B) {
			k := 0
			if _, _, err := r.Solo(ctx, song, mix.SoloAll, w); err != nil {
				b.Fatal(err)
			}
			for b.Loop() {
				k++
				set(k)
				if _, _, err := r.Solo(ctx, song, mix.SoloAll, w); err != nil {
					b.Fatal(err)
				}
			}
		})
	}
}
