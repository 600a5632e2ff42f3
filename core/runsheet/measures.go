package runsheet

import (
	"context"
	"math"
	"strconv"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/compare"
	"mellowthump/core/device"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// Bracket is what a figure is asked to lie in; an open end is infinite.
type Bracket struct{ Lo, Hi float64 }

// Off is how far a figure lies outside, over 0 whichever end it is; 0 within, and for a figure that there is none of.
func (b Bracket) Off(f meter.Figure) float64 {
	if !f.Valid() {
		return 0
	}
	return math.Max(0, math.Max(b.Lo-float64(f), float64(f)-b.Hi))
}

func atLeast(lo float64) Bracket { return Bracket{lo, math.Inf(1)} }
func atMost(hi float64) Bracket  { return Bracket{math.Inf(-1), hi} }

// measure is one figure of a song on the bench, with what is asked of it.
type measure struct {
	key  string // of the figure
	of   string // whose it is, where that is to be said; told apart by it, too
	name string // in a row or in what was won; empty: the figure's
	asks func(*session.Song) Bracket
	take func(ctx context.Context, b *bench.Bench) (meter.Figure, error)
}

func (m measure) id() string { return m.key + " " + m.of }

// unjudged makes a figure that there is none of where kick and bass cannot be judged.
func unjudged(f meter.Figure, err error) (meter.Figure, error) {
	if bench.Trouble(err) != "" {
		return meter.None, nil
	}
	return f, err
}

// The figures that every row is held against.
var (
	clearance = measure{key: "p10", name: "worst tenth", asks: func(s *session.Song) Bracket { return atLeast(s.Targets.Clearance - 0.05) },
		take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
			st, err := b.Pair(ctx)
			if err != nil {
				return unjudged(meter.None, err)
			}
			if b.Song.Leader != session.BassLeads {
				return st.After.ClearanceP10, nil
			}
			a, err := b.Agreement(ctx)
			if err != nil {
				return unjudged(meter.None, err)
			}
			return a.Lead.P10, nil
		}}
	premaster = measure{key: "premaster", name: "premaster", asks: func(s *session.Song) Bracket {
		r := s.LevelRules()
		return Bracket{r.Premaster - 3, r.Limit + 0.05}
	}, take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		l, err := b.Loudness(ctx, mix.SoloAll)
		return l.Peak, err
	}}
)

// peak is the premaster as a guard: what is quieter has only more room.
var peak = measure{key: premaster.key, name: premaster.name, asks: func(s *session.Song) Bracket { return atMost(s.LevelRules().Limit + 0.05) }, take: premaster.take}

