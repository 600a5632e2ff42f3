package print

import (
	"fmt"

	"mellowthump/core/figure"
	"mellowthump/core/find"
)

// What a print is told of, common practice.
const (
	tellTurned = 6.0 // dB of reduction at the deepest: from there on a limiter is heard
	tellAttack = 3.0 // dB off the hits' attack
	tellOver   = 0.1 // dB over the ceiling
)

// Findings are what is told of a print: a true peak over its ceiling, dBTP; a limiter that turns down too far; hits that lose
// their attack. None where no chain is on.
func Findings(before, now Figures, ceiling float64) []find.Finding {
	var out []find.Finding
	if over := float64(now.TruePeak) - ceiling; now.TruePeak.Valid() && over > tellOver {
		out = append(
			out,
			find.Finding{
				ID:   "print-over",
				What: fmt.Sprintf("True peak %s dBTP, over the ceiling of %s", figure.Signed(float64(now.TruePeak), 1), figure.Short(ceiling)),
				Why:  "Something before or behind the chain has changed since it was solved; between the samples it may clip where it is converted.",
				Do:   "Solve it again.",
				Hear: "all",
			},
		)
	}
	if now.Most.Valid() && now.Most > tellTurned {
		out = append(out, find.Finding{ID: "print-turned", What: fmt.Sprintf("The limiter turns down by up to %s dB", figure.Signed(float64(now.Most), 1)),
			Why: "From about 6 dB on it is heard as a dip after each hit (common practice).", Do: "Ask for less, or turn down whose peaks make it work: beside, by " +
				"stem and by place.", Hear: "all"})
	}
	if less := before.Attack - now.Attack; less.Valid() && less > tellAttack {
		out = append(out, find.Finding{ID: "print-attack", What: fmt.Sprintf("The hits' attack is %s dB less", figure.Signed(float64(less), 1)),
			Why: "What is louder on the meter hits softer in the room: equally loud, the premaster's hits stand higher.", Do: "Ask for less: the curve of what " +
				"loudness costs says what each dB takes.", Hear: "all"})
	}
	return out
}
