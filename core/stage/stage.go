// Package stage is what the core knows of a stage of the work: what it asks, how it judges, by which figures, and how what it
// tells hangs together with what others do. A stage is a value (Stage) that its own package declares; core/stages is the list.
package stage

import (
	"context"

	"mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Key is the name by which a stage's folders, files and addresses go.
type Key = string

// Stage is a stage of the work.
type Stage struct {
	Key, Name, Question string
	Help                []string // what it is for, what to do first, how its picture is read: a paragraph each

	// Judge names what is wrong with a song, over the window where a page may choose one; nil: the stage judges nothing. Where kick
	// and bass cannot be judged, the error says why (bench.Trouble).
	Judge func(ctx context.Context, b *bench.Bench, over mix.Window) ([]find.Finding, error)
	// Figures are those by which its findings are judged, by their keys in core/figure.
	Figures map[string]Figure
	// Plans make one change of all findings of a group.
	Plans map[find.Group]Plan
	// Ahead works out what it will ask of a song and no duck changes, while a duck is fitted; nil: nothing is worth it.
	Ahead func(ctx context.Context, b *bench.Bench) error
	// Before gives a song without what this stage does to it, and BeforeName says what that is. nil: it does nothing to the sound.
	Before     func(session.Song) session.Song
	BeforeName string

	Later  bool // its findings take long: no page waits for them, and they are judged while the rows of a stage before are weighed
	Takes  bool // what other stages told is dealt with here
	Anew   bool // its change may answer what else it told, or set the same again: it is judged anew
	Early  bool // it comes before the duck is fitted: where that is to be, it answers for no clearance
	Loud   bool // it comes before the levels are set, or sets them: it answers for no premaster
	Mended bool // what is where it should be already was mended by a row above
	ByStem bool // its findings stand under the stem that they are about: in a list they need its name
	Turns  bool // it tells what is upside down in its file; that is dealt with first, for the levels are set of what is left of it
}

// Findings are what the stage tells of a song, as its own.
func (s *Stage) Findings(ctx context.Context, b *bench.Bench, over mix.Window) ([]find.Finding, error) {
	if s.Judge == nil {
		return nil, nil
	}
	all, err := s.Judge(ctx, b, over)
	return find.At(s.Key, all), err
}

// OfLoop makes a Judge of what judges the loop, whatever window is asked for.
func OfLoop(judge func(context.Context, *bench.Bench) ([]find.Finding, error)) func(context.Context, *bench.Bench, mix.Window) ([]find.Finding, error) {
	return func(ctx context.Context, b *bench.Bench, _ mix.Window) ([]find.Finding, error) { return judge(ctx, b) }
}

// Figure is how a figure is taken of a song on the bench, and what it is called in a row; empty: as everywhere. None is a figure
// that there is none of, also where kick and bass cannot be judged.
type Figure struct {
	Name  string
	Take  func(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error)
	Local bool // it is taken of each section too: it costs little, and says where a finding holds
}

// Plan makes one change of what was found. The error is that of a Judge where kick and bass cannot be judged.
type Plan func(ctx context.Context, b *bench.Bench, found []find.Finding) (Planned, error)

// Planned is what a plan comes to: a change (Edit), or what is to be done by hand (Do) where there is none.
type Planned struct {
	Found     []find.Finding // what it deals with
	Do, Taste string         // as of a finding
	Edit      session.Edit
	Own       []find.Measure
	Rest      []find.Finding // what it leaves out: each goes by its own fix

	Singly bool // there is no one change: each finding goes by its own fix
	Hand   bool // nor any: each is to be done by hand, as Do says or, where that is empty, as it says itself
}

// Unjudged makes a figure that there is none of where kick and bass cannot be judged.
func Unjudged(f meter.Figure, err error) (meter.Figure, error) {
	if bench.Trouble(err) != "" {
		return meter.None, nil
	}
	return f, err
}
