package runsheet

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"reflect"
	"slices"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/stage"
	"mellowthump/core/stages"
)

// plan is a candidate of a row.
type plan struct {
	of        *stage.Stage
	id        string
	group     find.Group // that it is the plan of; empty: it is one finding's
	found     []find.Finding
	do, taste string
	edit      session.Edit
	own       []find.Measure
}

// againID is the id of the plan of levels where it is made once more.
const againID = "again"

// open judges a stage on what is kept so far and returns what is open of it: no notices, nothing that was put aside.
func (w *walk) open(ctx context.Context, st *stage.Stage) ([]find.Finding, error) {
	all, err := st.Findings(ctx, w.at.Bench, w.at.Whole())
	if t := bench.Trouble(err); t != "" {
		w.sheet.Trouble = t
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("judging %s: %w", st.Key, err)
	}
	open, _ := find.Open(w.at.Song, all)
	if st.ByStem {
		open = named(open, w.at.Song)
	}
	return slices.DeleteFunc(open, func(f find.Finding) bool { return f.Notice }), nil
}

// mostAnew is how often a stage is judged anew for what a row of it has changed.
const mostAnew = 3

// stage makes the rows of a stage; only the one of a key, where one is given. It ends, whatever is found: what is left
// is judged anew for a row that was made just now and changed something, and not too often; a row is made once.
func (w *walk) stage(ctx context.Context, st *stage.Stage, only string) error {
	left := 0
	if only == "" && st.Anew {
		left = mostAnew
	}
	for anew := true; anew; left-- {
		var err error
		if anew, err = w.judged(ctx, st, only, left > 0); err != nil {
			return err
		}
	}
	return nil
}

// judged judges a stage and makes its rows; where it may, it ends with the first that changed the song, for what is left is to
// be judged anew.
func (w *walk) judged(ctx context.Context, st *stage.Stage, only string, may bool) (anew bool, err error) {
	open, err := w.open(ctx, st)
	if err != nil {
		return false, err
	}
	if open, err = w.turned(ctx, st, open); err != nil || len(open) == 0 && !st.Takes {
		return false, err
	}
	plans, err := w.plans(ctx, st, open)
	if err != nil {
		return false, err
	}
	for _, p := range plans {
		if only != "" && p.key() != only {
			continue
		}
		was := w.at
		if err := w.row(ctx, p); err != nil {
			return false, err
		}
		if may && w.at != was && !reflect.DeepEqual(w.at.Song, was.Song) {
			return true, nil
		}
	}
	return false, nil
}

// turned puts what is upside down in its file before all else: the first stage deals with it, for all that tell it.
func (w *walk) turned(ctx context.Context, st *stage.Stage, open []find.Finding) ([]find.Finding, error) {
	is := func(f find.Finding) bool { return f.Group == find.Turned }
	if st != stages.All[0] {
		return slices.DeleteFunc(open, is), nil
	}
	var out []find.Finding
	for _, s := range stages.All {
		if s.Turns {
			told, err := w.open(ctx, s)
			if err != nil {
				return nil, err
			}
			told, _ = part(told, is)
			out = append(out, find.At(st.Key, told)...)
		}
	}
	return append(out, open...), nil
}

// plans makes candidates of what a stage told: of each group one, of what is left one each.
func (w *walk) plans(ctx context.Context, st *stage.Stage, open []find.Finding) (out []plan, err error) {
	var settled []find.Finding
	if st.Takes {
		settled, w.pending = part(w.pending, func(f find.Finding) bool { return f.Other == st.Key })
	}
	other, open := part(open, func(f find.Finding) bool {
		to := stages.Of(f.Other)
		return to != nil && to != st && to.Takes
	})
	w.pending = append(w.pending, other...)
	var rest []plan // what has a plan of its own comes first
	seen := map[find.Group]bool{}
	for _, f := range slices.Concat(open, settled) {
		if f.Group == "" {
			rest = append(rest, w.single(st, []find.Finding{f}))
			continue
		}
		if seen[f.Group] {
			continue
		}
		seen[f.Group] = true
		is := func(o find.Finding) bool { return o.Group == f.Group }
		own, _ := part(open, is)
		brought, _ := part(settled, is)
		switch make, _ := stages.Plan(f.Group); {
		case make == nil && len(own) == 0:
			rest = append(rest, byHand(st, brought, "")...)
		case make == nil:
			rest = append(rest, w.single(st, slices.Concat(own, brought)))
		case f.Group == find.Tuning && w.dealt(f.Group) && !w.seen[keyOf(st, f.Group)]: // in the stage before
		default:
			made, singly, err := w.planned(ctx, st, f.Group, string(f.Group), slices.Concat(own, brought))
			if err != nil {
				return nil, err
			}
			out = append(out, made...)
			for _, f := range singly {
				rest = append(rest, w.single(st, []find.Finding{f}))
			}
		}
	}
	return alike(append(out, rest...)), nil
}

