package shell

import (
	"context"
	"fmt"
	"html/template"
	"io/fs"
	"math"
	"net/url"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/worker"
	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Stage is one of the stages of the work in the browser: what the core knows of it, and all that the shell needs besides. Its folder
// bears its key, and in it its template, its style and its script do.
type Stage struct {
	*stage.Stage

	// Ask words the question for a song; nil: Question.
	Ask func(*View) string
	// Over is the window that a page asks for by its query; nil: the loop.
	Over func(page url.Values, b *bench.Bench) mix.Window
	// Bare says that the stage has something to show before there are stems; the others say then what to do first.
	Bare bool
	// Sheet measures what the stage shows and returns what its template shows.
	Sheet func(c *gin.Context, v *View) (any, error)
	// Solos are the parts that the deck plays on this stage beside the usual.
	Solos []mix.Solo
	// Try works out the edit that is only proposed, to be heard before it is made. What may be tried is the stage's own;
	// what its findings propose is tried without it.
	Try func(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error)
	// TryOn works out what Before is while that is tried: it stands on more than the song as it is. nil: it is the song.
	TryOn func(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error)
	// Follows is the address under /songs/:id that answers with the gains that a hand draws (Server.Follow); empty: none are
	// drawn here.
	Follows string
	// OnMaster marks what is put on the master on its page as the stage's own; empty: it is the master's.
	OnMaster string
	// Routes adds the stage's own addresses under /songs/:id.
	Routes func(g *gin.RouterGroup)
	// Jobs are the kinds of background work that the stage starts.
	Jobs map[string]worker.Kind
	// Background runs as long as the program does.
	Background func(ctx context.Context)
	// Files are what it ships with: its templates, and its styles and scripts, which are served as css/NAME and js/NAME.
	Files []fs.FS
	// Scripts are loaded with the page.
	Scripts []string
}

// View is all that a page of a song shows. What a stage measures it puts in itself (NeedPair and so on): a page measures
// only what its own stage shows, and what the line at its top and the deck do.
type View struct {
	*store.Song
	Stage    *Stage
	Question string
	Lead     string
	Part     string // of the stage that is shown, where it has several; the query's word
	Theme    string
	Built    string
	Swap     bool // an htmx answer: parts outside the sheet are swapped too
	Rail     []railItem
	Rest     Rest
	Sheet    template.HTML
	Bad      *InputError

	Bench   *bench.Bench
	Facts   map[string]*facts.Analysis // by audio hash
	Length  int                        // frames
	Win     mix.Window                 // the judged stretch
	Auto    bool                       // it was found, not chosen
	State   *pair.State
	Trouble string   // why kick and bass cannot be measured
	Levels  mix.Loud // of everything over the loop, after
	Found   []find.Finding
	Aside   []find.Dismissed
	Deck    deckView
}

// NoStems says what is to be done first.
const NoStems = "There are no stems yet. Drop them here, all from the song’s start; a kick and an 808 or bass are enough to begin."

// KickIn is the drums in one file that hold the kick, where no stem is one; nil where there are none.
func (v *View) KickIn() *session.Stem {
	if v.TriggerStem() != nil {
		return nil
	}
	for _, st := range v.ByRole(session.Drums) {
		if !st.Mute && v.Bench.Facts[st.Audio].KickWithin() {
			return st
		}
	}
	return nil
}

// NoRole reports whether no stem is said to be the kick, or the bass.
func (v *View) NoRole() bool {
	return len(v.Stems) > 0 && (len(v.ByRole(session.Kick)) == 0 || len(v.ByRole(session.Bass)) == 0)
}

// Error returns the sentence for a field.
func (v *View) Error(field string) string {
	if v.Bad != nil && v.Bad.Field == field {
		return v.Bad.Sentence
	}
	return ""
}

// Typed returns what was typed in a field where the form was refused, else the value.
func (v *View) Typed(field, value string) string {
	if v.Bad != nil {
		if t, ok := v.Bad.Typed[field]; ok {
			return t
		}
	}
	return value
}

// Bars describes the judged stretch: "bars 5 to 12".
func (v *View) Bars() string { return v.barsOf(v.Win) }

func (v *View) barsOf(w mix.Window) string {
	bar := v.BarSeconds() * float64(v.Rate)
	grid := v.Grid * float64(v.Rate)
	from, to := (float64(w.From)-grid)/bar, (float64(w.To)-grid)/bar
	if math.Abs(from-math.Round(from)) < 0.02 && math.Abs(to-math.Round(to)) < 0.02 {
		if math.Round(to) == math.Round(from)+1 {
			return fmt.Sprintf("bar %d", int(math.Round(to)))
		}
		return fmt.Sprintf("bars %d to %d", int(math.Round(from))+1, int(math.Round(to)))
	}
	return fmt.Sprintf("%s to %s", Clock(float64(w.From)/float64(v.Rate)), Clock(float64(w.To)/float64(v.Rate)))
}

// BassName is the name for the bass in pictures and sentences.
func (v *View) BassName() string { return v.Bench.BassName() }

// KickName is the name for the kick.
func (v *View) KickName() string { return v.Bench.KickName() }

// BassLeads reports whether the bass leads: then the kick makes room.
func (v *View) BassLeads() bool { return v.Leader == session.BassLeads }

// Title is the page's title: stage and song.
func (v *View) Title() string { return v.Stage.Name + " · " + v.Name }

// NeedPair judges kick and bass over the loop; where they cannot be, Trouble says why and State stays nil.
func (v *View) NeedPair(ctx context.Context) error {
	if len(v.Stems) == 0 || v.State != nil || v.Trouble != "" {
		return nil
	}
	st, err := pair.On(ctx, v.Bench)
	if v.Trouble = bench.Trouble(err); v.Trouble != "" {
		return nil
	}
	v.State = st
	return err
}

// InputError is a sentence about something typed: shown at its field, the typed text kept.
type InputError struct {
	Field    string
	Sentence string
	Typed    map[string]string
}

// Error is the sentence.
func (e *InputError) Error() string { return e.Sentence }

// railItem is a stage in the rail with its mark.
type railItem struct {
	Key, Name, Digit string
	On               bool
	mark
	Judged bool // the stage judges, and soon: its mark is fetched after the page
}

// mark is what is known of a stage's findings.
type mark struct {
	Rev     int64
	Count   int
	Settled bool
}

// MarksLater reports whether some stage's mark is of another revision: then the marks are fetched after the page.
func (v *View) MarksLater() bool {
	for _, r := range v.Rail {
		if r.Judged && r.Rev != v.Rev {
			return true
		}
	}
	return false
}

// deckView is what the deck shows and plays.
type deckView struct {
	listening
	Song       template.HTML
	Before     string // addresses of the audio
	After      string
	Befores    []beforeChoice
	BeforeName string
	Offset     meter.Figure // dB that After is turned by
	LUFS       [2]meter.Figure
	Hits       []float64 // s, in the loop
	Moved      bool      // After differs from Before
	From, To   float64   // s
	Bars       string    // the loop's name
	First      string    // its ends as places
	Last       string
	Parts      []string // what the loop is made of while a hand draws a gain
	Trying     string   // what After tries; empty: the song as it is
	Wrong      string   // why what was typed is no loop
	Track      string   // the finished track that Before is; empty: it is none
	Turned     float64  // dB that it is turned by
}

// beforeChoice is a meaning that the deck's Before side can have.
type beforeChoice struct{ Value, Label string }

// SoloChoices are the parts that the deck can play.
func (v *View) SoloChoices() []mix.Solo {
	return append([]mix.Solo{mix.SoloKick, mix.SoloBass, mix.SoloBoth, mix.SoloAll}, v.Stage.Solos...)
}

// Doubtful lists the kick's hits that are kept apart, but for those that a hand put in or left out.
func (v *View) Doubtful() []facts.Doubtful {
	var out []facts.Doubtful
	for _, m := range v.Bench.HitMarks() {
		if m.Kind == bench.DoubtfulHit {
			out = append(out, facts.Doubtful{At: m.At, Confidence: m.Sure, Why: m.Why})
		}
	}
	return out
}
