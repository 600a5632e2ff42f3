// Package runsheet makes one list of what all stages find, in the order of the work: each with the change that mends it, what
// that brings and what it costs, measured by a render of exactly that change on top of those above it.
package runsheet

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
	"mellowthump/core/stages"
)

// Choice is what its user makes of a sheet. What it says nothing of stays as it is proposed.
type Choice struct {
	On    []string `json:"on,omitempty"`    // keys of rows that are ticked
	Off   []string `json:"off,omitempty"`   // and of those that are not
	First []string `json:"first,omitempty"` // keys of rows that come before all others, in this order
}

// Row is a line of the sheet: what is found, and the one change that mends it.
type Row struct {
	Key   string // the same while numbers move: "room/cut", "width/wide.pad"
	Stage string
	Found []find.Finding // what it deals with; the first is what it is told by
	Do    string         // what the change does; without one, what is to be done by hand
	Edit  session.Edit   // nil: no single change mends it
	Own   []Change       // the figures that it is for
	Other []Change       // the clearance, the premaster, what the bass loses: where they move
	Doubt string         // why it is not ticked to begin with; empty: it is
	Asks  string         // the stem whose role is guessed, on which it hangs; empty: none
	Broke string         // what it makes worse: it is not made, or taken back
	Tick  bool           // as it is proposed and chosen
	Kept  bool           // it is ticked and breaks nothing: what is below stands on it
	In    []string       // sections of the song in which it holds; empty where that is not known
	All   bool           // it holds in all of them
	Was   *session.Song  // before it, with what is kept above
	Now   *session.Song  // with it; nil without a change

	own []find.Measure // of which Own is
}

// What names the row.
func (r *Row) What() string { return r.Found[0].What }

// Why says why it matters.
func (r *Row) Why() string { return r.Found[0].Why }

// Hear is the part of the song in which it is heard best.
func (r *Row) Hear() string {
	if r.Found[0].Hear == "" {
		return string(mix.SoloAll)
	}
	return r.Found[0].Hear
}

// Values are what is to be set elsewhere for the same.
func (r *Row) Values() string {
	for _, f := range r.Found {
		if f.Values != "" {
			return f.Values
		}
	}
	return r.Do
}

// Named is the edit under the row's own name.
func (r *Row) Named() session.Edit {
	return session.Together{Said: "Run sheet: " + lowerFirst(r.Do), Edits: []session.Edit{r.Edit}}
}

// Sheet is the whole of it.
type Sheet struct {
	Rows    []Row
	Trouble string   // why kick and bass could not be judged
	Won     []Change // the song as it is, and with what is kept
	Left    []string // what was where it should be and no longer is
	Now     *session.Song
}

// Count is how many findings the rows deal with.
func (s *Sheet) Count() int {
	n := 0
	for _, r := range s.Rows {
		n += len(r.Found)
	}
	return n
}

// Kept are the rows that are made when the ticked are.
func (s *Sheet) Kept() []Row {
	return slices.DeleteFunc(slices.Clone(s.Rows), func(r Row) bool { return !r.Kept })
}

// Moves is how many rows have a change.
func (s *Sheet) Moves() int {
	n := 0
	for _, r := range s.Rows {
		if r.Edit != nil {
			n++
		}
	}
	return n
}

// Make works the sheet of a song out; facts are those of its files. told gets each row as soon as it is measured; it may be nil.
func Make(ctx context.Context, r *mix.Renderer, song *session.Song, known map[string]*facts.Analysis, c Choice, told func(Row)) (*Sheet, error) {
	w := &walk{renderer: r, known: known, choice: c, told: told, sheet: &Sheet{}, seen: map[string]bool{}, hang: map[string]int{}}
	ctx, stop := context.WithCancel(ctx)
	defer w.beside.Wait()
	defer stop()
	w.at = w.put(song)
	w.fitted = w.at.Song.Fitted()
	first := w.at
	if len(song.Stems) == 0 {
		w.sheet.Now = song
		return w.sheet, nil
	}
	for _, key := range c.First {
		of, _, _ := strings.Cut(key, "/")
		if st := stages.Of(of); st != nil {
			if err := w.stage(ctx, st, key); err != nil {
				return nil, err
			}
		}
	}
	for _, s := range stages.All {
		if err := w.stage(ctx, s, ""); err != nil {
			return nil, err
		}
	}
	if err := w.again(ctx); err != nil {
		return nil, err
	}
	w.decides()
	return w.sheet, w.end(ctx, first)
}

// walk goes through the stages.
type walk struct {
	renderer *mix.Renderer
	known    map[string]*facts.Analysis
	choice   Choice
	told     func(Row)
	sheet    *Sheet
	at       *state // with what is kept so far
	seen     map[string]bool
	hang     map[string]int // how many rows hang on a stem's role that is guessed
	fitted   bool           // the duck was fitted here
	beside   group.Group    // what is judged ahead; what is wrong with it comes again where it counts
	leave    func()         // ends what is judged ahead
	pending  []find.Finding // told by one stage and dealt with in another
}

