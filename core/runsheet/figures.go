package runsheet

import (
	"context"
	"math"

	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/compare"
	"mellowthump/core/device"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/pocket"
	"mellowthump/core/room"
	"mellowthump/core/session"
	"mellowthump/core/width"
)

// taken is how a figure is taken of a song on the bench, and what it is called in a row; empty: as everywhere.
type taken struct {
	name  string
	take  func(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error)
	local bool // it is taken of each section too: it costs little, and says where a finding holds
}

// figures are those by which findings are judged, by their keys. None is a figure that there is none of.
var figures = map[string]taken{
	"p10":        {"worst tenth", clearance, true},
	"premaster":  {"premaster", premaster, true},
	"headroom":   {"headroom", headroom, false},
	"equalpeak":  {"loudness at equal peak", equalPeak, false},
	"offwindow":  {"furthest off", offWindow, true},
	"songpeak":   {"premaster, all of it", songPeak, true},
	"overothers": {"over the others", overOthers, true},
	"notecents":  {"bass off pitch", cents, false},
	"phase":      {"phase sum", phase, false},
	"layersum":   {"layers’ phase sum", layerSum, false},
	"loss":       {"bass lost", loss, false},
	"cellar":     {"cellar", cellar, true},
	"overline":   {"", mud, false},
	"boxover":    {"", mud, false},
	"ringover":   {"", ring, false},
	"covered":    {"", covered, false},
	"noteheard":  {"heard on a phone", onPhone, false},
	"spread":     {"", spread, true},
	"attack":     {"", attack, true},
	"clearance":  {"", apart, false},
	"worsttenth": {"correlation", between(func(r width.Figures) meter.Figure { return r.Worst }), true},
	"lowmono":    {"side under 120 Hz", between(func(r width.Figures) meter.Figure { return r.Low }), true},
	"foldlu":     {"lost in mono", between(func(r width.Figures) meter.Figure { return r.FoldLU }), false},
	"deviation":  {"off the finished track", deviation, false},
}

// called is what a measure is called in a row.
func called(m find.Measure) string {
	switch {
	case m.Name != "":
		return m.Name
	case figures[m.Figure].name != "":
		return figures[m.Figure].name
	}
	return figure.Of(m.Figure).Name
}

// unjudged makes a figure that there is none of where kick and bass cannot be judged.
func unjudged(f meter.Figure, err error) (meter.Figure, error) {
	if bench.Trouble(err) != "" {
		return meter.None, nil
	}
	return f, err
}

// clearance is the worst tenth of the part that leads.
func clearance(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return unjudged(meter.None, err)
	}
	return st.WorstTenth(b.Song.Leader), nil
}

func premaster(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := b.Loudness(ctx, mix.SoloAll)
	return l.Peak, err
}

func headroom(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	f, err := premaster(ctx, b, m)
	return -f, err
}

func equalPeak(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := b.Loudness(ctx, mix.SoloAll)
	if err != nil || !l.Peak.Valid() || !l.Integrated.Valid() {
		return meter.None, err
	}
	return l.Integrated - l.Peak, nil
}

func offWindow(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := levels.LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return meter.Figure(l.Furthest()), nil
}

func songPeak(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	l, err := levels.LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return l.Master.Out.Peak, nil
}

func overOthers(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	l, err := levels.LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return meter.None, err
	}
	return l.Over(levels.Sounds(b), m.Of), nil
}

func cents(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	a, err := pocket.AgreementOn(ctx, b)
	if err != nil || len(a.Notes) == 0 {
		return unjudged(meter.None, err)
	}
	return meter.Figure(a.Notes[0].Cents), nil
}

func phase(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return unjudged(meter.None, err)
	}
	return st.After.PhaseSumMedian, nil
}

// layerSum is that of a stem against the other layers of its role, or of all layers of one.
func layerSum(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	if m.Of == "" {
		s, err := body.StackOf(ctx, b.Renderer, b.Song, session.Role(m.By), b.Loop)
		if err != nil || s == nil {
			return meter.None, err
		}
		return s.Sum, nil
	}
	a, err := pocket.AgreementOn(ctx, b)
	if err != nil {
		return unjudged(meter.None, err)
	}
	for _, l := range a.Layers {
		if l.Stem.ID == m.Of {
			return l.Sum, nil
		}
	}
	return meter.None, nil
}

func loss(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	st, err := pair.On(ctx, b)
	if err != nil || st.Readout == nil {
		return unjudged(meter.None, err)
	}
	return st.Readout.BassLoss, nil
}

func cellar(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	c, err := room.CellarOn(ctx, b)
	if err != nil {
		return meter.None, err
	}
	return c.Under, nil
}

func mud(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	return room.MudLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), m.Of, m.Hz, m.Figure == "boxover")
}

