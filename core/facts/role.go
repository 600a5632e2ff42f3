package facts

import (
	"fmt"
	"strings"

	"mellowthump/core/session"
)

// Guess is a role with why, and how sure it is (0 to 1).
type Guess struct {
	Role       session.Role
	Reason     string
	Confidence float64
	Doubt      string // what speaks against it; empty where nothing does
}

// Sure is how sure a role has to be, for what changes the sound by it.
const Sure = 0.8

// Guess guesses what a stem is from its name and from what it sounds like. A name that tells counts first; where the sound clearly
// says something else, that is told as a doubt.
func (a *Analysis) Guess(name string) Guess {
	byName, bySound := GuessRole(name), a.soundsLike()
	switch {
	case drumsInOne(name) && (bySound.Role.Struck() || a.Portrait != nil && a.Portrait.Kinds.several()):
		g := Guess{Role: session.Drums, Reason: "by its name it is drums in one file", Confidence: 0.85}
		if bySound.Role == session.Drums {
			g.Reason, g.Confidence = "by its name; "+bySound.Reason, named
		} else if !a.Portrait.Kinds.several() { // a name that says no more than loop, and one drum
			g.Role, g.Confidence, g.Reason = bySound.Role, min(bySound.Confidence, 0.75), bySound.Reason
		}
		return g
	case byName == session.Other:
		return bySound
	case bySound.Role == byName:
		return Guess{Role: byName, Reason: "by its name; " + bySound.Reason, Confidence: named}
	case byName == session.Effects || byName == session.Voice: // an effect may sound like anything, and of voices the sound knows nothing
		return Guess{Role: byName, Reason: "by its name", Confidence: 0.9}
	case bySound.Confidence >= 0.75 && lowRole(bySound.Role) != lowRole(byName):
		sure := Sure // a name that tells counts, unless all else hangs on it
		if lowRole(byName) != "" {
			sure = 0.6
		}
		return Guess{Role: byName, Reason: "by its name", Confidence: sure, Doubt: bySound.says()}
	}
	return Guess{Role: byName, Reason: "by its name", Confidence: 0.85}
}

// says tells of a guess by the sound.
func (g Guess) says() string { return fmt.Sprintf("it sounds like %s: %s", roleWord(g.Role), g.Reason) }

// Unsure returns what a stem is guessed to be where its role is that guess and not sure, or something speaks against it; ok is false
// where it was said, or nothing does.
func Unsure(st *session.Stem, a *Analysis) (g Guess, ok bool) {
	if st.Said || a == nil || a.Portrait == nil || a.Silent() {
		return g, false
	}
	g = a.Guess(st.Name)
	return g, g.Role == st.Role && (g.Confidence < Sure || g.Doubt != "")
}

// A role of a name and a sound, in words with an article.
func (g Guess) a() string {
	switch g.Role {
	case session.Bass:
		return "an 808 or bass"
	case session.Hats, session.Perc, session.Drums, session.Melodic, session.Effects:
		return map[session.Role]string{
			session.Hats: "hats", session.Perc: "percussion", session.Drums: "several drums in one file", session.Melodic: "a melodic part",
			session.Effects: "an effect",
		}[g.Role]
	case session.Other:
		return "something that none of the roles fits"
	}
	return "a " + roleWord(g.Role)
}

// Question asks for the role: "Is Audio 07 a snare?".
func (g Guess) Question(name string) string { return "Is " + name + " " + g.a() + "?" }

const named = 0.97 // how sure a role is that name and sound agree on

// lowRole is a role that others make room for; empty for those others.
func lowRole(r session.Role) session.Role {
	if r == session.Kick || r == session.Bass || r == session.Drums {
		return r
	}
	return ""
}

// droneLow is the share of the energy that is low, and has a pitch, of what is a bass whatever else it is like.
const droneLow = 0.8

func roleWord(r session.Role) string {
	for _, k := range session.Roles {
		if k.Role == r {
			return strings.ToLower(k.Label)
		}
	}
	return string(r)
}

// soundsLike judges by the sound alone: where its energy lies, how it is struck and dies away, what of it has a
// pitch, how it sweeps and whether its hits are alike.
func (a *Analysis) soundsLike() Guess {
	p := a.Portrait
	if p == nil || a.Silent() {
		return Guess{Role: session.Other, Reason: "silent"}
	}
	g := Guess{}
	g.Role, g.Confidence = a.likeliest()
	if f := a.Fundamental; g.Role != session.Bass && f != nil && f.Hz < lowTop && p.LowShare > droneLow && p.Pitched > droneLow && p.Sustain > sustained {
		g.Role, g.Confidence = session.Bass, surest // it goes on, low and with a pitch: a kick does not, and nothing else is there
	}
	times := fmt.Sprintf("%d times", len(a.Onsets))
	if len(a.Onsets) == 1 {
		times = "once"
	}
	switch g.Role {
	case session.Kick:
		g.Reason = "it strikes low, " + times
		if a.Kick != nil && p.Sweep.StartHz.Valid() && float64(p.Sweep.StartHz) > 1.2*a.Kick.Hz {
			g.Reason = fmt.Sprintf("it sweeps from %.0f down to %.0f Hz, %s", float64(p.Sweep.StartHz), a.Kick.Hz, times)
		}
	case session.Bass:
		g.Reason = "it plays low notes"
		if a.Fundamental != nil {
			g.Reason = "it plays low notes, most on " + a.Fundamental.Note
		}
	case session.Snare:
		g.Reason = fmt.Sprintf("it comes in short hits, %s under 150 Hz and %s over 5 kHz", percent(p.LowShare), percent(p.HighShare))
	case session.Hats:
		g.Reason = fmt.Sprintf("%s of it lies over 5 kHz, struck %.1f times a second", percent(p.HighShare), p.Attacks)
	case session.Perc:
		g.Reason = fmt.Sprintf("it is struck %.1f times a second and dies away within %.0f ms", p.Attacks, 1000*p.Decay)
	case session.Drums:
		g.Reason = fmt.Sprintf("it holds several drums: %s", p.Kinds)
	case session.Melodic:
		g.Reason = fmt.Sprintf("it holds tones, %s of it has a pitch", percent(p.Pitched))
	case session.Texture:
		g.Reason = "it goes on without pitch"
	case session.Effects:
		g.Reason = "it comes rarely, and without a beat"
	}
	return g
}
