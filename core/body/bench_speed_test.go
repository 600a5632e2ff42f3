package body_test

import (
	"context"
	"testing"

	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/songs"
)

// BenchmarkBodyEdit renders the demo's eight bars of twelve stems after a saturation, or a shaper, was changed; 80 ms are asked.
func BenchmarkBodyEdit(b *testing.B) {
	r, song, w := songs.FerryLoop()
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
