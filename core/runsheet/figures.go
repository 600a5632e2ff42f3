package runsheet

import (
	"cmp"
	"math"

	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stages"
)

// called is what a measure is called in a row.
func called(m find.Measure) string {
	taken, _ := stages.Figure(m.Figure)
	return cmp.Or(m.Name, taken.Name, figure.Of(m.Figure).Name)
}

// anywhere is what is asked of a figure of which nothing is.
var anywhere = find.AtLeast(math.Inf(-1))

// reached is the clearance that a song asks for; where its aim is by hearing, none is asked.
func reached(s *session.Song) find.Measure {
	if _, ok := pair.Asked(s); ok {
		return find.Measure{Figure: "p10", In: anywhere}
	}
	return find.Measure{Figure: "p10", In: find.AtLeast(s.Targets.Clearance - 0.05)}
}

// hiding is how much of the kick is hidden; what hides it by hiddenMore points more, and more than is asked, is harm.
func hiding(s *session.Song) find.Measure {
	share, ok := pair.Asked(s)
	if !ok {
		share = pair.Stands
	}
	return find.Measure{Figure: "hidden", In: find.AtMost(share)}
}

// hiddenMore is in points of %: own choice.
const hiddenMore = 2.0

// guarded are the figures that every row is held against: the clearance, what is hidden of the kick, the premaster, of which what is quieter only gains,
// and what the bass loses, of which nothing is asked.
func guarded(s *session.Song) []find.Measure {
	return []find.Measure{
		reached(s), hiding(s), {Figure: "premaster", In: find.AtMost(s.LevelRules().Limit + 0.05)}, {Figure: "loss", In: anywhere},
	}
}

// won are the figures at the end of the sheet: what was won.
func won(b *bench.Bench) []find.Measure {
	s, rules := b.Song, b.Song.LevelRules()
	even := find.AtMost(s.BodyRules().Spread + 0.05)
	return []find.Measure{
		hiding(s),
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