// The other figures of a whole song.
var (
	offWindow = measure{key: "offwindow", name: "furthest off", asks: always(atMost(0.05)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		l, err := b.Ledger(ctx, b.Whole())
		if err != nil {
			return meter.None, err
		}
		return meter.Figure(l.Furthest()), nil
	}}
	songPeak = measure{key: "songpeak", name: "premaster, all of it", asks: func(s *session.Song) Bracket {
		r := s.LevelRules()
		return Bracket{r.Premaster - 0.15, r.Limit + 0.05}
	}, take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		l, err := b.Ledger(ctx, b.Whole())
		if err != nil {
			return meter.None, err
		}
		return l.Master.Out.Peak, nil
	}}
	cents = measure{key: "notecents", name: "bass off pitch", asks: always(Bracket{0, 0}), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		a, err := b.Agreement(ctx)
		if err != nil || len(a.Notes) == 0 {
			return unjudged(meter.None, err)
		}
		return meter.Figure(a.Notes[0].Cents), nil
	}}
	phase = measure{key: "phase", name: "phase sum", asks: always(atLeast(3.01)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		st, err := b.Pair(ctx)
		if err != nil {
			return unjudged(meter.None, err)
		}
		return st.After.PhaseSumMedian, nil
	}}
	loss = measure{key: "loss", name: "bass lost", asks: always(atLeast(math.Inf(-1))), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		st, err := b.Pair(ctx)
		if err != nil || st.Readout == nil {
			return unjudged(meter.None, err)
		}
		return st.Readout.BassLoss, nil
	}}
	cellar = measure{key: "cellar", name: "cellar", asks: func(s *session.Song) Bracket { return atLeast(s.RoomRules().Cellar - 0.05) },
		take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
			c, err := b.Cellar(ctx)
			if err != nil {
				return meter.None, err
			}
			return c.Under, nil
		}}
	onPhone = measure{key: "noteheard", name: "heard on a phone", asks: always(atLeast(90)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		if len(b.Line()) == 0 {
			return meter.None, nil
		}
		now, _, err := b.OnSpeaker(ctx, device.All[0])
		if err != nil || len(now.Notes) == 0 {
			return meter.None, err
		}
		return meter.Figure(100 * float64(len(now.Notes)-len(now.Unheard())) / float64(len(now.Notes))), nil
	}}
	monoLoss = measure{key: "foldlu", name: "lost in mono", asks: always(atLeast(math.Inf(-1))), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		r, err := b.Between(ctx, session.At{})
		return r.Now.FoldLU, err
	}}
	headroom = measure{key: "headroom", name: "headroom", asks: always(atLeast(math.Inf(-1))), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		f, err := premaster.take(ctx, b)
		return -f, err
	}}
	equalPeak = measure{key: "equalpeak", name: "loudness at equal peak", asks: always(atLeast(math.Inf(-1))), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		l, err := b.Loudness(ctx, mix.SoloAll)
		if err != nil || !l.Peak.Valid() || !l.Integrated.Valid() {
			return meter.None, err
		}
		return l.Integrated - l.Peak, nil
	}}
	deviation = measure{key: "deviation", name: "off the finished track", asks: always(atMost(0)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		_, now, err := b.MixSound(ctx)
		if err != nil {
			return meter.None, err
		}
		other, err := b.ReferenceSound(ctx, b.Song.References[0])
		return compare.Against(now, other).Deviation(), err
	}}
)

func always(b Bracket) func(*session.Song) Bracket {
	return func(*session.Song) Bracket { return b }
}

// spreadOf is the spread of a part's weights.
func spreadOf(part, name string) measure {
	return measure{key: "spread", of: part, name: name + " spread", asks: func(s *session.Song) Bracket { return atMost(s.BodyRules().Spread + 0.05) },
		take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
			p, ok := body.Of(b.Song, part)
			if !ok {
				return meter.None, nil
			}
			w, err := b.Weigh(ctx, p)
			if err != nil || w.Now == nil {
				return meter.None, err
			}
			return w.Now.Spread, nil
		}}
}

// standsMono are the two figures by which a place stands mono.
func standsMono(at session.At) []measure {
	return []measure{
		{key: "worsttenth", of: at.String(), name: "correlation", asks: func(s *session.Song) Bracket { return atLeast(s.WidthRules().Correlation - 0.02) },
			take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
				r, err := b.Between(ctx, at)
				return r.Now.Worst, err
			}},
		{key: "lowmono", of: at.String(), name: "side under 120 Hz", asks: always(atMost(-20)),
			take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
				r, err := b.Between(ctx, at)
				return r.Now.Low, err
			}},
	}
}

