package runsheet

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/body"
	"mellowthump/core/compare"
	"mellowthump/core/duck"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/mix"
	"mellowthump/core/pocket"
	"mellowthump/core/print"
	"mellowthump/core/room"
	"mellowthump/core/session"
	"mellowthump/core/width"
)

// stage is what the walk has to know of a stage: how it judges, and how what it tells hangs together with what others do.
type stage struct {
	key   string
	judge func(context.Context, *bench.Bench) ([]find.Finding, error)
	// plan makes candidates of what is dealt with together, and returns what is left, each by itself; nil: all of it.
	plan func(w *walk, ctx context.Context, open []find.Finding) (made []plan, rest []find.Finding, err error)
	also string // another stage, of which this one deals with what is upside down: the levels are set of what is left of it

	takes  bool   // what other stages told is dealt with here
	anew   bool   // its change may answer what else it told, or set the same again: it is judged anew
	early  bool   // it comes before the duck is fitted: where that is to be, it answers for no clearance
	loud   bool   // it comes before the levels are set, or sets them: it answers for no premaster
	mended bool   // what is where it should be already was mended by a row above
	ahead  string // the stage that takes long and is judged while its rows are weighed
}

// stages are the stages that judge, in the order of the work. It is filled at the start: a plan looks into it.
var stages []stage

func init() {
	stages = []stage{
		{key: "intake", judge: func(_ context.Context, b *bench.Bench) ([]find.Finding, error) { return intake.FindingsOn(b), nil },
			plan: (*walk).planTuning, also: "pocket", early: true, loud: true},
		{key: "levels", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
			return levels.Findings(ctx, b, b.Whole())
		},
			plan: (*walk).planTrims, anew: true, early: true, loud: true},
		{key: "pocket", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return pocket.Findings(ctx, b) },
			plan: (*walk).planPocket, anew: true, early: true},
		{key: "duck", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return duck.Findings(ctx, b) },
			plan: (*walk).planDuck, takes: true},
		{key: "room", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return room.Findings(ctx, b) },
			plan: (*walk).planCuts, mended: true, ahead: "body"},
		{key: "body", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return body.Findings(ctx, b) },
			plan: (*walk).planBody, takes: true, ahead: "width"},
		{key: "width", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return width.Findings(ctx, b) }},
		{key: "compare", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return compare.Findings(ctx, b) }, anew: true},
		{key: "print", judge: func(ctx context.Context, b *bench.Bench) ([]find.Finding, error) { return print.FindingsOn(ctx, b) }},
	}
}

// stageOf is the stage with a key; one that is none judges nothing.
func stageOf(key string) stage {
	for _, s := range stages {
		if s.key == key {
			return s
		}
	}
	return stage{key: key, judge: func(context.Context, *bench.Bench) ([]find.Finding, error) { return nil, nil }}
}

// Keys of rows that deal with several findings.
const (
	tuneKey = "intake/tune"
	planKey = "levels/plan"
	fitKey  = "duck/fit"
	cutKey  = "room/cut"
	againID = "again"

	muchRaised = 12.0 // dB: common practice, no published source
)

// plan is a candidate of a row.
type plan struct {
	stage, id string
	found     []find.Finding
	do, taste string
	edit      session.Edit
	own       []find.Measure
}

// open judges a stage on what is kept so far and returns what is open of it: no notices, nothing that was put aside.
func (w *walk) open(ctx context.Context, key string) ([]find.Finding, error) {
	all, err := stageOf(key).judge(ctx, w.at.Bench)
	if t := bench.Trouble(err); t != "" {
		w.sheet.Trouble = t
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("judging %s: %w", key, err)
	}
	open, _ := find.Open(w.at.Song, find.At(key, all))
	return slices.DeleteFunc(open, func(f find.Finding) bool { return f.Notice }), nil
}

// mostAnew is how often a stage is judged anew for what a row of it has changed.
const mostAnew = 3