// state is a song on the bench with the figures that are known of it.
type state struct {
	*bench.Bench
	mu    sync.Mutex
	known map[find.Measure]meter.Figure // by what it is of

	places []place // its sections, see walk.places
}

func (w *walk) put(song *session.Song) *state {
	return newState(bench.New(w.renderer, song, w.known))
}

// take takes a figure of the song.
func (s *state) take(ctx context.Context, m find.Measure) (meter.Figure, error) {
	of := m.Bare()
	s.mu.Lock()
	f, ok := s.known[of]
	s.mu.Unlock()
	if ok {
		return f, nil
	}
	taken, _ := stages.Figure(m.Figure) // TestFiguresAreKnown: there is one
	f, err := taken.Take(ctx, s.Bench, of)
	if err != nil {
		return f, fmt.Errorf("measuring %s: %w", called(m), err)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.known[of] = f
	return f, nil
}

func (w *walk) ticked(r *Row) bool {
	switch {
	case slices.Contains(w.choice.On, r.Key):
		return true
	case slices.Contains(w.choice.Off, r.Key):
		return false
	}
	return r.Doubt == ""
}

// row measures a candidate on top of what is kept, and keeps it where it is ticked and breaks nothing.
// Long because each way in which a row may not be made is told in its place.
func (w *walk) row(ctx context.Context, p plan) error {
	r := Row{Key: p.key(), Stage: p.of.Key, Found: p.found, Do: p.do, Edit: p.edit, Was: w.at.Song, own: p.own}
	if w.seen[r.Key] || len(r.Found) == 0 {
		return nil
	}
	w.seen[r.Key] = true
	mix.Doing(ctx, r.What())
	if r.Edit == nil {
		w.tell(r)
		return nil
	}
	next, err := w.made(r.Edit)
	if err != nil { // it cannot be made as the song is now
		r.Edit, r.Do = nil, r.Do+": "+err.Error()
		w.tell(r)
		return nil
	}
	if next, err = w.unguessed(&r, &p, next); err != nil {
		return err
	}
	whole, all := p, next
	if next, err = w.spared(ctx, &r, &p, next); err != nil {
		return err
	}
	harm := r.Broke
	if err := w.weigh(ctx, &r, p, next); err != nil {
		return err
	}
	if next != all && !slices.ContainsFunc(r.Own, Change.Better) { // what it is for hangs on the part that was left out
		p, next, r.Edit, r.Do = whole, all, whole.edit, whole.do
		if err := w.weigh(ctx, &r, p, next); err != nil {
			return err
		}
	}
	if r.Broke == "" {
		r.Broke = harm
	}
	if r.Broke != "" && w.fits() && w.judgesClearance(p) { // the duck may be fitted to what is new
		if again, err := w.refitted(ctx, r, p, next); err != nil {
			return err
		} else if again != nil {
			r, next = *again, w.put(again.Now)
		}
	}
	if p.told(r.Own) {
		w.mended(r)
		return nil
	}
	r.Now = next.Song
	if r.In, r.All, err = w.holds(ctx, p.own); err != nil {
		return err
	}
	switch {
	case r.Broke != "":
		r.Doubt = "it would make " + r.Broke + " worse"
	case r.Asks != "":
		r.Doubt = "first say what " + w.at.Song.Stem(r.Asks).Name + " is"
	case p.taste != "":
		r.Doubt = p.taste
	case len(r.Own) > 0 && !slices.ContainsFunc(r.Own, Change.Better):
		r.Doubt = "no figure of its own gets better by it"
	}
	r.Tick = w.ticked(&r)
	if r.Kept = r.Tick && r.Broke == ""; r.Kept {
		w.at = next
		w.fitted = w.fitted || p.group == find.Fit
		w.judgeAhead(ctx, p.of)
	}
	w.tell(r)
	return nil
}

// told reports whether what a candidate is for is where it should be already: what is kept above has mended it.
func (p plan) told(own []Change) bool {
	return len(own) > 0 && p.of.Mended && !slices.ContainsFunc(own, func(c Change) bool { return c.Bracket.Off(c.Before) > 0 })
}

// mended adds what a row is about to the one above that has mended it.
func (w *walk) mended(r Row) {
	for i := len(w.sheet.Rows) - 1; i >= 0; i-- {
		if w.sheet.Rows[i].Kept {
			w.sheet.Rows[i].Found = append(slices.Clone(w.sheet.Rows[i].Found), r.Found...)
			return
		}
	}
}

// fits reports whether the song's duck is one that a fit made, here or before: then it may be fitted anew.
func (w *walk) fits() bool {
	d, off := w.at.Song.Duck()
	return d != nil && !off && (w.fitted || w.at.Song.Fitted())
}

// made puts the song with an edit on the bench.
func (w *walk) made(e session.Edit) (*state, error) {
	song := w.at.Song.Clone()
	song.Master.Moves = append(song.Master.Moves, w.at.Chain...) // the bench holds Print's apart
	song, _, err := session.Made(&song, e)
	if err != nil {
		return nil, err
	}
	return w.put(&song), nil
}

// weigh takes a row's figures and says what it breaks.
func (w *walk) weigh(ctx context.Context, r *Row, p plan, next *state) error {
	r.Own, r.Other, r.Broke = nil, nil, ""
	held := slices.DeleteFunc(guarded(w.at.Song), func(m find.Measure) bool {
		return slices.ContainsFunc(p.own, func(o find.Measure) bool {
			return o.Bare() == m.Bare() || o.Figure == "songpeak" && m.Figure == "premaster"
		})
	})
	all, err := changes(ctx, w.at, next, slices.Concat(p.own, held))
	if err != nil {
		return err
	}
	for _, c := range all[:len(p.own)] {
		if c.Before.Valid() || c.After.Valid() {
			r.Own = append(r.Own, c)
		}
	}
	for i, m := range held {
		c := all[len(p.own)+i]
		if c.Moved() && c.Before.Valid() && c.After.Valid() || m.Figure == "loss" && p.group == find.Fit && c.After.Valid() {
			r.Other = append(r.Other, c)
		}
		if r.Broke == "" && m.Figure != "loss" && w.guards(p, m) && c.Worse() && (m.Figure != "hidden" || float64(c.After-c.Before) > hiddenMore) {
			r.Broke = c.String()
		}
	}
	own := 0.0
	for _, c := range r.Own {
		if c.Worse() {
			own--
		} else if c.Better() {
			own++
		}
	}
	if own < 0 {
		r.Broke = r.Own[0].String()
	}
	return nil
}

// guards reports whether a row may not make a figure worse that is not its own. Pitch and polarity are mended before the
// levels are set, and these before the duck is fitted: they answer for no premaster, and where the duck is to be fitted for no
// clearance.
func (w *walk) guards(p plan, m find.Measure) bool {
	if m.Figure != "p10" && m.Figure != "hidden" {
		return !p.of.Loud
	}
	return w.judgesClearance(p)
}

func (w *walk) judgesClearance(p plan) bool {
	return !p.of.Early || p.id == againID || slices.Contains(w.choice.Off, rowOf(find.Fit))
}

// refitted is a row with the duck fitted anew on top of its change; nil where that breaks it too.
func (w *walk) refitted(ctx context.Context, r Row, p plan, next *state) (*Row, error) {
	fit, _ := stages.Plan(find.Fit)
	f, err := fit(ctx, next.Bench, nil)
	if err != nil || f.Edit == nil {
		return nil, err
	}
	r.Edit = session.Together{Edits: []session.Edit{r.Edit, f.Edit}}
	then, err := w.made(r.Edit)
	if err != nil {
		return nil, nil // it is told without
	}
	if err := w.weigh(ctx, &r, p, then); err != nil || r.Broke != "" {
		return nil, err
	}
	r.Do += ", and the duck is fitted to it anew"
	r.Now = then.Song
	return &r, nil
}

func (w *walk) tell(r Row) {
	w.sheet.Rows = append(w.sheet.Rows, r)
	if w.told != nil {
		w.told(r)
	}
}

// end measures what was won, and what is no longer where it was.
func (w *walk) end(ctx context.Context, first *state) error {
	mix.Doing(ctx, "Measuring what was won")
	all, err := changes(ctx, first, w.at, won(first.Bench))
	if err != nil {
		return err
	}
	for _, c := range all {
		if c.Before.Valid() || c.After.Valid() {
			w.sheet.Won = append(w.sheet.Won, c)
		}
	}
	told := map[string]bool{}
	for _, r := range w.sheet.Rows {
		for _, p := range r.Own {
			if r.Kept && p.In() && !told[p.Key+p.Name] && !strings.HasPrefix(p.Key, "loss") {
				told[p.Key+p.Name] = true
				if err := w.stays(ctx, r, p); err != nil {
					return err
				}
			}
		}
	}
	w.sheet.Now = w.at.Song
	return nil
}

// stays says where a figure that a row brought to where it should be has left it since.
func (w *walk) stays(ctx context.Context, r Row, was Change) error {
	for _, m := range r.own {
		c := Change{Figure: figure.Of(m.Figure), Name: called(m), Before: was.After, Bracket: m.In}
		if m.Figure != was.Key || r.Key == rowOf(find.Plan) && m.Figure == "songpeak" {
			continue
		}
		var err error
		if c.After, err = w.at.take(ctx, m); err != nil {
			return err
		}
		if c.Worse() && !c.In() {
			w.sheet.Left = append(w.sheet.Left, c.String())
		}
	}
	return nil
}

// lowerFirst writes a sentence's first letter small, where it begins no name.
func lowerFirst(text string) string {
	first, rest, _ := strings.Cut(text, " ")
	switch first {
	case "Cut", "Dip", "Fit", "Set", "Turn", "Detune", "Even", "Shape", "Add", "Let", "Lower", "Raise", "Nudge", "High-pass", "Take":
		return strings.ToLower(first) + " " + rest
	}
	return text
}
