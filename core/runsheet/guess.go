package runsheet

import (
	"reflect"
	"slices"
	"strings"

	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// guessed are the stems on whose role a change hangs, and whose role is no more than a guess: those that it changes, and kick and bass
// where it is about the two.
func (w *walk) guessed(p *plan, next *state) []string {
	var out []string
	pair := p.of.Key == stage.Pocket || p.of.Key == stage.Duck
	trigger := ""
	if t := w.at.Song.TriggerStem(); t != nil {
		trigger = t.ID
	}
	for i := range w.at.Song.Stems {
		st := &w.at.Song.Stems[i]
		is := next.Song.Stem(st.ID)
		ofPair := pair && (st.ID == trigger || st.Role == session.Bass)
		if !ofPair && (is == nil || is.Said != st.Said || reflect.DeepEqual(st, is)) {
			continue
		}
		if g, ok := facts.Unsure(st, w.known[st.Audio]); ok && g.Confidence < facts.Sure {
			out = append(out, st.ID)
		}
	}
	return out
}

// unguessed makes a row's change without the parts of which it is only guessed what they are; where nothing is left then, the row
// asks for the first of them.
func (w *walk) unguessed(r *Row, p *plan, next *state) (*state, error) {
	bad := w.guessed(p, next)
	if len(bad) == 0 {
		return next, nil
	}
	if less, ok := w.without(p.edit, bad); ok && p.group != "" {
		if then, err := w.made(less); err == nil && len(w.guessed(p, then)) == 0 {
			var names []string
			for _, id := range bad {
				names = append(names, w.at.Song.Stem(id).Name)
				w.hang[id]++
			}
			of := func(f find.Finding) bool {
				return slices.ContainsFunc(bad, func(id string) bool { return strings.HasSuffix(f.ID, "."+id) })
			}
			about, kept := part(p.found, of)
			if len(kept) > 0 {
				p.edit, p.found = less, append(kept, about...)
				p.do = strings.TrimSuffix(p.do, ".") + "; not " + figure.List(names, "and") + " until you say what it is"
				r.Edit, r.Do, r.Found = p.edit, p.do, p.found
				return then, nil
			}
		}
	}
	r.Asks = bad[0]
	for _, id := range bad {
		w.hang[id]++
	}
	return next, nil
}

// decides says in the rows that ask for a role how many others hang on it.
func (w *walk) decides() {
	for i := range w.sheet.Rows {
		r := &w.sheet.Rows[i]
		if r.Kept || len(r.Found) == 0 || r.Found[0].Kind() != intake.RoleAsked {
			continue
		}
		if n := w.hang[strings.TrimPrefix(r.Found[0].ID, intake.RoleAsked+".")]; n > 0 {
			r.Do = strings.TrimSuffix(r.Do, ".") + ". It decides " + figure.Count(n, "row")
		}
	}
}
