package runsheet

import (
	"context"
	"reflect"
	"slices"
	"strings"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// crestMost is by how much a part's peak may rise at equal loudness, dB: more is harm that no fader takes back. Common practice, no
// published source.
const crestMost = 0.5

// crest is a stem's sample peak over its loudness behind its chain, over the loop, dB.
func (s *state) crest(ctx context.Context, st *session.Stem) (meter.Figure, error) {
	x, key, err := s.Renderer.Stem(mix.Passing(ctx), s.Song, st, s.Loop)
	if err != nil {
		return meter.None, err
	}
	return mix.Cached(ctx, s.Renderer.Cache, mix.Key("crest", key), func() (meter.Figure, int, error) {
		peak, loud := meter.PeakDB(x.Ch...), meter.IntegratedLoudness(x)
		if !peak.Valid() || !loud.Valid() {
			return meter.None, 8, nil
		}
		return peak - loud, 8, nil
	})
}

// sharpened are the stems whose peak a change raises at equal loudness: a steep cut turns the phase of what it leaves.
func (w *walk) sharpened(ctx context.Context, now *state) ([]string, error) {
	var out []string
	for i := range now.Song.Stems {
		st := &now.Song.Stems[i]
		was := w.at.Song.Stem(st.ID)
		if was == nil || st.Mute || reflect.DeepEqual(was.Moves, st.Moves) {
			continue
		}
		before, err := w.at.crest(ctx, was)
		if err != nil {
			return nil, err
		}
		after, err := now.crest(ctx, st)
		if err != nil {
			return nil, err
		}
		if before.Valid() && after.Valid() && float64(after-before) > crestMost {
			out = append(out, st.ID)
		}
	}
	return out, nil
}

// spared makes a row's change without the parts that it would harm, part by part: one of them never throws all of it away.
func (w *walk) spared(ctx context.Context, r *Row, p *plan, next *state) (*state, error) {
	if p.group != find.Cuts { // other changes are for something that this part has, and say what they cost
		return next, nil
	}
	bad, err := w.sharpened(ctx, next)
	if err != nil || len(bad) == 0 {
		return next, err
	}
	names := make([]string, len(bad))
	for i, id := range bad {
		names[i] = w.at.Song.Stem(id).Name
	}
	less, ok := w.without(p.edit, bad)
	if !ok {
		r.Broke = "the peak of " + figure.List(names, "and") + " at the same loudness"
		return next, nil
	}
	then, err := w.made(less)
	if err != nil {
		return next, nil // it is told as it is
	}
	of := func(f find.Finding) bool {
		return slices.ContainsFunc(bad, func(id string) bool { return strings.HasSuffix(f.ID, "."+id) })
	}
	about, kept := part(p.found, of)
	p.edit, p.do, p.found = less, spareSaid(p.do, names), append(kept, about...) // it is told by what is done
	r.Edit, r.Do, r.Found = p.edit, p.do, p.found
	return then, nil
}

// spareSaid says what is left out.
func spareSaid(do string, names []string) string {
	return strings.TrimSuffix(do, ".") + "; not " + figure.List(names, "and") + ", whose peak would rise"
}

// without is a change without what it does to some stems; ok is false where nothing would be left, or it is one.
func (w *walk) without(e session.Edit, stems []string) (session.Edit, bool) {
	all, ok := e.(session.Together)
	if !ok {
		return nil, false
	}
	kept := session.Together{Said: all.Said}
	for _, one := range all.Edits {
		if inner, ok := one.(session.Together); ok {
			if less, ok := w.without(inner, stems); ok {
				kept.Edits = append(kept.Edits, less)
			}
			continue
		}
		after := w.at.Song.Clone()
		if _, err := one.Apply(&after); err != nil {
			continue
		}
		if !slices.ContainsFunc(stems, func(id string) bool {
			was, is := w.at.Song.Stem(id), after.Stem(id)
			return is == nil || !reflect.DeepEqual(was, is)
		}) {
			kept.Edits = append(kept.Edits, one)
		}
	}
	return kept, len(kept.Edits) > 0
}
