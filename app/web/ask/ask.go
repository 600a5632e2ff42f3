// Package ask holds what the deck is asked for, as values that write themselves into an address and read themselves from one: what
// is tried, what Before means, and one side of the deck. What an address does not know it refuses.
package ask

import (
	"errors"
	"net/url"
	"regexp"
	"strconv"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/compare"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// ErrAddress is for addresses that no page of this program sends.
var ErrAddress = errors.New("that is no address of the deck's")

// mostText is the longest address that is read, bytes.
const mostText = 16 << 10

// Try is a change that is proposed and not made, to be heard: "room/dip:s1:s2", "finding/pocket/nudge".
type Try struct {
	Stage string     // the stage that proposes it, or Finding
	What  string     // which of its changes; of a finding its stage and its id
	Args  []string   // of what, and how
	With  url.Values // what else it depends on
}

// Finding stands in the place of a stage where the fix of a finding is tried.
const Finding = "finding"

var (
	stageText = regexp.MustCompile(`^[a-z]+$`)
	whatText  = regexp.MustCompile(`^[\pL\pN._/-]+$`)
)

// None reports whether nothing is tried.
func (t Try) None() bool { return t.Stage == "" }

// Is reports whether it is that change, of so many values.
func (t Try) Is(what string, args int) bool { return t.What == what && len(t.Args) == args }

// String writes it; nothing is an empty text.
func (t Try) String() string {
	if t.None() {
		return ""
	}
	var b strings.Builder
	b.WriteString(t.Stage + "/" + t.What)
	for _, a := range t.Args {
		b.WriteString(":" + url.QueryEscape(a))
	}
	if len(t.With) > 0 {
		b.WriteString("?" + t.With.Encode())
	}
	return b.String()
}

// ParseTry reads one.
func ParseTry(text string) (t Try, err error) {
	if text == "" {
		return t, nil
	}
	if len(text) > mostText {
		return t, ErrAddress
	}
	text, with, asked := strings.Cut(text, "?")
	parts := strings.Split(text, ":")
	stage, what, _ := strings.Cut(parts[0], "/")
	if !stageText.MatchString(stage) || !whatText.MatchString(what) {
		return Try{}, ErrAddress
	}
	t.Stage, t.What = stage, what
	for _, a := range parts[1:] {
		if a, err = url.QueryUnescape(a); err != nil {
			return Try{}, ErrAddress
		}
		t.Args = append(t.Args, a)
	}
	if asked {
		if t.With, err = url.ParseQuery(with); err != nil {
			return Try{}, ErrAddress
		}
	}
	return t, nil
}

// As says what Before is.
type As string

// What Before can be.
const (
	Brought As = "brought"   // as it was brought: no moves, no gains
	Now     As = "now"       // as it is
	OfStage As = "stage"     // without what a stage does
	OfMove  As = "move"      // without a move
	OfTrack As = "reference" // a finished track
	OfTry   As = "on"        // what is tried, without itself
)

// Before is what the deck's Before side plays; the zero value is the song as it was brought.
type Before struct {
	As    As
	Of    string     // the stage, the move, the track
	At    session.At // of a move
	Tried Try
}

// String writes it: "stage:room", "move:s1/m3", "reference:r1".
func (b Before) String() string {
	switch b.As {
	case "":
		return ""
	case OfStage, OfTrack:
		return string(b.As) + ":" + b.Of
	case OfMove:
		return string(b.As) + ":" + b.At.String() + "/" + b.Of
	case OfTry:
		return string(b.As) + ":" + b.Tried.String()
	}
	return string(b.As)
}

// ParseBefore reads one.
func ParseBefore(text string) (Before, error) {
	kind, of, more := strings.Cut(text, ":")
	b := Before{As: As(kind)}
	if len(text) > mostText {
		return Before{}, ErrAddress
	}
	switch b.As {
	case "", Brought, Now:
		if more {
			return Before{}, ErrAddress
		}
		return b, nil
	case OfStage, OfTrack:
		if b.Of = of; of == "" {
			return Before{}, ErrAddress
		}
		return b, nil
	case OfMove:
		i := strings.LastIndex(of, "/")
		if i < 0 || i+1 == len(of) {
			return Before{}, ErrAddress
		}
		b.At, b.Of = session.ParseAt(of[:i]), of[i+1:]
		if b.At.String() != of[:i] {
			return Before{}, ErrAddress
		}
		return b, nil
	case OfTry:
		var err error
		if b.Tried, err = ParseTry(of); err != nil || b.Tried.None() {
			return Before{}, ErrAddress
		}
		return b, nil
	}
	return Before{}, ErrAddress
}

// Side is all that the sound of one side of the deck depends on.
type Side struct {
	Rev      int64
	Solo     mix.Solo
	From, To int        // frames
	Of       Before     // of Before; of After with Taken
	Taken    bool       // After plays what is taken away: Of less After
	Ear      string     // how it is listened to, see compare.Throughs
	Down     bool       // a finished track is 10 dB down
	Try      Try        // of After
	Page     url.Values // the query of the page: what is tried may depend on what it shows
}

// Query writes it.
func (s Side) Query() string {
	q := url.Values{"rev": {strconv.FormatInt(s.Rev, 10)}, "solo": {string(s.Solo)}, "from": {strconv.Itoa(s.From)}, "to": {strconv.Itoa(s.To)}}
	set := func(key, value string) {
		if value != "" {
			q.Set(key, value)
		}
	}
	set("of", s.Of.String())
	set("ear", s.Ear)
	set("try", s.Try.String())
	set("page", s.Page.Encode())
	for key, is := range map[string]bool{"taken": s.Taken, "down": s.Down} {
		if is {
			q.Set(key, "1")
		}
	}
	return q.Encode()
}

// ParseSide reads one.
func ParseSide(q url.Values) (s Side, err error) {
	number := func(key string) int {
		n, e := strconv.Atoi(q.Get(key))
		if e != nil || n < 0 {
			err = ErrAddress
		}
		return n
	}
	s = Side{
		Rev:   int64(number("rev")),
		Solo:  mix.Solo(q.Get("solo")),
		From:  number("from"),
		To:    number("to"),
		Ear:   q.Get("ear"),
		Taken: q.Get("taken") != "",
		Down:  q.Get("down") != "",
	}
	if s.Solo == "" {
		s.Solo = mix.SoloBoth
	}
	_, known := compare.ThroughOf(s.Ear)
	if err != nil || !s.Solo.Valid() || !known || s.To <= s.From || s.To-s.From > audio.MaxSeconds*audio.MaxRate {
		return Side{}, ErrAddress
	}
	if s.Of, err = ParseBefore(q.Get("of")); err != nil {
		return Side{}, err
	}
	if s.Try, err = ParseTry(q.Get("try")); err != nil {
		return Side{}, err
	}
	if text := q.Get("page"); text != "" {
		if s.Page, err = url.ParseQuery(text); err != nil || len(text) > mostText {
			return Side{}, ErrAddress
		}
	}
	return s, nil
}