// kinds are the kinds of finding that carry a fix, by the head of their ids: their own figures, by which a fix mends them, and
// whether it is a matter of taste or of the arrangement, so that it is not ticked to begin with.
var kinds = map[string]struct {
	own   func(f find.Finding, s *session.Song) []measure
	taste string
}{
	"bass-off-tune":     {own: one(cents)},
	"nudge":             {own: one(phase)},
	"lost-trigger":      {own: one(clearance)},
	"thrown-away":       {own: none},
	"unheard":           {own: unheard, taste: "it may be meant to be felt more than heard"},
	"soft":              {own: attackOf, taste: "how hard a hit is to hit is a matter of taste"},
	"boost-before":      {own: none, taste: "it changes the tone a little"},
	"layer-upside-down": {own: layerSum},
	"cellar":            {own: one(cellar)},
	"unheard-low":       {own: freed},
	"over-full-scale":   {own: one(offWindow)}, // these stand alone where there is no kick to plan from
	"over-line":         {own: one(offWindow)},
	"window":            {own: one(offWindow)},
	"kick-and-bass":     {own: one(offWindow)},
	"near-the-kick":     {own: one(offWindow)},
	"box":               {own: mud, taste: "a matter of tone: hear it first"},
	"mud":               {own: mud, taste: "a matter of tone: hear it first"},
	"rings":             {own: ringing, taste: "a note may be meant to ring"},
	"covers":            {own: covered, taste: "who is to stand in front is yours to say"},
	"uneven":            {own: uneven},
	"layers":            {own: stacked, taste: "the layers sound otherwise apart"},
	"buried":            {own: buried, taste: "it rests on an estimate"},
	"wide":              {own: wide},
	"apart":             {own: apart, taste: "it may be meant as width"},
	"off":               {own: one(deviation), taste: "a finished track is a companion and no rule"},
}

// kindOf is the head of a finding's id.
func kindOf(id string) string {
	kind, _, _ := strings.Cut(id, ".")
	return kind
}

// about is what a finding's id says it is about.
func about(id string) string {
	_, what, _ := strings.Cut(id, ".")
	return what
}

func none(find.Finding, *session.Song) []measure { return nil }

func one(m measure) func(find.Finding, *session.Song) []measure {
	return func(find.Finding, *session.Song) []measure { return []measure{m} }
}

// unheard is of a stem in every band (Levels), or of the notes of the bass on a stand-in (Body).
func unheard(f find.Finding, _ *session.Song) []measure {
	if f.Stage == "body" {
		return []measure{onPhone}
	}
	stem := about(f.ID)
	return []measure{{key: "overothers", of: stem, name: "over the others", asks: always(atLeast(-20)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		l, err := b.Ledger(ctx, b.Whole())
		if err != nil {
			return meter.None, err
		}
		return l.Over(b.Sounds(), stem), nil
	}}}
}

// freed is what a cut that goes unheard frees: of the cellar, and of the mix's peak.
func freed(find.Finding, *session.Song) []measure {
	return []measure{
		{key: cellar.key, name: cellar.name, asks: always(atLeast(math.Inf(1))), take: cellar.take},
		{key: premaster.key, name: premaster.name, asks: always(atMost(math.Inf(-1))), take: premaster.take},
	}
}

func attackOf(f find.Finding, _ *session.Song) []measure {
	part := about(f.ID)
	return []measure{{key: "attack", of: part, asks: func(s *session.Song) Bracket { return atLeast(s.BodyRules().Attack - 0.05) }, take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		p, ok := body.Of(b.Song, part)
		if !ok {
			return meter.None, nil
		}
		w, err := b.Weigh(ctx, p)
		if err != nil || w.Now == nil {
			return meter.None, err
		}
		return w.Now.Attack, nil
	}}}
}

func layerSum(f find.Finding, _ *session.Song) []measure {
	stem := about(f.ID)
	return []measure{{key: "layersum", of: stem, name: "layers’ phase sum", asks: always(atLeast(0)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		a, err := b.Agreement(ctx)
		if err != nil {
			return unjudged(meter.None, err)
		}
		for _, l := range a.Layers {
			if l.Stem.ID == stem {
				return l.Sum, nil
			}
		}
		return meter.None, nil
	}}}
}

