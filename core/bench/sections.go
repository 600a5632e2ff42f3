package bench

import (
	"fmt"
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Where parts come and go: common practice, no published source.
const (
	playsUnder   = -30.0 // dB under what a stem mostly reaches: quieter is not playing
	hitUnder     = -14.0 // dB under it: what rises to that is a hit, and makes a beat one in which it plays
	hitRise      = 3.0   // dB by which it rises: what rings on does not
	playsShare   = 0.5   // of a beat, or of the beats of a bar in which it mostly plays
	beatsInBar   = 4
	missingShare = 0.25 // of a section: what plays in less of it is missing there
	leastBars    = 8    // of a song, or it has no sections
	mostBars     = 128  // of a section
)

// What an edge between two sections costs, in bars in which one stem plays and its section says that it does not, or the other
// way round: a change of less is a fill, a tail, a pick-up or a stop. Own choice, set on 20 songs of known sections.
const (
	edgeCost = 2.0
	oddCost  = 0.8 // more where it stands on no second bar
	evenCost = 0.3 // or on no fourth
)

// weight is what a stem's coming and going counts.
func weight(role session.Role) float64 {
	switch role {
	case session.Effects, session.Texture:
		return 0.3
	case session.Perc, session.Other:
		return 0.6
	case session.Drums:
		return 3 // several in one file
	}
	return 1
}

// plays says for each bar how much of it a stem plays, 0 to 1, by the peaks of its file: the beats in which it reaches playsUnder
// for half of the beat, or rises to hitUnder at once, over as many as it has in the median of the bars in which it plays. So a
// pick-up and a tail are a part of a bar. usual is that median, beats.
func (b *Bench) plays(st *session.Stem, bars int) (share []float64, usual int) {
	a, out := b.Facts[st.Audio], make([]float64, bars)
	if a == nil || st.Mute || len(a.Overview) == 0 {
		return out, 0
	}
	var loud []float32
	for _, v := range a.Overview {
		if v > 0 {
			loud = append(loud, v)
		}
	}
	if len(loud) == 0 {
		return out, 0
	}
	slices.Sort(loud)
	top := float64(loud[len(loud)*95/100])
	step, bar := a.DurationS/float64(len(a.Overview)), b.Song.BarSeconds()
	cells := max(1, min(beatsInBar, int(bar/(2*step)))) // of a long file the peaks stand too far apart for beats
	var played []float64
	for i := range out {
		for c := range cells {
			from := b.Song.Grid + (float64(i)+float64(c)/float64(cells))*bar
			n, over, hit := 0, 0, false
			for k := max(0, int(from/step)); k < len(a.Overview) && float64(k+1)*step <= from+bar/float64(cells); k++ { // a peak in which a beat begins is of that
				n++
				v := float64(a.Overview[k])
				if v >= top*dsp.Gain(playsUnder) {
					over++
				}
				hit = hit || v >= top*dsp.Gain(hitUnder) && v >= dsp.Gain(hitRise)*float64(a.Overview[max(0, k-1)])
			}
			if hit || n > 0 && float64(over) >= playsShare*float64(n) {
				out[i]++
			}
		}
		if out[i] > 0 {
			played = append(played, out[i])
		}
	}
	if len(played) == 0 {
		return out, 0
	}
	slices.Sort(played)
	mostly := played[len(played)/2]
	for i := range out {
		out[i] = min(1, out[i]/mostly)
	}
	return out, int(mostly) * beatsInBar / cells
}

// bars is how many bars begin in the song.
func (b *Bench) bars() int {
	return max(0, int(math.Ceil((float64(b.Length)/float64(max(1, b.Song.Rate))-b.Song.Grid)/b.Song.BarSeconds()-0.1)))
}

// part is a stem that plays somewhere, with how much of each bar, added up to its start.
type part struct {
	stem   *session.Stem
	usual  int       // beats of a bar in which it plays
	summed []float64 // bars; one more than there are
}

// in is how much a part plays from one bar to another, 0 to 1.
func (p *part) in(from, to int) float64 { return (p.summed[to] - p.summed[from]) / float64(to-from) }

// parts are the stems that play somewhere.
func (b *Bench) parts(bars int) []part {
	var out []part
	for i := range b.Song.Stems {
		p := part{stem: &b.Song.Stems[i], summed: make([]float64, bars+1)}
		var share []float64
		share, p.usual = b.plays(p.stem, bars)
		for k, v := range share {
			p.summed[k+1] = p.summed[k] + v
		}
		if p.usual > 0 {
			out = append(out, p)
		}
	}
	return out
}

// ProposeSections finds where parts come and go and names the sections as they are mostly called; none for a song of under
// leastBars. The edges are those with the least cost: an edge's own (edgeCost), and in each section, of each stem, the bars in
// which it plays where it mostly rests, or rests where it mostly plays (dynamic programming over the bars).
func (b *Bench) ProposeSections() []session.Section {
	bars := b.bars()
	if bars < leastBars {
		return nil
	}
	parts := b.parts(bars)
	if len(parts) == 0 {
		return nil
	}
	edges := edges(parts, bars)
	var found []piece
	for i, from := range edges[:len(edges)-1] {
		f := piece{from: from, to: edges[i+1]}
		for _, p := range parts {
			if p.in(from, f.to) > playsShare {
				f.in = append(f.in, p.stem)
				f.full += weight(p.stem.Role)
			}
		}
		if n := len(found); n > 0 && slices.Equal(found[n-1].in, f.in) {
			found[n-1].to = f.to
		} else if n < session.MaxSections {
			found = append(found, f)
		}
	}
	if n := len(found); n > 1 && len(found[n-1].in) == 0 {
		found = found[:n-1] // nor is silence at the end
	}
	four := slices.ContainsFunc(parts, func(p part) bool { return p.stem.Role == session.Kick && p.usual == beatsInBar })
	var out []session.Section
	for i, name := range named(found, four) {
		at := 0.0 // with what comes before the first bar
		if i > 0 {
			at = b.Song.Grid + float64(found[i].from)*b.Song.BarSeconds()
		}
		out = append(out, session.Section{Name: name, From: at})
	}
	return out
}

// edges are the bars in which sections begin, and the end.
func edges(parts []part, bars int) []int {
	cost, back := make([]float64, bars+1), make([]int, bars+1)
	for to := 1; to <= bars; to++ {
		cost[to] = math.Inf(1)
		for from := max(0, to-mostBars); from < to; from++ {
			c := cost[from]
			switch {
			case from == 0:
			case to == bars && to-from < 2:
				continue // what rings on is no section
			case from%2 == 1:
				c += edgeCost + oddCost
			case from%4 == 2:
				c += edgeCost + evenCost
			default:
				c += edgeCost
			}
			for i := range parts {
				n := parts[i].summed[to] - parts[i].summed[from]
				c += weight(parts[i].stem.Role) * min(n, float64(to-from)-n)
			}
			if c < cost[to]-1e-9 {
				cost[to], back[to] = c, from
			}
		}
	}
	out := []int{bars}
	for to := bars; to > 0; to = back[to] {
		out = append(out, back[to])
	}
	slices.Reverse(out)
	return out
}

// piece is a section as it is found: its bars, who plays, and how much that counts.
type piece struct {
	from, to int
	in       []*session.Stem
	full     float64
}

// has reports whether a part of a role plays in it.
func (p piece) has(role session.Role) bool {
	return slices.ContainsFunc(p.in, func(st *session.Stem) bool { return st.Role == role })
}

const (
	fullest   = 0.7  // by how much less than the most that plays anywhere a hook has at most: an effect is not missed, a drum is
	introMost = 0.25 // of the song
)

// named names sections by what plays, as beats are mostly built (common practice, no published source): what is fullest is the
// hook, or the drop where the kick strikes every beat and something was missing before; what has neither a kick nor drums a break; what else
// there is a verse; a thin start the intro, a thin end the outro. four says that the kick strikes every beat.
func named(found []piece, four bool) []string {
	most, kicks := 0.0, false
	for _, f := range found {
		most, kicks = math.Max(most, f.full), kicks || f.has(session.Kick) || f.has(session.Drums)
	}
	if len(found) == 1 {
		return []string{"All in"}
	}
	var out []string
	count := map[string]int{}
	for i, f := range found {
		thin := f.full < most-fullest
		short := float64(f.to-f.from) <= introMost*float64(found[len(found)-1].to)
		name := "Verse"
		switch {
		case len(f.in) == 0:
			name = "Silence"
		case i == 0 && thin && short:
			name = "Intro"
		case i == len(found)-1 && thin && short && f.full < found[i-1].full:
			name = "Outro"
		case kicks && !f.has(session.Kick) && !f.has(session.Drums):
			name = "Break"
		case !thin && four && i > 0 && found[i-1].full < f.full:
			name = "Drop"
		case !thin:
			name = "Hook"
		}
		if count[name]++; count[name] > 1 {
			name = fmt.Sprintf("%s %d", name, count[name])
		}
		out = append(out, name)
	}
	return out
}

// Missing are the stems that play somewhere and not from one place to another, s.
func (b *Bench) Missing(from, to float64) []string {
	bar, bars := b.Song.BarSeconds(), b.bars()
	first := max(0, int(math.Round((from-b.Song.Grid)/bar)))
	last := min(bars, int(math.Round((to-b.Song.Grid)/bar)))
	var out []string
	for _, p := range b.parts(bars) {
		if last > first && p.in(first, last) < missingShare {
			out = append(out, p.stem.Name)
		}
	}
	return out
}

// PlaysIn says for each stem from when to when it plays, s, bar by bar.
func (b *Bench) PlaysIn(st *session.Stem) []session.Span {
	bar, end := b.Song.BarSeconds(), float64(b.Length)/float64(max(1, b.Song.Rate))
	var out []session.Span
	p, _ := b.plays(st, b.bars())
	for i := range p {
		if p[i] < playsShare {
			continue
		}
		if i > 0 && p[i-1] >= playsShare {
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
