package landed

import (
	"context"
	"math"
	"slices"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// landedOver are the stretches of a file that are compared, s: where the first leaves no doubt it is enough.
var landedOver = []float64{10, 30}

// OnBench is how a stem's plan came back, and what of the plan the new file holds.
type OnBench struct {
	*Result
	Of   string   // the file that it was planned for
	Lost []string // what had landed and is not in the new file; it is planned again

	steps []session.Step // the steps of gain that it holds
	part  float64
}

// Landed compares a new file of a stem, which may be the one that it has, with the one that its moves and gains were planned for.
func On(ctx context.Context, b *bench.Bench, id, now string) (*OnBench, error) {
	st := b.Song.Stem(id)
	of, planned := st.PlannedFor()
	if st.Back != nil && now == st.Audio { // what came last is looked at again
		of, planned = st.BeforeLanded().PlannedFor()
	}
	if st.Back != nil && st.Back.All && now != st.Audio {
		if l, err := lost(ctx, b, st, now); err != nil || l != nil {
			return l, err
		}
	}
	return against(ctx, b, st, now, of, planned)
}

// lost compares a new file of a stem whose plan had landed with that plan; nil where all of it is in the new file too,
// or it is another sound: then the file that has landed is what it goes by. What is there in part was changed elsewhere
// on purpose; what is not there at all is lost, and comes back.
func lost(ctx context.Context, b *bench.Bench, st *session.Stem, now string) (*OnBench, error) {
	of, planned := st.BeforeLanded().PlannedFor()
	l, err := against(ctx, b, st, now, of, planned)
	if err != nil || !l.Sound() {
		return nil, err
	}
	gains := st.Back.Source != 0 || st.Back.Clip != 0 || st.Back.Fader != 0
	for _, i := range l.Items {
		if i.State == No && (i.ID == "" && gains || slices.Contains(st.Back.Moves, i.ID)) {
			l.Lost = append(l.Lost, strings.ToLower(i.Name))
		}
	}
	if len(l.Lost) == 0 {
		return nil, nil
	}
	return l, nil
}

// Says says how the plan came back, and first what is lost of it.
func (l *OnBench) Says() string {
	if len(l.Lost) == 0 {
		return l.Result.Says()
	}
	return "it does not hold what the last one held, so that is on again here: " + strings.Join(l.Lost, ", ") + "; " + l.Result.Says()
}

// against compares a file with the one that a plan is for.
// Long because what decides the comparison is gathered for its key before it is made.
func against(ctx context.Context, b *bench.Bench, st *session.Stem, now, of string, planned session.Stem) (*OnBench, error) {
	id := st.ID
	planned.Moves = planned.Moves.Active()
	out := &OnBench{Of: of}
	plan, gains := Plan{Moves: planned.Moves}, []gainTo{{}}
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
	songs := triggered(b, id)
	hits := make([][]int, len(songs))
	duck, trigger := planned.Moves.Duck()
	by := session.KickTrigger
	if trigger != nil && trigger.Trigger != "" {
		by = trigger.Trigger
	}
	for i, s := range songs {
		var err error
		if hits[i], err = b.Renderer.Hits(s, by); err != nil {
			return nil, err
		}
	}
	if duck == nil || len(songs) > 1 && slices.Equal(hits[0], hits[1]) {
		songs, hits = songs[:1], hits[:1]
	}
	var heard []string // what a keyed duck listens to
	if trigger != nil && trigger.Keyed() {
		for i := range b.Song.Stems {
			if o := &b.Song.Stems[i]; o.ID != id {
				heard = append(heard, o.Audio)
			}
		}
	}
	key := mix.Key("landed", of, now, b.Song.Rate, planned.Moves, plan.Gains, hits, heard)
	res, err := mix.Cached(ctx, b.Renderer.Cache, key, func() (*Result, int, error) {
		mix.Doing(ctx, "Comparing the bounce with what was planned")
		var best *Result
		parts := float64(len(landedOver) * len(songs))
		for i, seconds := range landedOver {
			for k, s := range songs {
				done := float64(i*len(songs)+k) / parts
				plan.Did = func(part float64) { mix.Did(ctx, done+part/parts) }
				r, err := landedIn(ctx, b, files{s, id, of, now, duck, hits[k]}, plan, seconds)
				if err != nil {
					return nil, 0, err
				}
				if k == 0 || r.Left() < best.Left() { // over the longer stretch it is found anew
					best = r
				}
				if best.Sure() {
					return best, 8192, nil
				}
			}
		}
		return best, 8192, nil
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

// triggered are the songs by whose hits a duck may have been done: as it is, and as it was before what triggers it came
// back from elsewhere too. A duck that was set by the kick as it was planned is done as planned, whenever the kick's own
// bounce came.
func triggered(b *bench.Bench, id string) []*session.Song {
	out := []*session.Song{b.Song}
	was := b.Song.Clone()
	other := false
	for i := range was.Stems {
		st := &was.Stems[i]
		if st.ID == id || st.Back == nil {
			continue
		}
		of, planned := st.BeforeLanded().PlannedFor()
		planned.Audio = of
		*st, other = planned, true
	}
	if other {
		out = append(out, &was)
	}
	return out
}

// files are an old and a new file of a stem, the song by whose hits its duck goes, and that duck.
type files struct {
	song        *session.Song
	id, of, now string
	duck        *move.Move
	hits        []int
}

// landedIn compares over the loudest stretch of so many seconds.
func landedIn(ctx context.Context, b *bench.Bench, f files, plan Plan, seconds float64) (*Result, error) {
	w, err := b.Renderer.Loudest(ctx, f.of, b.Song.Rate, seconds)
	if err != nil {
		return nil, err
	}
	was, err := b.Renderer.File(ctx, f.of, b.Song.Rate, w)
	if err != nil {
		return nil, err
	}
	came, err := b.Renderer.File(ctx, f.now, b.Song.Rate, w)
	if err != nil {
		return nil, err
	}
	if f.duck != nil {
		if plan.Ducked, plan.Duck, err = duckedAlone(ctx, b, f.song, f.id, f.of, *f.duck, w); err != nil {
			return nil, err
		}
	}
	var within []int
	for _, h := range f.hits {
		if h >= w.From && h < w.To {
			within = append(within, h-w.From)
		}
	}
	return Estimate(ctx, was, came, b.Song.Rate, within, plan)
}

// gainTo is the gain up to a step.
type gainTo struct {
	db    float64
	steps []session.Step
}

// Edit puts the new file in the stem's place.
func (l *OnBench) Edit(st *session.Stem, audio string) session.Bounced {
	e := session.Bounced{
		Stem:  st.ID,
		Audio: audio,
		From:  st.Audio,
		Gain:  l.steps,
		Part:  l.part,
		All:   l.State() == Yes || len(l.Items) == 0,
		Again: len(l.Lost) > 0,
		Said:  l.Says(),
	}
	for _, i := range l.Items {
		if i.ID != "" && l.Came(i.ID) {
			e.Moves = append(e.Moves, i.ID)
		}
	}
	return e
}

// duckedAlone is a stem's file behind its duck alone, in mono, and the gain of that where it lowers all of the sound.
func duckedAlone(ctx context.Context, b *bench.Bench, song *session.Song, id, audio string, duck move.Move, w mix.Window) (ducked, gain []float32, err error) {
	c := song.Clone()
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
