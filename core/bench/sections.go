package bench

import (
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Where parts come and go: common practice, no published source.
const (
	playsUnder  = -30.0 // dB under what a stem mostly reaches: quieter is not playing
	hitUnder    = -14.0 // dB under it: what rises to that is a hit, and makes a bar one in which it plays
	hitRise     = 3.0   // dB by which it rises: what rings on does not
	playsShare  = 0.5   // of a bar
	sectionBars = 4     // the shortest section, and the longest gap and the longest play that make none are shorter
)

// plays says for each bar whether a stem plays in it, by the peaks of its file: it reaches playsUnder in half of the bar, or
// rises to hitUnder at once. A gap of under four bars is none, and a play of under four bars neither.
func (b *Bench) plays(st *session.Stem, bars int) []bool {
	a, out := b.Facts[st.Audio], make([]bool, bars)
	if a == nil || st.Mute || len(a.Overview) == 0 {
		return out
	}
	var loud []float32
	for _, v := range a.Overview {
		if v > 0 {
			loud = append(loud, v)
		}
	}
	if len(loud) == 0 {
		return out
	}
	slices.Sort(loud)
	top := float64(loud[len(loud)*95/100])
	step, bar := a.DurationS/float64(len(a.Overview)), b.Song.BarSeconds()
	for i := range out {
		from, to := b.Song.Grid+float64(i)*bar, b.Song.Grid+float64(i+1)*bar
		n, over, hit := 0, 0, false
		for k := max(0, int(from/step)); k < len(a.Overview) && float64(k+1)*step <= to; k++ { // one in which a bar begins is of that: hits come there
			n++
			v := float64(a.Overview[k])
			if v >= top*dsp.Gain(playsUnder) {
				over++
			}
			hit = hit || v >= top*dsp.Gain(hitUnder) && v >= dsp.Gain(hitRise)*float64(a.Overview[max(0, k-1)])
		}
		out[i] = hit || n > 0 && float64(over) >= playsShare*float64(n)
	}
	turn(out, false)
	turn(out, true)
	return out
}

// turn turns over what is of a kind in a row for under sectionBars.
func turn(plays []bool, is bool) {
	for i := 0; i < len(plays); {
		j := i
		for j < len(plays) && plays[j] == plays[i] {
			j++
		}
		if plays[i] == is && j-i < sectionBars && j-i < len(plays) {
			for k := i; k < j; k++ {
				plays[k] = !is
			}
		}
		i = j
	}
}

// bars is how many bars begin in the song.
func (b *Bench) bars() int {
	return max(0, int(math.Ceil((float64(b.Length)/float64(max(1, b.Song.Rate))-b.Song.Grid)/b.Song.BarSeconds()-0.1)))
}

// ProposeSections finds where parts come and go, by the stems' activity, bar by bar, and names the sections by who is missing;
// none for a song of under eight bars. A place within a bar of a fourth bar is taken to be that: tails ring on, and pick-ups
// come early.
// Long because edges and names come of one table of who plays when.
func (b *Bench) ProposeSections() []session.Section {
	bars := b.bars()
	if bars < 2*sectionBars {
		return nil
	}
	var stems []*session.Stem
	var all [][]bool
	weight := map[int]int{} // of a bar: how many come or go there
	for i := range b.Song.Stems {
		p := b.plays(&b.Song.Stems[i], bars)
		if !slices.Contains(p, true) {
			continue
		}
		stems, all = append(stems, &b.Song.Stems[i]), append(all, p)
		for k := 1; k < bars; k++ {
			if p[k] != p[k-1] {
				at := k
				if near := int(math.Round(float64(k)/sectionBars)) * sectionBars; max(near-k, k-near) <= 1 {
					at = near
				}
				weight[at]++
			}
		}
	}
	if len(stems) == 0 {
		return nil
	}
	edges := spaced(weight, bars)
	var out []session.Section
	var last string
	for i, from := range edges {
		to := bars
		if i+1 < len(edges) {
			to = edges[i+1]
		}
		var in, missing []string
		for k, p := range all {
			n := 0
			for _, on := range p[from:to] {
				if on {
					n++
				}
			}
			if 2*n > to-from {
				in = append(in, stems[k].Name)
			} else {
				missing = append(missing, stems[k].Name)
			}
		}
		who := strings.Join(in, "\x00")
		if i > 0 && who == last {
			continue
		}
		last = who
		at := b.Song.Grid + float64(from)*b.Song.BarSeconds()
		if from == 0 {
			at = 0 // with what comes before the first bar
		}
		out = append(out, session.Section{Name: named(in, missing, out), From: at})
		if len(out) == session.MaxSections {
			break
		}
	}
	return out
}

// spaced chooses of the places where parts come and go those at which most do, sectionBars apart at least; the first is the song's start.
func spaced(weight map[int]int, bars int) []int {
	var at []int
	for k := range weight {
		at = append(at, k)
	}
	slices.SortFunc(at, func(a, b int) int {
		if weight[a] != weight[b] {
			return weight[b] - weight[a]
		}
		return a - b
	})
	out := []int{0}
	for _, k := range at {
		if bars-k >= sectionBars/2 && !slices.ContainsFunc(out, func(o int) bool { return max(o-k, k-o) < sectionBars }) {
			out = append(out, k)
		}
	}
	slices.Sort(out)
	return out
}

// named names a section by who is missing, or by who is there where these are few, apart from those before it.
func named(in, missing []string, before []session.Section) string {
	name := ""
	switch {
	case len(missing) == 0:
		name = "All in"
	case len(in) == 0:
		name = "Silence"
	case len(missing) <= 3 && len(missing) < len(in):
		name = "Without " + strings.Join(missing, " + ")
	case len(in) <= 3:
		name = "Only " + strings.Join(in, " + ")
	default:
		name = fmt.Sprintf("%d of %d stems", len(in), len(in)+len(missing))
	}
	if len([]rune(name)) > session.MaxSectionName-3 {
		name = fmt.Sprintf("%d of %d stems", len(in), len(in)+len(missing))
	}
	n := 1
	for is := name; slices.ContainsFunc(before, func(s session.Section) bool { return s.Name == is }); is = fmt.Sprintf("%s %d", name, n) {
		n++
	}
	if n > 1 {
		return fmt.Sprintf("%s %d", name, n)
	}
	return name
}

// PlaysIn says for each stem from when to when it plays, s, as ProposeSections sees it.
func (b *Bench) PlaysIn(st *session.Stem) []session.Span {
	bar, end := b.Song.BarSeconds(), float64(b.Length)/float64(max(1, b.Song.Rate))
	var out []session.Span
	p := b.plays(st, b.bars())
	for i := range p {
		if !p[i] {
			continue
		}
		if i > 0 && p[i-1] {
			out[len(out)-1].To = min(end, b.Song.Grid+float64(i+1)*bar)
			continue
		}
		out = append(out, session.Span{From: b.Song.Grid + float64(i)*bar, To: min(end, b.Song.Grid+float64(i+1)*bar)})
	}
	return out
}

// Section puts one section of the song on a bench of its own: what is judged over the loop, and what over the whole song, is
// judged over it alone. Nil where it lies behind the song's end.
func (b *Bench) Section(i int) *Bench {
	rate := float64(b.Song.Rate)
	span := b.Song.SectionSpan(i, float64(b.Length)/rate)
	w := mix.Window{From: int(math.Round(span.From * rate)), To: int(math.Round(span.To * rate))}
	if w.Frames() <= int(session.LeastLoop*rate/2) {
		return nil
	}
	return &Bench{Renderer: b.Renderer, Song: b.Song, Facts: b.Facts, Length: b.Length, Loop: w, Chain: b.Chain, part: &w}
}
