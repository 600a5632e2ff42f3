package pocket

import (
	"errors"
	"fmt"
	"math"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// The ids of the moves that Pocket puts in.
const (
	NudgeMove = "nudge"
	FlipMove  = session.Flip
)

// NudgeTo is the edit that moves every bass by ms from where it was brought; 0 takes the nudge out.
func NudgeTo(song *session.Song, ms float64, why, bass string) session.Edit {
	out := session.Together{}
	for _, st := range song.ByRole(session.Bass) {
		m := move.Move{ID: NudgeMove, Why: why, Params: &move.Nudge{MS: math.Round(100*ms)/100 + 0}}
		if m.Params.(*move.Nudge).MS == 0 {
			m.Params = nil
		}
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: m, Said: fmt.Sprintf("Nudge %s to %s ms", bass, figure.Plus(ms, 1))})
	}
	return out
}

// Advice is the edit that makes the nudge that was found best; nil where there is none.
func (n *Nudge) Advice(song *session.Song, why, bass string) []session.Edit {
	if n == nil || !n.BestSum.Valid() {
		return nil
	}
	all := session.Together{Said: fmt.Sprintf("Nudge %s by %s ms", bass, figure.Plus(n.Best.MS, 1))}
	for _, st := range song.ByRole(session.Bass) {
		one := *song
		one.Stems = []session.Stem{*st}
		all.Edits = append(all.Edits, NudgeTo(&one, st.Nudged()+n.Best.MS, why, bass))
		if n.Best.Flip {
			all.Edits = append(all.Edits, session.TurnOver(st))
		}
	}
	return []session.Edit{all}
}

// errNoLine is for tunings where no note is known.
var errNoLine = errors.New("no note of the bass is known, so there is nothing to tune by")

// DetuneEdit is the edit that tunes a bass. file is its line as it came. Where each is set, every note is tuned by its
// own error; else the whole of it by cents, and nil takes the commonest note's error away.
func DetuneEdit(st *session.Stem, file []meter.BassNote, cents *float64, each bool) (session.Edit, error) {
	notes := Notes(file, nil, 0, math.Inf(1))
	if len(notes) == 0 {
		return nil, errNoLine
	}
	by := -math.Round(notes[0].Cents)
	if cents != nil {
		by = *cents
	}
	if each {
		by = 0
	}
	m := Detune(file, by, each)
	said := fmt.Sprintf("Detune %s by %s cents", st.Name, figure.Plus(by, 0))
	switch {
	case each:
		said = "Tune each note of " + st.Name
	case by == 0:
		m.Params, said = nil, st.Name+" as it was tuned"
	}
	return session.SetMove{At: session.At{Stem: st.ID}, Move: m, Said: said}, nil
}

// TuneKickEdit is the edit that tunes the kick by semitones from where it is now.
func TuneKickEdit(song *session.Song, semitones int) (session.Edit, error) {
	if semitones < -5 || semitones > 5 {
		return nil, errors.New("the kick is tuned by five semitones at the most")
	}
	st := song.TriggerStem()
	if st == nil {
		return nil, errors.New("no stem is said to be the kick")
	}
	tuned := TunedKick(song, 100*float64(semitones))
	m := move.Move{ID: KickTune}
	if now := tuned.Stem(st.ID).Move(KickTune); now != nil {
		m = *now
	}
	return session.SetMove{At: session.At{Stem: st.ID}, Move: m, Said: fmt.Sprintf("Tune the kick by %s semitones", figure.Plus(float64(semitones), 0))}, nil
}

// Edit is the edit that a proposal makes: its move in, or out again.
func (p Proposal) Edit() session.Edit {
	m, said := p.Move, p.Name
	if p.On {
		m, said = move.Move{ID: p.ID}, "Take out: "+p.Name
	}
	return session.SetMove{At: session.At{Stem: p.Stem.ID}, Move: m, Said: said}
}
