// Package intake tells what may be wrong with a stem's file.
package intake

import (
	"fmt"
	"math"

	"mellowthump/core/facts"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

func firstOf(x []float64) float64 {
	if len(x) == 0 {
		return 0
	}
	return x[0]
}

const (
	turnedDown = -1.0  // dBFS: flat tops under that were cut off elsewhere
	dcLimit    = 0.005 // of full scale, -46 dBFS: common practice, no published source
	shortBy    = 0.25  // s by which lengths may differ unremarked
	tuneTell   = 10.0  // cents from which a bass is said to be out of tune; common practice
)

// Findings names what may be wrong with a stem's file; a nil list means nothing.
func Findings(role session.Role, a *facts.Analysis) []find.Finding {
	var out []find.Finding
	say := func(id, why, what string, args ...any) {
		out = append(out, find.Finding{ID: id, What: fmt.Sprintf(what, args...), Why: why})
	}
	if a.Silent() {
		say("silent", "Nothing can be measured on it; mute it or bounce it again.", "silent from start to end")
		return out
	}
	if a.ClippedRuns > 0 {
		since := ""
		if a.SamplePeak < turnedDown {
			since = ", and turned down since"
		}
		say("clipped", "Flat tops were cut off before the file was written; only a new bounce brings them back.",
			"clipped in %d places%s, first at %.2f s", a.ClippedRuns, since, firstOf(a.Clipped))
	}
	if math.Abs(float64(a.DC)) > dcLimit {
		say("dc", "A constant offset takes headroom and is never heard.", "DC offset of %.1f %% of full scale", 100*float64(a.DC))
	}
	if role == session.Kick && len(a.Onsets) == 0 {
		say("no-hits", "The Pocket and the Duck work at hits; pick another file as the kick.", "no hits found")
	}
	if p := a.Fundamental; role == session.Bass && p != nil && p.Confidence > 0.3 && math.Abs(p.Cents) >= tuneTell {
		say("off-tune", "Detune it by the opposite and bounce it again; Pocket shows it against the kick.",
			"%.0f cents %s on %s", math.Abs(p.Cents), map[bool]string{true: "sharp", false: "flat"}[p.Cents > 0], p.Note)
		out[len(out)-1].Group = find.Tuning
	}
	if p := a.Portrait; p != nil {
		out = append(out, ofPortrait(p, role, a)...)
	}
	return out
}

const (
	dualMono    = 1e-9    // of the energy: less side than this is none
	lossyFrom   = 15000.0 // Hz: where lossy codecs commonly end; common practice
	lossyTo     = 16750.0
	cancelsTell = -0.8  // correlation under which little is left in mono
	floorTell   = -60.0 // dBFS
	floorSpread = 3.0   // dB from the quietest twentieth of the time to the quietest fifth: more is a tail
	floorAbove  = -45.0 // dB under the peak
	carriesTell = 0.12  // of the energy at the hits
	headOneShot = 0.03  // s before a one-shot begins
	oneShot     = 3.0   // s: shorter is one
)

// ofPortrait names what the portrait shows to be odd.
func ofPortrait(p *facts.Portrait, role session.Role, a *facts.Analysis) []find.Finding {
	var out []find.Finding
	say := func(id, why, what string, args ...any) {
		out = append(out, find.Finding{ID: id, What: fmt.Sprintf(what, args...), Why: why})
	}
	if a.Channels == 2 && p.SideShare < dualMono {
		say("dual-mono", "Both channels are the same; a mono bounce says the same in half the space.", "mono in two channels")
		out[len(out)-1].Notice = true
	}
	if a.Correlation.Valid() && a.Correlation < cancelsTell && role != session.Texture && role != session.Effects {
		say(
			"cancels",
			"On one speaker, and on a club's low end, it is gone. One channel is upside down: turn it over, and bounce it again.",
			"cancels in mono: the correlation of its channels is %.2f",
			float64(a.Correlation),
		)
	}
	switch {
	case a.Format == "mp3":
		say(
			"lossy",
			"A lossy codec has thrown part of the sound away; where the file does not say its delay, it starts 20 to 50 ms late. Bounce it as WAV.",
			"lossy source: MP3",
		)
	case a.Format == "ogg":
		say("lossy", "A lossy codec has thrown part of the sound away. Bounce it as WAV.", "lossy source: Ogg Vorbis")
	case a.Rate >= 44100 && p.Spectrum.TopHz >= lossyFrom && p.Spectrum.TopHz <= lossyTo && p.HighShare > 1e-3 && role != session.Kick && role != session.Bass:
		say(
			"lossy",
			"Lossy codecs end near 16 kHz; what they took does not come back.",
			"nothing over %.1f kHz: perhaps from a lossy source",
			float64(p.Spectrum.TopHz)/1000,
		)
	}
	if role.Struck() && p.Floor > floorTell && p.Floor-a.SamplePeak > floorAbove && p.Sustain < 0.9 && p.FloorSpread < floorSpread {
		say("floor", "Room or hum between the hits adds up over many stems.", "noise floor at %.0f dBFS", float64(p.Floor))
	}
	if role == session.Kick && p.CarriesLow > carriesTell {
		say(
			"carries-bass",
			"Kick and bass in one file cannot be ducked against each other. Bounce them apart.",
			"carries a bass with it: %.0f %% of the low energy stays between the hits",
			100*p.CarriesLow,
		)
	}
	if a.DurationS < oneShot && p.HeadS > headOneShot {
		say("late-start", "A one-shot that starts late plays late.", "%.0f ms of silence at the head: trim it", 1000*p.HeadS)
	}
	return out
}

// Twin is the finding about a stem that sounds as like as that to an earlier one, which is heard with it; nil where it is another
// sound.
func Twin(st, earlier *session.Stem, like float64) *find.Finding {
	sum := find.Measure{Figure: "pairsum", Of: st.ID, By: earlier.ID}
	switch {
	case like > facts.Alike:
		sum.In = find.AtMost(pairApart)
		return &find.Finding{
			ID: "twin", What: "the same sound as " + earlier.Name, Why: "Twice the same stem is 6 dB more of it, and no more sound.",
			Do: "Mute " + st.Name, Fix: []session.Edit{session.Ticked{Stems: []string{st.ID}, Do: session.TickedMute}}, Apply: "Mute it",
			Own: []find.Measure{sum}, Taste: doubled, Group: find.Copies,
		}
	case like < -facts.Alike:
		f := &find.Finding{ID: "upside-down", What: earlier.Name + " upside down", Why: "The two cancel each other. Turn one of them over."}
		if st.Role != session.Kick || earlier.Role != session.Kick { // layers of a kick are turned on Pocket
			sum.In = find.AtLeast(0)
			f.Do, f.Fix, f.Apply = "Turn "+st.Name+" over", []session.Edit{session.TurnOver(st)}, "Turn it over"
			f.Own, f.Group = []find.Measure{sum}, find.Turned
		}
		return f
	}
	return nil
}

// doubled is why a copy is not muted unasked.
const doubled = "you may have doubled it to have more of it"

// pairApart is what two stems that are not the same add up to at the most over the sum of their energies, dB.
const pairApart = 2.0

// muchShorter is the part of the others' length from which a stem is told to be short.
const muchShorter = 0.5

// Short names a stem that is much shorter than the others are in the median.
func Short(stem *facts.Analysis, all []*facts.Analysis) []find.Finding {
	var others []meter.Figure
	for _, a := range all {
		if a != nil && a != stem {
			others = append(others, meter.Figure(a.DurationS))
		}
	}
	usual := float64(meter.Median(others))
	if len(others) < 2 || stem.DurationS > muchShorter*usual {
		return nil
	}
	return []find.Finding{
		{
			ID:   "short",
			What: fmt.Sprintf("only %.1f s long, the others %.1f s", stem.DurationS, usual),
			Why:  "A single hit or a loop plays once, at the start. Bounce it over the whole song.",
		},
	}
}

// Against names what is odd about a stem's length beside the kick's.
func Against(stem, kick *facts.Analysis) []find.Finding {
	if d := kick.DurationS - stem.DurationS; d > shortBy && stem != kick {
		return []find.Finding{
			{ID: "ends-early", What: fmt.Sprintf("ends %.2f s before the kick", d), Why: "What is missing is taken as silence; the hits there count as clear."},
		}
	}
	return nil
}