// planned is the plan of a group, as the row of an id.
func (w *walk) planned(ctx context.Context, st *stage.Stage, g find.Group, id string, found []find.Finding) ([]plan, []find.Finding, error) {
	key := st.Key + "/" + id
	shown := w.seen[key]
	if shown && w.dropped(key) {
		return nil, nil, nil // it was not wanted
	}
	if g == find.Fit {
		w.ahead(ctx)
	}
	make, _ := stages.Plan(g)
	p, err := make(ctx, w.at.Bench, found)
	switch {
	case err != nil:
		return nil, nil, err
	case p.Singly:
		return nil, found, nil
	case len(p.Found) == 0: // nothing of it is for the plan
		return nil, p.Rest, nil
	case p.Hand || shown:
		do := ""
		if p.Hand {
			do = p.Do
		}
		return byHand(st, p.Found, do), p.Rest, nil
	}
	return []plan{{of: st, id: id, group: g, found: p.Found, do: p.Do, taste: p.Taste, edit: p.Edit, own: p.Own}}, p.Rest, nil
}

// byHand is a row for each finding, without a change: as is said, or as it says itself.
func byHand(st *stage.Stage, found []find.Finding, do string) []plan {
	out := make([]plan, len(found))
	for i, f := range found {
		out[i] = plan{of: st, id: f.ID, found: found[i : i+1], do: cmp.Or(do, f.Do, f.Why)}
	}
	return out
}

// key is that of the candidate's row.
func (p plan) key() string { return p.of.Key + "/" + p.id }

// keyOf is the key of the row of a group's plan.
func keyOf(st *stage.Stage, g find.Group) string { return st.Key + "/" + string(g) }

// rowOf is the key of the row of a group's plan in the stage that makes it.
func rowOf(g find.Group) string {
	_, st := stages.Plan(g)
	return keyOf(st, g)
}

// dealt reports whether a row of some stage was the plan of a group.
func (w *walk) dealt(g find.Group) bool {
	return slices.ContainsFunc(stages.All, func(st *stage.Stage) bool { return w.seen[keyOf(st, g)] })
}

// alike puts what is to be done by hand, and is of one kind, into one row.
func alike(all []plan) []plan {
	var out []plan
	first := map[string]int{}
	for _, p := range all {
		kind := p.found[0].Kind()
		i, ok := first[kind]
		switch {
		case p.edit != nil:
		case ok:
			out[i].found = append(out[i].found, p.found...)
			continue
		default:
			first[kind] = len(out)
		}
		out = append(out, p)
	}
	return out
}

// single is the candidate of one finding, and of what it answers besides.
func (w *walk) single(st *stage.Stage, found []find.Finding) plan {
	f := found[0]
	p := plan{of: st, id: f.ID, found: found, do: cmp.Or(f.Do, f.Why)}
	if len(f.Fix) > 0 {
		p.edit, p.taste, p.own = session.Together{Said: f.Do, Edits: f.Fix}, f.Taste, f.Own
	}
	return p
}

// part takes some out of findings.
func part(all []find.Finding, of func(find.Finding) bool) (some, rest []find.Finding) {
	for _, f := range all {
		if of(f) {
			some = append(some, f)
		} else {
			rest = append(rest, f)
		}
	}
	return some, rest
}

// ahead listens to what other stages will ask of the parts that no duck changes, while one processor fits the duck. What is found
// is in the renderer's cache; an error comes again where it counts.
func (w *walk) ahead(ctx context.Context) {
	at := w.at
	ctx = mix.Watched(ctx, &mix.Work{}) // it says nothing of what it does
	for _, st := range stages.All {
		if st.Ahead != nil {
			w.beside.Go(func() error { _ = st.Ahead(ctx, at.Bench); return nil })
		}
	}
}

