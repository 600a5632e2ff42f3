package bench

import (
	"context"
	"math"
	"slices"

	"mellowthump/core/landed"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// landedMost is the longest stretch of a file that is compared, s.
const landedMost = 30.0

// Landed is how a stem's plan came back, and what of the plan the new file holds.
type Landed struct {
	*landed.Result
	Of string // the file that it was planned for

	steps []session.Step // the steps of gain that it holds
	part  float64
}

// Landed compares a new file of a stem, which may be the one that it has, with the one that its moves and gains were planned for.
func (b *Bench) Landed(ctx context.Context, id, now string) (*Landed, error) {
	st := b.Song.Stem(id)
	of, planned := st.PlannedFor()
	if st.Back != nil && now == st.Audio { // what came last is looked at again
		c := *st.Back
		c.All = false
		again := *st
		again.Back = &c
		of, planned = again.PlannedFor()
	}
	planned.Moves = planned.Moves.Active()
	out := &Landed{Of: of}
	plan, gains := landed.Plan{Moves: planned.Moves}, []gainTo{{}}
	for _, step := range session.StemSteps {
		if !st.Locked(step) {
			last := gains[len(gains)-1]
			if db := planned.Gain(step); db != 0 {
				gains = append(gains, gainTo{last.db + db, append(slices.Clone(last.steps), step)})
			}
		}
	}
	trim := 0.0
	if b.Song.Plan != nil {
		for _, t := range b.Song.Plan.Trims {
			if t.Stem == id && t.Audio == of {
				trim = t.DB
			}
		}
	}
	for _, g := range gains {
		plan.Gains = append(plan.Gains, trim+g.db)
	}
	duck, trigger := planned.Moves.Duck()
	hits, err := b.Renderer.Hits(b.Song, session.KickTrigger)
	if trigger != nil && trigger.Trigger != "" {
		hits, err = b.Renderer.Hits(b.Song, trigger.Trigger)
	}
	if err != nil {
		return nil, err
	}
	var by []string // what a keyed duck listens to
	if trigger != nil && trigger.Keyed() {
		for i := range b.Song.Stems {
			if o := &b.Song.Stems[i]; o.ID != id {
				by = append(by, o.Audio)
			}
		}
	}
	key := mix.Key("landed", of, now, b.Song.Rate, planned.Moves, plan.Gains, hits, by)
	res, err := mix.Cached(b.Renderer.Cache, key, func() (*landed.Result, int, error) {
		mix.Doing(ctx, "Comparing the bounce with what was planned")
		w, err := b.Renderer.Loudest(ctx, of, b.Song.Rate, landedMost)
		if err != nil {
			return nil, 0, err
		}
		was, err := b.Renderer.File(ctx, of, b.Song.Rate, w)
		if err != nil {
			return nil, 0, err
		}
		came, err := b.Renderer.File(ctx, now, b.Song.Rate, w)
		if err != nil {
			return nil, 0, err
		}
		if duck != nil {
			if plan.Ducked, plan.Duck, err = b.duckedAlone(ctx, id, of, *duck, w); err != nil {
				return nil, 0, err
			}
		}
		var within []int
		for _, h := range hits {
			if h >= w.From && h < w.To {
				within = append(within, h-w.From)
			}
		}
		r, err := landed.Estimate(ctx, was, came, b.Song.Rate, within, plan)
		return r, 8192, err
	})
	if err != nil {
		return nil, err
	}
	out.Result = res
	for k, g := range gains {
		if res.Came("") && math.Abs(plan.Gains[k]-res.Gain) < 1e-9 {
			out.steps, out.part = g.steps, 1
			if asked := plan.Gains[k] - trim; asked != 0 && !res.Landed("") {
				out.part = math.Max(0, math.Min(1, (res.Found.Gain-trim)/asked))
			}
		}
	}
	return out, nil
}

// gainTo is the gain up to a step.
type gainTo struct {
	db    float64
	steps []session.Step
}

// Edit puts the new file in the stem's place.
func (l *Landed) Edit(st *session.Stem, audio string) session.Bounced {
	e := session.Bounced{Stem: st.ID, Audio: audio, From: st.Audio, Gain: l.steps, Part: l.part, All: l.State() == landed.Yes || len(l.Items) == 0, Said: l.Says()}
	for _, i := range l.Items {
		if i.ID != "" && l.Came(i.ID) {
			e.Moves = append(e.Moves, i.ID)
		}
	}
	return e
}

// duckedAlone is a stem's file behind its duck alone, in mono, and the gain of that where it lowers all of the sound.
func (b *Bench) duckedAlone(ctx context.Context, id, audio string, duck move.Move, w mix.Window) (ducked, gain []float32, err error) {
	c := b.Song.Clone()
	st := c.Stem(id)
	st.Audio, st.Moves, st.Source, st.Clip, st.Fader, st.Pan, st.Width, st.Bus, st.Sends, st.Mute = audio, move.Chain{duck}, 0, 0, 0, 0, 0, "", nil, false
	c.Master = session.Master{}
	for i := range c.Stems {
		c.Stems[i].Mute = c.Stems[i].ID != id
	}
	x, _, err := b.Renderer.Solo(mix.Passing(ctx), &c, mix.SoloAll, w)
	if err != nil {
		return nil, nil, err
	}
	if d, is := duck.Params.(*move.Duck); is && d.Wide() {
		g, err := b.Renderer.Gain(ctx, &c, st, w)
		return x.Mono(), g, err
	}
	return x.Mono(), nil, nil
}
