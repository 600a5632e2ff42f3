package facts

import (
	"fmt"
	"math"
	"sort"
	"strings"
	"unicode"

	"mellowthump/core/session"
)

// Brought is a file that came to a song that has stems already.
type Brought struct {
	Name  string // of the file
	Audio string // its hash
	Facts *Analysis
	Of    string // the stem whose export it is; empty: none is known
}

// Match is what a file that came is taken for: the best that is known of it.
type Match struct {
	Stem string // whose new version it is; empty: a stem of its own
	Same bool   // it is the very file that the stem has
	Why  string
}

// flat is the part of their mean by which peaks have to move, to be a course.
const flat = 0.05

// resembles is the resemblance from which a file is taken for a new version of a stem of another name.
const resembles = 0.75

// MatchStems finds for each file the stem that it is a new version of, each stem at most once: its own export first, then
// the same file, then by the name, then by the name without what tells versions apart, then by what it sounds like. Own
// rules; of common practice none is known.
func MatchStems(stems []session.Stem, facts map[string]*Analysis, brought []Brought) []Match {
	out := make([]Match, len(brought))
	type pair struct {
		file, stem int
		rank       int // the higher the surer
		like       float64
		match      Match
	}
	var pairs []pair
	for i, b := range brought {
		name := session.StemName(b.Name)
		for k := range stems {
			st := &stems[k]
			m := Match{Stem: st.ID}
			p := pair{file: i, stem: k, like: Resemblance(b.Facts, facts[st.Audio])}
			switch {
			case b.Of == st.ID:
				p.rank, m.Why = 5, "exported from here"
			case b.Audio == st.Audio:
				p.rank, m.Why, m.Same = 4, "the same file as before", true
			case strings.EqualFold(name, st.Name):
				p.rank, m.Why = 3, "the same name"
			case plainName(name) != "" && plainName(name) == plainName(st.Name):
				p.rank, m.Why = 2, "the same name but for its version"
			case p.like >= resembles:
				p.rank, m.Why = 1, fmt.Sprintf("sounds like it, %.0f %%", 100*p.like)
			default:
				continue
			}
			p.match = m
			pairs = append(pairs, p)
		}
	}
	sort.SliceStable(pairs, func(a, b int) bool {
		if pairs[a].rank != pairs[b].rank {
			return pairs[a].rank > pairs[b].rank
		}
		return pairs[a].like > pairs[b].like
	})
	files, taken := map[int]bool{}, map[int]bool{}
	for _, p := range pairs {
		if !files[p.file] && !taken[p.stem] {
			files[p.file], taken[p.stem] = true, true
			out[p.file] = p.match
		}
	}
	for i := range out {
		if out[i].Stem == "" {
			out[i].Why = "no stem has its name or sounds like it"
		}
	}
	return out
}

// versionWords are words at the end of a name that tell versions apart, and not parts.
var versionWords = map[string]bool{
	"new":     true,
	"old":     true,
	"final":   true,
	"bounce":  true,
	"bounced": true,
	"export":  true,
	"print":   true,
	"mix":     true,
	"edit":    true,
	"copy":    true,
	"fix":     true,
	"fixed":   true,
	"ducked":  true,
	"changed": true,
	"trimmed": true,
	"version": true,
	"ver":     true,
	"rev":     true,
	"take":    true,
	"bit":     true,
	"float":   true,
	"moves":   true,
	"only":    true,
}

// plainName is a name without what tells versions apart: "808_v2 (final)" is "808", "Kick 2" stays.
func plainName(name string) string {
	words := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool { return !unicode.IsLetter(r) && !unicode.IsDigit(r) })
	for len(words) > 1 {
		last := words[len(words)-1]
		version := strings.TrimLeft(last,
			"0123456789") == "" && (len(words) > 2 && versionWords[words[len(words)-2]] || len(last) >= 6) || // a number after such a word, or a date
			versionWords[last] ||
			len(last) > 1 && strings.ContainsRune("vr", rune(last[0])) && strings.TrimLeft(last[1:], "0123456789") == ""
		if !version {
			break
		}
		words = words[:len(words)-1]
	}
	return strings.Join(words, " ")
}

// Resemblance tells how much one file is like another after it was worked on, 1: no difference. It is the correlation of the
// courses of their peaks, less the distance of their spectra (20 dB of mean difference take 1 off); 0 where their lengths
// differ by over 5 %. Own definition.
func Resemblance(a, b *Analysis) float64 {
	if a == nil || b == nil || a.Portrait == nil || b.Portrait == nil || len(a.Overview) != len(b.Overview) ||
		math.Abs(a.DurationS-b.DurationS) > 0.05*math.Max(a.DurationS, b.DurationS) {
		return 0
	}
	var ma, mb float64
	n := float64(len(a.Overview))
	for i := range a.Overview {
		ma, mb = ma+float64(a.Overview[i])/n, mb+float64(b.Overview[i])/n
	}
	var xx, yy, xy float64
	for i := range a.Overview {
		x, y := float64(a.Overview[i])-ma, float64(b.Overview[i])-mb
		xx, yy, xy = xx+x*x, yy+y*y, xy+x*y
	}
	if xx < flat*flat*ma*ma*n || yy < flat*flat*mb*mb*n { // what goes on without a course has none to be known by
		return 0
	}
	sa, sb := a.Portrait.Spectrum.Level, b.Portrait.Spectrum.Level
	var diff []float64
	top := math.Inf(-1)
	for i := range sa {
		if sa[i].Valid() {
			top = math.Max(top, float64(sa[i]))
		}
	}
	for i := range sa {
		if sa[i].Valid() && sb[i].Valid() && float64(sa[i]) > top-40 {
			diff = append(diff, float64(sa[i]-sb[i]))
		}
	}
	if len(diff) == 0 {
		return 0
	}
	mean, off := 0.0, 0.0
	for _, d := range diff {
		mean += d / float64(len(diff))
	}
	for _, d := range diff {
		off += math.Abs(d-mean) / float64(len(diff))
	}
	return math.Max(0, xy/math.Sqrt(xx*yy)-off/20)
}