// judgeAhead judges the next stage while the rows of one that takes long are weighed, where that takes long too: most rows leave the
// song as it is, and then it is done. What is found is in the renderer's cache.
func (w *walk) judgeAhead(ctx context.Context, of *stage.Stage) {
	if w.leave != nil {
		w.leave()
	}
	i := slices.Index(stages.All, of) + 1
	if !of.Later || i == len(stages.All) || !stages.All[i].Later {
		return
	}
	at := w.put(w.at.Song) // on a bench of its own: what a bench keeps must not end with what is left
	ctx, leave := context.WithCancel(mix.Watched(ctx, &mix.Work{}))
	w.leave = leave
	w.beside.Go(func() error { _, _ = stages.All[i].Findings(ctx, at.Bench, at.Whole()); return nil })
}

// premasterOff is how far the premaster may lie off its aim at the end of the sheet, dB: the trims are set once more where it is further.
const premasterOff = 0.4

// again sets the trims once more where what came after them has moved a part, or the premaster, out of its place.
func (w *walk) again(ctx context.Context) error {
	_, st := stages.Plan(find.Plan)
	unwanted := slices.Contains(w.choice.Off, rowOf(find.Plan))
	if !slices.ContainsFunc(w.sheet.Rows, func(r Row) bool { return r.Kept && r.Stage != st.Key }) || unwanted {
		return nil
	}
	open, err := w.open(ctx, st)
	if err != nil {
		return err
	}
	told := map[string]bool{} // by hand already
	for _, r := range w.sheet.Rows {
		for _, f := range r.Found {
			told[f.ID] = r.Edit == nil
		}
	}
	open = slices.DeleteFunc(open, func(f find.Finding) bool { return told[f.ID] || f.Group != find.Plan })
	peak, err := w.at.take(ctx, find.Measure{Figure: "songpeak"})
	if err != nil {
		return err
	}
	aim := w.at.Song.LevelRules().Premaster
	moved := find.Finding{
		ID: "premaster-moved", Group: find.Plan, Hear: string(mix.SoloAll),
		What: fmt.Sprintf("The premaster peaks at %s dBFS now; %s is aimed at", figure.Signed(float64(peak), 1), figure.Signed(aim, 1)),
		Why:  "What was done above has moved it.",
	}
	if off := float64(peak) - aim; peak.Valid() && math.Abs(off) > premasterOff && len(open) == 0 {
		open = []find.Finding{moved}
	}
	if len(open) == 0 {
		return nil
	}
	var plans []plan
	if !w.dropped(rowOf(find.Plan)) {
		if plans, _, err = w.planned(ctx, st, find.Plan, againID, find.At(st.Key, open)); err != nil {
			return err
		}
	}
	if len(plans) == 0 || plans[0].edit == nil { // no trim can be planned: the master alone
		master := w.at.Song.Master
		if math.Abs(float64(peak)-aim) <= premasterOff || master.Locked() || !peak.Valid() {
			return nil
		}
		to := figure.Tenth(master.Fader + aim - float64(peak))
		return w.row(ctx, plan{
			of: st, id: againID, found: find.At(st.Key, []find.Finding{moved}), do: fmt.Sprintf("Bring the master to %s dB", figure.Signed(to, 1)),
			edit: session.Gain{Step: session.MasterStep, DB: to}, own: []find.Measure{{Figure: "songpeak", In: find.Bracket{Lo: aim - 0.15, Hi: aim + 0.15}}},
		})
	}
	plans[0].do += ", once more, after what the moves above changed"
	return w.row(ctx, plans[0])
}

// dropped reports whether a row stands on the sheet and is not kept.
func (w *walk) dropped(key string) bool {
	return slices.ContainsFunc(w.sheet.Rows, func(r Row) bool { return r.Key == key && !r.Kept })
}

// named puts the stem's name before what Intake tells of its file.
func named(all []find.Finding, song *session.Song) []find.Finding {
	out := slices.Clone(all)
	for i, f := range out {
		id, _ := strings.CutPrefix(f.Hear, "stem:")
		if st := song.Stem(id); st != nil && f.Hear != id && !strings.HasPrefix(f.What, st.Name) && f.Kind() != intake.RoleAsked {
			out[i].What = st.Name + ": " + f.What
		}
	}
	return out
}
