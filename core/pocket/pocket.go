// Package pocket judges whether kick and bass agree.
package pocket

import (
	"fmt"
	"math"
	"strings"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

const (
	cancels  = -1.0 // dB of median phase sum from which kick and bass are said to cancel
	tuneTell = 10.0 // cents; common practice, no published source
	sure     = 0.3  // confidence of a pitch that is spoken of
)

// shown is half the last decimal that a clearance is shown with: what reads as the target
// meets it.
const shown = 0.05

// allowed is the number of hits that may miss the target: one in ten.
func allowed(hits int) int { return int(0.1*float64(hits) + 1e-9) }

// Sentence says in one sentence what is wrong, with its number, or that nothing is.
func Sentence(f meter.HitFigures, target float64, kick, bass string) string {
	n := len(f.Hits)
	under := f.Under(target - shown)
	buried, worst := 0, 0.0
	for _, h := range f.Hits {
		if h.Clearance.Valid() && h.Clearance < 0 {
			buried++
			worst += float64(h.Clearance)
		}
	}
	switch {
	case under <= allowed(n) && float64(f.ClearanceP10) >= target-shown:
		return fmt.Sprintf("Nothing is wrong: %s clears %s by %.1f dB or more on 9 of 10 hits. Leave it.", lower(kick), lower(bass), float64(f.ClearanceP10))
	case under <= allowed(n):
		return fmt.Sprintf(
			"Nothing is wrong: %s clears %s by the %g dB asked on %d of %d hits; one in ten may miss it. Leave it.",
			lower(kick),
			lower(bass),
			target,
			n-under,
			n,
		)
	case buried > 0:
		return fmt.Sprintf("%s sits %.1f dB over %s in its own octave on %d of %d hits, and under the %g dB asked on %d.",
			upper(bass), -worst/float64(buried), lower(kick), buried, n, target, under)
	}
	return fmt.Sprintf("%s clears %s by less than the %g dB asked on %d of %d hits; the worst tenth has %s dB.",
		upper(kick), lower(bass), target, under, n, figure.Short(float64(f.ClearanceP10)))
}

// Judge names what is wrong between kick and bass; nil where nothing is. line is the bass's
// commonest pitch, nil where it has none.
func Judge(f meter.HitFigures, target float64, kick, bass string, line *meter.Pitch) []find.Finding {
	var out []find.Finding
	if under := f.Under(target - shown); under > allowed(len(f.Hits)) {
		out = append(out, find.Finding{
			ID: "under", What: fmt.Sprintf("%d of %d hits under %g dB", under, len(f.Hits), target),
			Why:   "A kick that does not clear the bass in its own octave is heard as click without weight.",
			Hear:  "both",
			Do:    "Duck the bass as little as it takes.",
			Other: stage.Duck, Group: find.Fit,
		})
	}
	if f.PhaseSumMedian.Valid() && f.PhaseSumMedian < cancels {
		out = append(out, find.Finding{
			ID: "cancel", What: fmt.Sprintf("The two cancel: phase sum %s dB", figure.Short(float64(f.PhaseSumMedian))),
			Why:  "Where kick and bass pull against each other, both lose weight.",
			Hear: "both",
			Do:   "Try the bass with its polarity turned over, or moved by a few ms, and bounce it again.",
		})
	}
	if line != nil && line.Confidence >= sure && math.Abs(line.Cents) >= tuneTell {
		side := "sharp"
		if line.Cents < 0 {
			side = "flat"
		}
		out = append(out, find.Finding{
			ID: "bass-off-tune", What: fmt.Sprintf("%s is %.0f cents %s", upper(bass), math.Abs(line.Cents), side),
			Why:  fmt.Sprintf("Its commonest note, %s, reads %.2f Hz. Beside a tuned instrument that beats.", line.Note, line.Hz),
			Hear: "bass",
			Do:   fmt.Sprintf("Detune it by %s cents.", figure.Short(-math.Round(line.Cents))),

			Group: find.Tuning, Own: []find.Measure{{Figure: "notecents", In: find.Bracket{}}},
			Apply: "Detune", Values: fmt.Sprintf("detune by %s cents", figure.Short(-math.Round(line.Cents))),
		})
	}
	return out
}

// Agree names what is wrong in phase: layers that cancel, and a nudge that is worth it.
func Agree(n *Nudge, layers []Layer, bass string) []find.Finding {
	var out []find.Finding
	for _, l := range layers {
		if l.Cancels() {
			out = append(out, find.Finding{
				ID:   find.ID("layer-upside-down", l.Stem.ID),
				What: fmt.Sprintf("%s is upside down against the other kick layer", l.Stem.Name),
				Why:  fmt.Sprintf("The two sum to %s dB in their low end; turned over, to %s dB.", figure.Short(float64(l.Sum)), figure.Short(float64(l.Flipped))),
				Hear: "kick",
				Do:   "Turn this layer over.",
				Fix:  []session.Edit{session.TurnOver(l.Stem)}, Apply: "Turn it over", Values: "polarity of " + l.Stem.Name + " turned over",
				Group: find.Turned, Own: []find.Measure{{Figure: "layersum", Of: l.Stem.ID, In: find.AtLeast(0)}},
			})
		}
	}
	if n.Advised() {
		way := fmt.Sprintf("%s ms later", figure.Short(n.Best.MS))
		if n.Best.MS < 0 {
			way = fmt.Sprintf("%s ms earlier", figure.Short(-n.Best.MS))
		}
		if n.Best.Flip {
			way += " and upside down"
		}
		out = append(out, find.Finding{
			ID:   "nudge",
			What: fmt.Sprintf("%s adds more %s", upper(bass), way),
			Why: fmt.Sprintf(
				"The phase sum rises from %s to %s dB in the median; %d hits gain, %d lose, of %d.",
				figure.Short(float64(n.Now)),
				figure.Short(float64(n.BestSum)),
				n.Helped,
				n.Hurt,
				n.Of,
			),
			Hear:  "both",
			Do:    "Nudge it.",
			Apply: "Nudge", Values: way,
			Own: []find.Measure{{Figure: "phase", In: find.AtLeast(3.01)}},
		})
	}
	return out
}

// kickOffTell is how far a kick may lie off the bass note that it is held against, cents; common practice, no published source, wide
// because a kick goes on falling a little: clean ones read up to 30 cents sharp. Further off than a semitone it is another note, and
// told as a clash or not at all.
const (
	kickOffTell = 40.0
	kickOffMost = 100.0
	kickOffPart = 0.4 // of the line's time, of the note that a kick is held against where few of its hits fall on one
)

// kickNote is the note of the bass that a kick is held against, with its pitch: that on which most of its hits fall, else the
// commonest of the line; nil where no note is common. What is out of tune itself counts as it will be in tune.
func kickNote(notes []NoteUse, hits int) (*NoteUse, float64) {
	var most *NoteUse
	for i := range notes {
		if most == nil || notes[i].Hits > most.Hits {
			most = &notes[i]
		}
	}
	if most == nil || 2*most.Hits < hits {
		if most = nil; len(notes) > 0 && notes[0].Share >= kickOffPart {
			most = &notes[0]
		}
	}
	if most == nil {
		return nil, 0
	}
	if math.Abs(most.Cents) >= tuneTell {
		return most, most.Hz * math.Pow(2, -most.Cents/1200)
	}
	return most, most.Hz
}

// KickOff is how far a kick lies off the note that it is held against, in that note's own octave too, cents; None where there is no such note.
func KickOff(kickHz float64, notes []NoteUse, hits int) meter.Figure {
	_, hz := kickNote(notes, hits)
	if hz <= 0 || kickHz <= 0 {
		return meter.None
	}
	return meter.Figure(math.Remainder(1200*math.Log2(kickHz/hz), 1200))
}

// OffNote tells of a kick that is out of tune with the bass. kickHz is the pitch that the kick settles on.
func OffNote(kickHz float64, notes []NoteUse, hits int, kick, bass string) []find.Finding {
	cents := float64(KickOff(kickHz, notes, hits))
	if !(math.Abs(cents) > kickOffTell && math.Abs(cents) <= kickOffMost) {
		return nil
	}
	most, hz := kickNote(notes, hits)
	side, on := "over", fmt.Sprintf("on which %d of %d hits fall", most.Hits, hits)
	if cents < 0 {
		side = "under"
	}
	if 2*most.Hits < hits {
		on = fmt.Sprintf("on which %s stays %.0f %% of its time", lower(bass), 100*most.Share)
	}
	return []find.Finding{{
		ID: "kick-off-note", What: fmt.Sprintf("%s is %.0f cents %s %s, %s", upper(kick), math.Abs(cents), side, most.Note, on),
		Why:  fmt.Sprintf("It settles on %.1f Hz; %s in tune is %.1f. So near, and not together, the two beat.", kickHz, most.Note, hz),
		Hear: "both", Do: fmt.Sprintf("Tune the kick by %s cents; Pocket shows it against the whole line", figure.Short(-math.Round(cents))),
		Apply: "Tune it", Values: fmt.Sprintf("tune the kick by %s cents", figure.Short(-math.Round(cents))),
		Own: []find.Measure{{Figure: "kickcents", In: find.Bracket{}}},
	}}
}

// stepsTell is the spread of note levels in dB from which it is told; common practice, no
// published source.
const stepsTell = 4.0

// Steady tells of level steps between the notes of a bass, which are evened in Body.
func Steady(spread meter.Figure, notes int, bass string) []find.Finding {
	if !spread.Valid() || float64(spread) < stepsTell {
		return nil
	}
	return []find.Finding{{
		ID: "level-steps", What: fmt.Sprintf("%s’s notes step in level by %s dB", upper(bass), figure.Short(float64(spread))),
		Why:  fmt.Sprintf("10th to 90th percentile of %d notes, 20 to 150 Hz. No duck fits loud and soft notes alike.", notes),
		Hear: "bass", Do: "Body will even them; until then, even them by clip gain.", Other: stage.Body, Group: find.Even,
	}}
}

// LeadSentence is Sentence for where the bass leads.
func LeadSentence(b meter.BassLead, target float64, kick, bass string) string {
	judged := b.Judged()
	switch under, left := b.Under(target), len(b.Clearance)-judged; {
	case judged == 0:
		return fmt.Sprintf("No note of %s is known under the hits, so it cannot be judged as the leader.", lower(bass))
	case under <= allowed(judged) && left > allowed(len(b.Clearance)):
		return fmt.Sprintf(
			"On %d of %d hits no note of %s is known, and these are left unjudged. On the other %d it leads by %s dB or more on 9 of 10.",
			left,
			len(b.Clearance),
			lower(bass),
			judged,
			figure.Short(float64(b.P10)),
		)
	case under <= allowed(judged):
		return fmt.Sprintf(
			"Nothing is wrong: %s leads by %s dB or more over %s in its own octave, from 60 ms after each hit, on 9 of 10 hits.",
			lower(bass),
			figure.Short(float64(b.P10)),
			lower(kick),
		)
	default:
		return fmt.Sprintf(
			"%s has less than the %g dB asked over %s in its own octave, from 60 ms after the hit, on %d of %d hits.",
			upper(bass),
			target,
			lower(kick),
			under,
			judged,
		)
	}
}

// JudgeLead names what is wrong where the bass leads.
func JudgeLead(b meter.BassLead, target float64, kick, bass string) []find.Finding {
	var out []find.Finding
	judged := b.Judged()
	if under := b.Under(target); under > allowed(judged) {
		out = append(out, find.Finding{
			ID: "bass-under", What: fmt.Sprintf("%d of %d hits under %g dB for the bass", under, judged, target),
			Why:  "Where the bass leads, a kick that rings on in its octave blurs the note.",
			Hear: "both", Other: stage.Duck, Group: find.Fit, Do: "Fade the kick's tail, or dip the kick at the bass's fundamental; both stand below. Or let the " +
				"kick make room on Duck.",
		})
	}
	if left := len(b.Clearance) - judged; left > allowed(len(b.Clearance)) {
		out = append(out, find.Finding{
			ID: "unjudged", What: fmt.Sprintf("%d of %d hits left unjudged", left, len(b.Clearance)),
			Why:  fmt.Sprintf("No note of %s is known under them: it rests there, or its pitch cannot be read.", lower(bass)),
			Hear: "both", Other: stage.Intake, Do: "Drop the MIDI of the bass line on its row on Intake; its notes are taken then.",
		})
	}
	if b.Handover.Valid() && float64(b.Handover) > pair.EarlyHandover {
		out = append(out, find.Finding{
			ID: "late-handover", What: fmt.Sprintf("The bass takes over %.0f ms after the hit; %.0f is early enough to lead", float64(b.Handover), pair.EarlyHandover),
			Why:  "A leading bass comes in right behind the kick's click.",
			Hear: "both", Do: "Fade the kick's tail sooner.",
		})
	}
	return out
}

// upper and lower put a stem's name into a sentence: "The kick", "the 808".
func upper(name string) string { return "The " + inSentence(name) }
func lower(name string) string { return "the " + inSentence(name) }

func inSentence(name string) string {
	if name == "Kick" || name == "Bass" {
		return strings.ToLower(name)
	}
	return name
}
