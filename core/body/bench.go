package body

import (
	"context"
	"runtime"
	"slices"

	"mellowthump/core/bench"
	"mellowthump/core/device"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/mix"
)

// Weighed is what a part weighs over the loop: without what Body evens out, and as it is.
type Weighed struct{ Before, Now *Weights }

// WeighOn weighs a part over the loop.
func WeighOn(ctx context.Context, b *bench.Bench, p Part) (out Weighed, err error) {
	plain := b.Song.Unsteadied()
	if out.Before, err = Weigh(ctx, b.Renderer, &plain, p, b.Line(), b.Loop); err != nil {
		return out, err
	}
	out.Now, err = Weigh(ctx, b.Renderer, b.Song, p, b.Line(), b.Loop)
	return out, err
}

// SteadyOn evens a part out by a school; nil where there is nothing to even out. Own gains are those of the whole song.
func SteadyOn(ctx context.Context, b *bench.Bench, p Part, school School) (*Steadied, error) {
	plain := b.Song.Unsteadied().Undriven() // what is added over 120 Hz weighs nothing
	target := b.Song.BodyRules().Spread
	key := mix.Key("steady", plain.Stems, plain.Triggers, p, b.Loop, school, target)
	return mix.Cached(ctx, b.Renderer.Cache, key, func() (*Steadied, int, error) {
		if school == Own {
			mix.Doing(ctx, "Weighing "+p.Name+" over the whole song")
			w, err := WeighWhole(ctx, b.Renderer, &plain, p, b.Line(), b.Whole())
			if err != nil || len(w.Items) < 2 {
				return nil, 0, err
			}
			s, err := ByOwnGains(ctx, b.Renderer, &plain, w, b.Line(), b.Loop, target)
			return s, 4096, err
		}
		mix.Doing(ctx, "Fitting a compressor to "+p.Name)
		w, err := Weigh(ctx, b.Renderer, &plain, p, b.Line(), b.Loop)
		if err != nil || len(w.Items) < 2 {
			return nil, 0, err
		}
		hz, err := lowHz(b, p)
		if err != nil {
			return nil, 0, err
		}
		s, err := ByCompressor(ctx, b.Renderer, &plain, w, Even{b.Line(), b.Loop, target, hz})
		return s, 4096, err
	})
}

// ShapeOn brings the attack of a part to what is asked; nil where it has none.
func ShapeOn(ctx context.Context, b *bench.Bench, p Part) (*Shaped, error) {
	plain := b.Song.Unshaped()
	asked := b.Song.BodyRules().Attack
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("shape", plain.Stems, plain.Triggers, p, b.Loop, asked), func() (*Shaped, int, error) {
		mix.Doing(ctx, "Shaping "+p.Name)
		s, err := Shape(ctx, b.Renderer, &plain, p, b.Line(), b.Loop, asked)
		return s, 4096, err
	})
}

// SpeakerOn listens to the notes of the bass behind a stand-in: as they are, and without the harmonics that Body adds.
func SpeakerOn(ctx context.Context, b *bench.Bench, s device.Device) (now, before *device.OnSpeaker, err error) {
	playback := b.Song.RoomRules().Playback
	if now, err = device.HearNotes(ctx, b.Renderer, b.Song, b.Line(), b.Loop, s, playback); err != nil {
		return nil, nil, err
	}
	plain := b.Song.Undriven()
	before, err = device.HearNotes(ctx, b.Renderer, &plain, b.Line(), b.Loop, s, playback)
	return now, before, err
}

// DriveOn finds the least drive by which the bass is heard on a stand-in; nil where it is heard.
func DriveOn(ctx context.Context, b *bench.Bench, s device.Device) (*Driven, error) {
	_, before, err := SpeakerOn(ctx, b, s)
	if err != nil || len(before.Notes) == 0 || before.Enough() {
		return nil, err
	}
	plain := b.Song.Undriven()
	key, err := b.Renderer.Identity(&plain, mix.SoloAll, b.Loop)
	if err != nil {
		return nil, err
	}
	playback := b.Song.RoomRules().Playback
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("drive", key, s, b.Line(), playback), func() (*Driven, int, error) {
		mix.Doing(ctx, "Looking for the least drive")
		d, err := LeastDrive(ctx, b.Renderer, &plain, b.Line(), b.Loop, s, playback)
		return d, 4096, err
	})
}

// lowHz is where the low end of a part lies, Hz: the kick's fundamental, the commonest note of the bass by its length; 0 for
// others.
func lowHz(b *bench.Bench, p Part) (float64, error) {
	switch p.ID {
	case Kick:
		return b.KickHz()
	case Bass:
		length, hz, most := map[string]float64{}, 0.0, 0.0
		for _, n := range b.Line() {
			if length[n.Note] += n.End - n.Start; length[n.Note] > most {
				most, hz = length[n.Note], n.Hz
			}
		}
		return hz, nil
	}
	return 0, nil
}

// ofPart is what is told about one part: a soft attack, hits or notes that weigh unalike.
func ofPart(ctx context.Context, b *bench.Bench, p Part) (out []find.Finding, err error) {
	target := b.Song.BodyRules().Spread
	w, err := WeighOn(ctx, b, p)
	if err != nil {
		return nil, err
	}
	if p.Drum(b.Song) && w.Before.Attack.Valid() && float64(w.Before.Attack) < b.Song.BodyRules().Attack {
		s, err := ShapeOn(ctx, b, p)
		if err != nil {
			return nil, err
		}
		if f, ok := Soft(b.Song, s, b.Song.BodyRules().Attack); ok {
			out = append(out, f)
		}
	}
	if _, off, ok := w.Before.Worst(); !ok || float64(w.Before.Spread) <= target || !p.Low && off < Jumps {
		return out, nil
	}
	var own, comp *Steadied
	g, inner := group.WithContext(ctx)
	g.Go(func() (err error) { own, err = SteadyOn(inner, b, p, Own); return err })
	if p.Low {
		g.Go(func() (err error) { comp, err = SteadyOn(inner, b, p, Compressor); return err })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	if f, ok := Uneven(b.Song, w.Before, own, comp, target); ok {
		out = append(out, f)
	}
	return out, nil
}

// Findings is what is told about the weight of hits and notes in the loop. It takes long the first time.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	phone := device.All[0]
	parts := Parts(b.Song)
	each := make([][]find.Finding, len(parts))
	g, inner := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	if len(b.Line()) > 0 { // what takes longest first; it is asked for again below
		g.Go(func() error { _, err := DriveOn(inner, b, phone); return err })
	}
	for i, p := range parts {
		g.Go(func() (err error) { each[i], err = ofPart(inner, b, p); return err })
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	out := slices.Concat(each...)
	for _, role := range LayeredRoles {
		s, err := StackOn(ctx, b, role)
		if err != nil {
			return nil, err
		}
		if f, ok := Cancelling(b.Song, s); ok {
			out = append(out, f)
		}
	}
	buried, err := BuriedOn(ctx, b)
	if err != nil {
		return nil, err
	}
	out = append(out, buried...)
	if len(b.Line()) > 0 {
		_, before, err := SpeakerOn(ctx, b, phone)
		if err != nil {
			return nil, err
		}
		d, err := DriveOn(ctx, b, phone)
		if err != nil {
			return nil, err
		}
		if f, ok := UnheardNotes(b.Song, before, d); ok {
			out = append(out, f)
		}
	}
	return append(out, BoostedBefore(b.Song)...), nil
}
