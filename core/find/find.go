// Package find holds what a finding is: one thing that a stage measured and judged, with why it matters, how it is heard,
// and the edits that would mend it. Applying, dismissing, the log and a list over all stages stand on it.
package find

import (
	"slices"
	"strings"

	"mellowthump/core/session"
)

// Finding is one judgement.
type Finding struct {
	ID    string // what it is about, the same while its numbers move: "peak-over-window.s3"
	Stage string
	What  string // with the number
	Why   string
	Hear  string // a solo of the deck that shows it; empty: nothing does

	Fix    []session.Edit // that mend it; nothing where no single change does
	Do     string         // what the fix does, or what to do by hand
	Apply  string         // on the button, in a word or two
	Values string         // to be set by hand elsewhere
	Other  string         // the stage where it is dealt with, where that is another
	Notice bool           // it is told, but is no fault: it does not count

	Own   []Measure // the figures that the fix is for
	Taste string    // why the fix is a matter of taste or of the arrangement, so that it is not made unasked; empty: it is none
	Group Group     // with which others it is dealt with
}

// ID makes a finding's id of what kind it is and what it is about.
func ID(kind string, about ...string) string {
	return strings.NewReplacer(":", "-", " ", "-", "/", "-").Replace(strings.Join(append([]string{kind}, about...), "."))
}

// Kind is the head of the finding's id: what kind it is, whatever it is about.
func (f Finding) Kind() string {
	kind, _, _ := strings.Cut(f.ID, ".")
	return kind
}

// Edit is the finding's fix as one edit.
func (f Finding) Edit() session.Edit {
	return session.Together{Said: "Mend: " + f.What, Edits: f.Fix}
}

// Dismissed is a finding that was put aside, with the reason.
type Dismissed struct {
	Finding
	Reason string
}

// Open parts findings into those that are open and those that the user put aside.
func Open(song *session.Song, all []Finding) (open []Finding, aside []Dismissed) {
	for _, f := range all {
		if d := song.Dismissal(f.Stage, f.ID); d != nil {
			aside = append(aside, Dismissed{f, d.Why})
		} else {
			open = append(open, f)
		}
	}
	return open, aside
}

// Count is how many of the findings are open faults.
func Count(open []Finding) int {
	n := 0
	for _, f := range open {
		if !f.Notice {
			n++
		}
	}
	return n
}

// At puts the findings' stage in.
func At(stage string, all []Finding) []Finding {
	out := slices.Clone(all)
	for i := range out {
		out[i].Stage = stage
	}
	return out
}

// Of returns the finding with an id; ok is false where it is not there any more.
func Of(all []Finding, id string) (f Finding, ok bool) {
	i := slices.IndexFunc(all, func(f Finding) bool { return f.ID == id })
	if i < 0 {
		return Finding{}, false
	}
	return all[i], true
}
