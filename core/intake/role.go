package intake

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

// Guess guesses what a stem is from its name and from what it sounds like. A name that tells
// counts first; where the sound clearly says something else, that is told as a doubt.
func (a *Analysis) Guess(name string) Guess {
	byName, bySound := GuessRole(name), a.soundsLike()
	switch {
	case byName == session.Other:
		return bySound
	case bySound.Role == byName:
		return Guess{Role: byName, Reason: "by its name; " + bySound.Reason, Confidence: 0.97}
	case bySound.Confidence >= 0.75 && (bySound.Role == session.Kick || bySound.Role == session.Bass || byName == session.Kick || byName == session.Bass):
		return Guess{Role: byName, Reason: "by its name", Confidence: 0.6, Doubt: fmt.Sprintf("it sounds like %s: %s", roleWord(bySound.Role), bySound.Reason)}
	}
	return Guess{Role: byName, Reason: "by its name", Confidence: 0.85}
}

func roleWord(r session.Role) string {
	for _, k := range session.Roles {
		if k.Role == r {
			return strings.ToLower(k.Label)
		}
	}
	return string(r)
}

// soundsLike judges by the sound alone. The bounds are our own, set on the demo's stems and
// the synthetic ones of the tests; common practice has no published source for them.
func (a *Analysis) soundsLike() Guess {
	p := a.Portrait
	if p == nil || a.Silent() {
		return Guess{Role: session.Other, Reason: "silent"}
	}
	rate := float64(len(a.Onsets)) / max(a.DurationS, 0.1)
	pitched := a.Fundamental != nil && a.Fundamental.Confidence > 0.3
	switch {
	case p.LowShare > 0.5 && a.Kick != nil && a.Kick.Hz > 30 && a.Kick.Hz < 120 && p.Sweep.StartHz.Valid() &&
		float64(p.Sweep.StartHz) > 1.7*a.Kick.Hz && p.CarriesLow < 0.1 && len(a.Onsets) > 0:
		times := fmt.Sprintf("%d times", len(a.Onsets))
		if len(a.Onsets) == 1 {
			times = "once"
		}
		return Guess{Role: session.Kick, Confidence: 0.9, Reason: fmt.Sprintf("it sweeps from %.0f down to %.0f Hz, %s", float64(p.Sweep.StartHz), a.Kick.Hz, times)}
	case p.LowShare > 0.6 && pitched && a.Fundamental.Hz < 130 && p.Sustain > 0.35:
		return Guess{Role: session.Bass, Confidence: 0.85, Reason: fmt.Sprintf("it holds low notes, most on %s", a.Fundamental.Note)}
	case p.Sustain > 0.6 && p.Spectrum.Tonal > 0.3:
		return Guess{Role: session.Melodic, Confidence: 0.6, Reason: "it holds tones"}
	case p.Sustain > 0.8:
		return Guess{Role: session.Texture, Confidence: 0.6, Reason: "it goes on without pitch"}
	case p.HighShare > 0.9:
		return Guess{Role: session.Hats, Confidence: 0.55, Reason: percent(p.HighShare) + " of it lies over 5 kHz, in short bursts"}
	case rate < 0.2 && a.DurationS > 10:
		return Guess{Role: session.Effects, Confidence: 0.4, Reason: "it comes rarely, and without a beat"}
	case p.Sustain < 0.35 && p.Spectrum.Tonal > 0.5 && p.HighShare < 0.1 && p.LowShare < 0.3:
		return Guess{Role: session.Perc, Confidence: 0.4, Reason: "it comes in short pitched hits"}
	case p.Sustain < 0.35 && p.LowShare < 0.6:
		return Guess{Role: session.Snare, Confidence: 0.45, Reason: "it comes in short hits with little under 150 Hz"}
	case pitched:
		return Guess{Role: session.Melodic, Confidence: 0.5, Reason: "it is pitched, most on " + a.Fundamental.Note}
	}
	return Guess{Role: session.Other, Confidence: 0.2, Reason: "neither name nor sound tells"}
}