func ring(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	return room.RingLeft(ctx, b.Renderer, b.Song, b.RoomWindow(), m.Of, m.Hz)
}

func covered(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	c, err := room.CrowdOn(ctx, b)
	if err != nil {
		return meter.None, err
	}
	for _, k := range c.Covers() {
		if k.By == m.By && k.Of == m.Of {
			return meter.Figure(100 * k.Lost), nil
		}
	}
	return 0, nil
}

func onPhone(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	if len(b.Line()) == 0 {
		return meter.None, nil
	}
	now, _, err := body.SpeakerOn(ctx, b, device.All[0])
	if err != nil || len(now.Notes) == 0 {
		return meter.None, err
	}
	return meter.Figure(100 * float64(len(now.Notes)-len(now.Unheard())) / float64(len(now.Notes))), nil
}

// weighed is what the items of a part weigh; nil where nothing can be weighed.
func weighed(ctx context.Context, b *bench.Bench, part string) (*body.Weights, error) {
	p, ok := body.Of(b.Song, part)
	if !ok {
		return nil, nil
	}
	w, err := body.WeighOn(ctx, b, p)
	if err != nil {
		return nil, err
	}
	return w.Now, nil
}

func spread(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	w, err := weighed(ctx, b, m.Of)
	if err != nil || w == nil {
		return meter.None, err
	}
	return w.Spread, nil
}

func attack(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	w, err := weighed(ctx, b, m.Of)
	if err != nil || w == nil {
		return meter.None, err
	}
	return w.Attack, nil
}

// apart is the clearance of a stem's own hits over what lasts in it.
func apart(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	a, err := body.ApartOn(ctx, b, m.Of)
	if err != nil || a == nil {
		return meter.None, err
	}
	return a.Now.Clearance, nil
}

// between takes a figure between the channels of a place.
func between(of func(width.Figures) meter.Figure) func(context.Context, *bench.Bench, find.Measure) (meter.Figure, error) {
	return func(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
		r, err := width.Between(ctx, b, session.ParseAt(m.Of))
		return of(r.Now), err
	}
}

func deviation(ctx context.Context, b *bench.Bench, _ find.Measure) (meter.Figure, error) {
	_, now, err := compare.MixSound(ctx, b)
	if err != nil {
		return meter.None, err
	}
	other, err := compare.ReferenceSound(ctx, b, b.Song.References[0])
	return compare.Against(now, other).Deviation(), err
}

// anywhere is what is asked of a figure of which nothing is.
var anywhere = find.AtLeast(math.Inf(-1))

// reached is the clearance that a song asks for.
func reached(s *session.Song) find.Measure {
	return find.Measure{Figure: "p10", In: find.AtLeast(s.Targets.Clearance - 0.05)}
}

// guarded are the figures that every row is held against: the clearance, the premaster, of which what is quieter has only more room,
// and what the bass loses, of which nothing is asked.
func guarded(s *session.Song) []find.Measure {
	return []find.Measure{reached(s), {Figure: "premaster", In: find.AtMost(s.LevelRules().Limit + 0.05)}, {Figure: "loss", In: anywhere}}
}

// planned are the figures that the plan of levels is for.
func planned(s *session.Song) []find.Measure {
	r := s.LevelRules()
	return []find.Measure{levels.Furthest, {Figure: "songpeak", In: find.Bracket{Lo: r.Premaster - 0.15, Hi: r.Limit + 0.05}}}
}

// won are the figures at the end of the sheet: what was won.
func won(b *bench.Bench) []find.Measure {
	s, rules := b.Song, b.Song.LevelRules()
	even := find.AtMost(s.BodyRules().Spread + 0.05)
	return []find.Measure{
		reached(s),
		{Figure: "spread", Of: body.Kick, Name: b.KickName() + " spread", In: even},
		{Figure: "spread", Of: body.Bass, Name: b.BassName() + " spread", In: even},
		{Figure: "cellar", In: find.AtLeast(s.RoomRules().Cellar - 0.05)},
		{Figure: "phase", In: find.AtLeast(0)},
		{Figure: "worsttenth", Of: session.At{}.String(), Name: "correlation, worst tenth", In: find.AtLeast(s.WidthRules().Correlation - 0.02)},
		{Figure: "noteheard", In: find.AtLeast(90)},
		{Figure: "premaster", In: find.Bracket{Lo: rules.Premaster - 3, Hi: rules.Limit + 0.05}},
		{Figure: "headroom", In: anywhere},
		{Figure: "equalpeak", In: anywhere},
		{Figure: "loss", In: anywhere},
		{Figure: "foldlu", Of: session.At{}.String(), In: anywhere},
	}
}

// noPlan reports that there is nothing to plan.
func noPlan(p *levels.Plan) bool { return p == nil || len(p.Changes) == 0 }