// stage makes the rows of a stage; only the one of a key, where one is given. It ends, whatever is found: what is left
// is judged anew for a row that was made just now and changed something, and not too often; a row is made once.
func (w *walk) stage(ctx context.Context, st stage, only string) error {
	left := 0
	if only == "" && st.anew {
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
func (w *walk) judged(ctx context.Context, st stage, only string, may bool) (anew bool, err error) {
	open, err := w.open(ctx, st.key)
	if err != nil {
		return false, err
	}
	if st.also != "" {
		turned, err := w.open(ctx, st.also)
		if err != nil {
			return false, err
		}
		turned, _ = part(turned, func(f find.Finding) bool { return f.Group == find.Turned })
		open = append(find.At(st.key, turned), open...)
	}
	if len(open) == 0 && !st.takes {
		return false, nil
	}
	plans, err := w.plans(ctx, st, open)
	if err != nil {
		return false, err
	}
	for _, p := range plans {
		if only != "" && p.stage+"/"+p.id != only {
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

// plans groups what a stage told into candidates.
func (w *walk) plans(ctx context.Context, st stage, open []find.Finding) (out []plan, err error) {
	if st.plan != nil {
		if out, open, err = st.plan(w, ctx, open); err != nil {
			return nil, err
		}
	}
	var other []find.Finding
	other, open = part(open, func(f find.Finding) bool { return f.Other != "" && stageOf(f.Other).takes })
	w.pending = append(w.pending, other...)
	for _, f := range open {
		out = append(out, w.single(st.key, []find.Finding{f}))
	}
	return alike(out), nil
}

// planTuning detunes all that is off by one change, where there is one.
func (w *walk) planTuning(_ context.Context, open []find.Finding) ([]plan, []find.Finding, error) {
	tune, rest := part(open, func(f find.Finding) bool { return f.Group == find.Tuning })
	fix := pocket.DetuneOn(w.at.Bench)
	if len(fix) == 0 || len(tune) == 0 {
		return nil, named(append(tune, rest...), w.at.Song), nil
	}
	p := plan{
		stage: "intake", id: "tune", found: named(tune, w.at.Song), do: fixSaid(fix, w.at.Song),
		edit: session.Together{Edits: fix}, own: []find.Measure{{Figure: "notecents"}},
	}
	return []plan{p}, named(rest, w.at.Song), nil
}

// planTrims is the plan of the trims.
func (w *walk) planTrims(ctx context.Context, open []find.Finding) ([]plan, []find.Finding, error) {
	return w.planLevels(ctx, open, "plan")
}

// planPocket leaves out what was dealt with before the levels.
func (w *walk) planPocket(_ context.Context, open []find.Finding) ([]plan, []find.Finding, error) {
	return nil, slices.DeleteFunc(open, func(f find.Finding) bool {
		return f.Group == find.Tuning && w.seen[tuneKey] || f.Group == find.Turned
	}), nil
}

// planBody evens what steps, also where another stage told so; what of that Body does not find itself is told as it is.
func (w *walk) planBody(_ context.Context, open []find.Finding) (out []plan, rest []find.Finding, err error) {
	for _, f := range open {
		if f.Other != "" {
			rest = append(rest, f)
		} else if f.ID == "uneven.bass" {
			out = append(out, w.single("body", append([]find.Finding{f}, w.settled("body")...)))
		} else {
			out = append(out, w.single("body", []find.Finding{f}))
		}
	}
	for _, f := range w.settled("body") {
		out = append(out, plan{stage: "body", id: f.ID, found: []find.Finding{f}, do: f.Do})
	}
	return out, rest, nil
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

// single is the candidate of one finding.
func (w *walk) single(stage string, found []find.Finding) plan {
	f := found[0]
	p := plan{stage: stage, id: f.ID, found: found, do: f.Do}
	if len(f.Fix) > 0 {
		p.edit, p.taste, p.own = session.Together{Said: f.Do, Edits: f.Fix}, f.Taste, f.Own
	}
	if p.do == "" {
		p.do = f.Why
	}
	return p
}

// settled takes what another stage told that is dealt with in this one.
func (w *walk) settled(stage string) (out []find.Finding) {
	out, w.pending = part(w.pending, func(f find.Finding) bool { return f.Other == stage })
	return out
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

// planLevels is the plan of the trims, for all that it is for; where it is made or was shown, what it leaves is told.
func (w *walk) planLevels(ctx context.Context, open []find.Finding, id string) ([]plan, []find.Finding, error) {
	out, rest := part(open, func(f find.Finding) bool { return f.Group == find.Plan })
	if len(out) == 0 {
		return nil, rest, nil
	}
	shown := w.seen["levels/"+id]
	if i := slices.IndexFunc(w.sheet.Rows, func(r Row) bool { return r.Key == "levels/"+id }); shown && i >= 0 && !w.sheet.Rows[i].Kept {
		return nil, rest, nil // it was not wanted
	}
	solved, err := levels.PlanOn(ctx, w.at.Bench)
	if errors.Is(err, levels.ErrNothing) || errors.Is(err, levels.ErrNoKick) { // each by its own fix
		return nil, open, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if noPlan(solved) || shown {
		var left []plan
		for _, f := range out {
			do := f.Do
			if len(solved.Blocked) > 0 {
				do = strings.Join(solved.Blocked, ". ")
			}
			left = append(left, plan{stage: "levels", id: f.ID, found: []find.Finding{f}, do: do})
		}
		return left, rest, nil
	}
	doubt := ""
	for _, c := range solved.Changes {
		if by := c.To - c.From; by >= muchRaised && doubt == "" { // what is nearly silent is noise
			doubt = fmt.Sprintf("it raises %s by %s dB, and its noise with it", c.Name, figure.Short(by))
		}
	}
	do := fmt.Sprintf("Set %s, from the kick’s peak", counted(len(solved.Changes), "trim"))
	return []plan{{stage: "levels", id: id, taste: doubt, found: out, do: do, edit: solved.Edit(), own: planned(w.at.Song)}}, rest, nil
}

// planDuck is the fit, where a clearance is asked that is not there.
func (w *walk) planDuck(ctx context.Context, open []find.Finding) (made []plan, rest []find.Finding, err error) {
	found := append(open, w.settled("duck")...)
	if len(found) == 0 {
		return nil, nil, nil
	}
	byHand := func(why string) []plan {
		var out []plan
		for _, f := range found {
			do := f.Do
			if why != "" {
				do = why
			} else if do == "" {
				do = f.Why
			}
			out = append(out, plan{stage: "duck", id: f.ID, found: []find.Finding{f}, do: do})
		}
		return out
	}
	if w.at.Song.Fitted() {
		return byHand(""), nil, nil
	}
	w.ahead(ctx)
	f, err := duck.FitOn(duck.Brief(ctx), w.at.Bench, duck.SchoolOf(w.at.Song))
	if t := bench.Trouble(err); t != "" {
		return byHand(t), nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	if f.Duck == nil {
		return byHand(f.Reason), nil, nil
	}
	if d, off := w.at.Song.Duck(); d != nil && !off && reflect.DeepEqual(d, f.Duck) { // it stands as it would be fitted
		return byHand(f.Reason), nil, nil
	}
	e := duck.FitEdit(f)
	do := e.Said + ", the least that does it"
	if !f.Reached {
		do = e.Said + ", as far as it can be drawn"
	}
	found = slices.Clone(found)
	found[0].Why, found[0].Values = f.Reason, e.Said
	return []plan{{stage: "duck", id: "fit", found: found, do: do, edit: e, own: []find.Measure{reached(w.at.Song)}}}, nil, nil
}

// ahead listens to what Room will ask of the parts that no duck changes, while one processor fits the duck. What it finds is
// in the renderer's cache; an error comes again where it counts.
func (w *walk) ahead(ctx context.Context) {
	at := w.at
	ctx = mix.Follow(ctx, &mix.Work{}) // it says nothing of what it does
	w.beside.Go(func() error {
		if _, err := room.CrowdOn(ctx, at.Bench); err == nil {
			if _, err = room.Rings(ctx, at.Renderer, at.Song, at.RoomWindow()); err == nil {
				room.Mud(ctx, at.Renderer, at.Song, at.RoomWindow())
			}
		}
		return nil
	})
}

// judgeAhead judges the next stage that takes long while the other rows of this one are weighed: most of them leave the song
// as it is, and then it is done. What is found is in the renderer's cache.
func (w *walk) judgeAhead(ctx context.Context, of string) {
	if w.leave != nil {
		w.leave()
	}
	next := stageOf(of).ahead
	if next == "" {
		return
	}
	at := w.put(w.at.Song) // on a bench of its own: what a bench keeps must not end with what is left
	ctx, leave := context.WithCancel(mix.Follow(ctx, &mix.Work{}))
	w.leave = leave
	w.beside.Go(func() error { stageOf(next).judge(ctx, at.Bench); return nil })
}

// planCuts are the cuts that go unheard, all at once where the cellar asks for them.
func (w *walk) planCuts(_ context.Context, open []find.Finding) ([]plan, []find.Finding, error) {
	low, rest := part(open, func(f find.Finding) bool { return f.Group == find.Cuts })
	if len(low) == 0 {
		return nil, rest, nil
	}
	p := plan{stage: "room", id: "cut", found: low, own: low[0].Own}
	var fixes []session.Edit
	for _, f := range low {
		if f.ID == "cellar" { // all of them at once
			p.own = f.Own
			if len(f.Fix) > 0 {
				p.do, p.edit = f.Do, session.Together{Said: f.Do, Edits: f.Fix}
				return []plan{p}, rest, nil
			}
			p.do = f.Do
		}
		fixes = append(fixes, f.Fix...)
	}
	p.own = low[len(low)-1].Own
	if len(fixes) > 0 {
		p.edit = session.Together{Edits: fixes}
		p.do = fmt.Sprintf("Cut %s where it goes unheard", counted(len(fixes), "stem"))
	}
	return []plan{p}, rest, nil
}

// again sets the trims once more where what came after them has moved a part out of its place.
func (w *walk) again(ctx context.Context) error {
	if !slices.ContainsFunc(w.sheet.Rows, func(r Row) bool { return r.Kept && r.Stage != "levels" }) || w.dropped(planKey) {
		return nil
	}
	open, err := w.open(ctx, "levels")
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
	if len(open) == 0 {
		return nil
	}
	plans, _, err := w.planLevels(ctx, open, againID)
	if err != nil || len(plans) == 0 || plans[0].edit == nil {
		return err
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
		if id, ok := strings.CutPrefix(f.Hear, "stem:"); ok && song.Stem(id) != nil && !strings.HasPrefix(f.What, song.Stem(id).Name) {
			out[i].What = song.Stem(id).Name + ": " + f.What
		}
	}
	return out
}

// fixSaid says what a fix does, by making it on a copy.
func fixSaid(fix []session.Edit, song *session.Song) string {
	c := song.Clone()
	said, err := session.Together{Edits: fix}.Apply(&c)
	if err != nil || said == "" {
		return "Tune it"
	}
	return said
}

func counted(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