func mud(f find.Finding, _ *session.Song) []measure {
	stem, box := about(f.ID), kindOf(f.ID) == "box"
	key := "overline"
	if box {
		key = "boxover"
	}
	hz := 0.0
	for _, e := range f.Fix {
		if set, ok := e.(session.SetMove); ok {
			if bell, ok := set.Move.Params.(*move.Filter); ok {
				hz = bell.Hz
			}
		}
	}
	return []measure{{key: key, of: stem, asks: always(atMost(3)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		return room.MudLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), stem, hz, box)
	}}}
}

func ringing(f find.Finding, _ *session.Song) []measure {
	what := about(f.ID)
	at := strings.LastIndexByte(what, '.')
	if at < 0 {
		return nil
	}
	hz, err := strconv.ParseFloat(what[at+1:], 64)
	if err != nil {
		return nil
	}
	return []measure{{key: "ringover", of: what, asks: always(atMost(0)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		return room.RingLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), what[:at], hz)
	}}}
}

func covered(f find.Finding, _ *session.Song) []measure {
	return []measure{{key: "covered", of: about(f.ID), asks: always(atMost(10)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		c, err := b.Crowd(ctx)
		if err != nil {
			return meter.None, err
		}
		for _, k := range c.Covers() {
			if find.ID("covers", k.By, k.Of) == f.ID {
				return meter.Figure(100 * k.Lost), nil
			}
		}
		return 0, nil
	}}}
}

func uneven(f find.Finding, s *session.Song) []measure {
	p, _ := body.Of(s, about(f.ID))
	return []measure{spreadOf(about(f.ID), p.Name)}
}

func stacked(f find.Finding, _ *session.Song) []measure {
	role := session.Role(about(f.ID))
	return []measure{{key: "layersum", of: string(role), name: "layers’ phase sum", asks: always(atLeast(0)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		s, err := body.StackOf(ctx, b.Renderer, b.Song, role, b.Loop)
		if err != nil || s == nil {
			return meter.None, err
		}
		return s.Sum, nil
	}}}
}

func buried(f find.Finding, _ *session.Song) []measure {
	stem := about(f.ID)
	return []measure{{key: "clearance", of: stem, name: "its hits over what lasts", asks: clearance.asks, take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		a, err := b.ApartOf(ctx, stem)
		if err != nil || a == nil {
			return meter.None, err
		}
		return a.Now.Clearance, nil
	}}}
}

// placeOf is the place that a finding of Width is about.
func placeOf(f find.Finding, s *session.Song) session.At {
	for _, at := range bench.WidthPlaces(s) {
		if find.ID(kindOf(f.ID), at.String()) == f.ID {
			return at
		}
	}
	return session.At{}
}

func wide(f find.Finding, s *session.Song) []measure { return standsMono(placeOf(f, s)) }

func apart(f find.Finding, s *session.Song) []measure {
	at := placeOf(f, s)
	return []measure{{key: "foldlu", of: at.String(), name: "lost in mono", asks: always(atMost(0)), take: func(ctx context.Context, b *bench.Bench) (meter.Figure, error) {
		r, err := b.Between(ctx, at)
		return r.Now.FoldLU, err
	}}}
}

// won are the figures at the end of the sheet: what was won.
func won(b *bench.Bench) []measure {
	out := []measure{clearance, spreadOf(body.Kick, b.KickName()), spreadOf(body.Bass, b.BassName()), cellar, {key: "phase", name: "phase sum", asks: always(atLeast(0)), take: phase.take}, standsMono(session.At{})[0], onPhone, premaster}
	out[5].name = "correlation, worst tenth"
	return append(out, headroom, equalPeak, loss, monoLoss)
}

// figure is a measure's figure.
func (m measure) figure() figure.Figure { return figure.Of(m.key) }

// planned reports whether a finding of Levels is one that the plan is for.
func planned(f find.Finding) bool {
	switch kindOf(f.ID) {
	case "over-full-scale", "over-line", "window", "kick-and-bass", "near-the-kick":
		return true
	}
	return false
}

// noPlan reports that there is nothing to plan.
func noPlan(p *levels.Plan) bool { return p == nil || len(p.Changes) == 0 }
