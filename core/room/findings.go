package room

import (
	"fmt"
	"math"
	"strings"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/session"
)

// From what a cut is told of, dB; own choice.
const (
	tellCellar = 0.15 // of the cellar
	tellPeak   = 0.25 // of the mix's peak
	tellDeep   = 12.0 // over what is asked of the cellar: what is freed there is nothing to anybody
)

// unheardWhy is the reason that a cut carries.
const unheardWhy = "nobody hears it missing in the mix"

// Unheard is the edit that cuts a stem from below as far as goes unheard in the mix.
func (c Cut) Unheard() session.CutRoom {
	return session.CutRoom{Stem: c.Stem, ID: session.RoomLow, Hz: c.Low.Mix, Why: unheardWhy}
}

// All is the edit that cuts every stem at one end, each at its own corner as far as all at once go unheard, where it is not
// cut as far already; ok is false where there is nothing to cut.
func All(song *session.Song, cuts []Cut, side Side) (e session.Together, ok bool) {
	var names []string
	for _, c := range cuts {
		st, hz, id := song.Stem(c.Stem), c.end(side).All, side.id()
		if st == nil || hz == 0 {
			continue
		}
		if now := st.RoomCut(id); now > 0 && (side == Low && now >= hz || side == High && now <= hz) {
			continue
		}
		e.Edits = append(e.Edits, session.CutRoom{Stem: c.Stem, ID: id, Hz: hz, Why: unheardWhy})
		names = append(names, st.Name)
	}
	said := map[Side]string{Low: "Cut all unheard: ", High: "Cut all unheard from above: "}[side]
	e.Said = said + strings.Join(names, ", ")
	if len(names) > 4 {
		e.Said = fmt.Sprintf("%s%s and %d more", said, strings.Join(names[:3], ", "), len(names)-3)
	}
	return e, len(names) > 0
}

// Judge names what is wrong with the room under and around kick and bass.
func Judge(song *session.Song, c *Cellar, parts []Share, cuts []Cut, mud []Muddy) []find.Finding {
	var out []find.Finding
	rules := song.RoomRules()
	kick := len(song.ByRole(session.Kick)) > 0 // without one its low end is in the rest
	if kick && c.Under.Valid() && float64(c.Under) < rules.Cellar {
		f := find.Finding{
			ID: "cellar", What: fmt.Sprintf("The rest sits only %s dB under kick and bass; %s asked", figure.Short(float64(c.Under)), figure.Short(rules.Cellar)),
			Why: brings(parts) + " In 20 to 150 Hz, behind the master.", Hear: "all",
			Do:    "What may go unheard is not enough: turn it down, or play it an octave up.",
			Group: find.Cuts, Own: []find.Measure{{Figure: "cellar", In: find.AtLeast(rules.Cellar - 0.05)}},
		}
		if all, ok := All(song, cuts, Low); ok {
			f.Fix, f.Apply, f.Do = []session.Edit{all}, "Cut all unheard", all.Said
			f.Values = values(song, cuts)
		}
		out = append(out, f)
	}
	for _, k := range cuts {
		st := song.Stem(k.Stem)
		if st == nil || k.Low.Mix == 0 || st.RoomCut(session.RoomLow) >= k.Low.Mix {
			continue
		}
		cellar, peak := float64(k.Low.Cellar), float64(k.Low.Premaster)
		if low := c.Under.Valid() && float64(c.Under) > rules.Cellar+tellDeep; (cellar < tellCellar || low) && peak < tellPeak {
			continue
		}
		hz := figure.Short(k.Low.Mix)
		f := find.Finding{
			ID: find.ID("unheard-low", st.ID), What: fmt.Sprintf("%s can lose all under %s Hz", st.Name, hz), Hear: "all",
			Why: fmt.Sprintf("Nobody hears it missing in the mix. It frees %s dB of the cellar and %s dB of the mix's peak.", figure.Short(cellar), figure.Short(peak)),
			Fix: []session.Edit{k.Unheard()}, Apply: "Cut there", Do: fmt.Sprintf("Cut %s under %s Hz", st.Name, hz),
			Values: fmt.Sprintf("%s: high-pass at %s Hz, %d dB per octave", st.Name, hz, rules.Slope),
			Group:  find.Cuts, Own: freed, Taste: "nobody hears it, and nothing asks for the room",
		}
		if cellar >= tellCellar && k.Low.Strongest <= k.Low.Mix/2 {
			f.What = fmt.Sprintf("%s rumbles at %s Hz", st.Name, figure.Short(nominal(k.Low.Strongest)))
			f.Why = fmt.Sprintf("It adds %s dB to the cellar. Gone under %s Hz nobody hears it missing in the mix.", figure.Short(cellar), hz)
			f.Taste = ""
		}
		out = append(out, f)
	}
	for _, m := range mud {
		if f, ok := m.finding(song); ok {
			out = append(out, f)
		}
	}
	return out
}

// freed is what a cut that goes unheard frees: of the cellar, and of the mix's peak.
var freed = []find.Measure{{Figure: "cellar", In: find.AtLeast(math.Inf(1))}, {Figure: "premaster", In: find.AtMost(math.Inf(-1))}}

// brings says who fills the cellar.
func brings(parts []Share) string {
	var names []string
	part := 0.0
	for _, p := range parts {
		if p.At.Stem == "" || part >= 0.8 || len(names) == 3 {
			break
		}
		names, part = append(names, p.Name), part+p.Part
	}
	switch len(names) {
	case 0:
		return ""
	case 1:
		return fmt.Sprintf("%s brings %.0f %% of it.", names[0], 100*part)
	}
	return fmt.Sprintf("%s and %s bring %.0f %% of it.", strings.Join(names[:len(names)-1], ", "), names[len(names)-1], 100*part)
}

// Sentence says how the rest stands to kick and bass.
func (c *Cellar) Sentence(target float64) string {
	switch {
	case !c.Under.Valid():
		return "Kick and bass, or the rest, are silent under 150 Hz here: there is nothing to set against each other. Is each role right on Intake? Else judge a " +
			"stretch in which they play."
	case float64(c.Under) >= target:
		return fmt.Sprintf(
			"Nothing is in the way: the rest sits %s dB under kick and bass in 20–150 Hz; %s is asked.",
			figure.Short(float64(c.Under)),
			figure.Short(target),
		)
	}
	return fmt.Sprintf("The rest sits only %s dB under kick and bass in 20–150 Hz; %s is asked.", figure.Short(float64(c.Under)), figure.Short(target))
}

// values lists the cuts to be set by hand.
func values(song *session.Song, cuts []Cut) string {
	var out []string
	for _, c := range cuts {
		if st := song.Stem(c.Stem); st != nil && c.Low.All > 0 {
			out = append(out, fmt.Sprintf("%s: high-pass at %s Hz, %d dB per octave", st.Name, figure.Short(c.Low.All), song.RoomRules().Slope))
		}
	}
	return strings.Join(out, "; ")
}

// nominal is the corner that is nearest to a frequency, by their ratio: third-octaves by their usual names.
func nominal(hz float64) float64 {
	best := hz
	for _, c := range append(append([]float64{}, LowCorners...), HighCorners...) {
		if c/hz < 1.1 && hz/c < 1.1 {
			best = c
		}
	}
	return best
}
