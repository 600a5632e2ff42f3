package duck

import (
	"context"

	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// longSong is from how many seconds on the schools are fitted one after another: each holds copies of
// kick and bass.
const longSong = 300

// FitSchools fits every school to a song over a window, in the order of move.Schools, side by side.
func FitSchools(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Fitted, error) {
	out := make([]Fitted, len(move.Schools))
	var g group.Group
	if w.Frames() > longSong*song.Rate {
		g.SetLimit(1)
	}
	for i, k := range move.Schools {
		g.Go(func() (err error) {
			out[i], err = FitSchool(ctx, r, song, w, k.School)
			return err
		})
	}
	return out, g.Wait()
}

// FitSchool fits a duck of one school to a song over a window: the least that reaches its aim.
func FitSchool(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, school string) (Fitted, error) {
	if share, ok := pair.Asked(song); ok {
		return fitAim(ctx, r, song, w, share, func(s *session.Song) (Fitted, error) { return FitSchool(Brief(ctx), r, s, w, school) })
	}
	if school == move.CurveSchool {
		return FitSong(ctx, r, song, w)
	}
	plain := song.Unducked()
	p, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return Fitted{}, err
	}
	before, err := r.Figures(ctx, p)
	if err != nil {
		return Fitted{}, err
	}
	var filter *move.KeyFilter
	if d, _ := song.Duck(); d != nil {
		filter = d.Key
	}
	goal := goalOf(ctx, song)
	key, keyID, err := r.Key(ctx, &plain, song.DuckTrigger(), p.Wide())
	if err != nil {
		return Fitted{}, err
	}
	return mix.Cached(ctx, r.Cache, mix.Key("fit", p.Key(), keyID, goal, school, filter), func() (Fitted, int, error) {
		mix.Doing(ctx, map[string]string{move.CompressorSchool: "Fitting the keyed compressor", move.BandSchool: "Fitting the keyed band dip"}[school])
		held, err := inHand(key, p.Bass)
		if err != nil {
			return Fitted{}, 0, err
		}
		low, err := keptTrial(ctx, r, p)
		if err != nil {
			return Fitted{}, 0, err
		}
		f, err := fitKeyed(low, listened{p.Meter, before, held[0], held[1], filter}, goal, school)
		if f.Duck != nil {
			f.Duck.Trigger = song.DuckTrigger()
		}
		return f.unlessMono(p, err)
	})
}

// inHandMost is how long sounds may be together that are held in memory while a fit reads them many times, frames: half
// an hour of kick and bass at 48 kHz, and a little more.
const inHandMost = 1 << 28 * 2 / 3

// inHand returns sounds in memory, where there is room for them; else they are rendered as often as they are read.
func inHand(sounds ...meter.Sound) ([]meter.Sound, error) {
	frames := 0
	for _, s := range sounds {
		frames += s.Frames()
	}
	for i := range sounds {
		if frames > inHandMost {
			break
		}
		x, err := meter.Samples(sounds[i])
		if err != nil {
			return nil, err
		}
		sounds[i] = meter.Held(x)
	}
	return sounds, nil
}
