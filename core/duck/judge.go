package duck

import (
	"fmt"

	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
)

// Judge names what is wrong with a duck as it is. asked is the clearance of the worst tenth that the target is of, met says
// that it is reached; fitted, that the duck is what the last fit made of the song as it is.
func Judge(st *pair.State, asked meter.Figure, met bool, target float64, fitted bool) []find.Finding {
	var out []find.Finding
	if asked.Valid() && !met {
		remedy := "Press Fit for the least duck that reaches it, or shape it by hand."
		if fitted && st.Readout != nil {
			remedy = "The fit goes by the whole song; this loop may be harder than most of it. A higher cap, another school, or pitch and place on Pocket go further."
		}
		out = append(
			out,
			find.Finding{
				ID:   "worst-tenth",
				What: fmt.Sprintf("Worst tenth in this loop %s dB, %s asked", figure.Signed(float64(asked), 1), figure.Signed(target, 1)),
				Why:  remedy,
			},
		)
	}
	if r := st.Readout; r != nil {
		if r.Back < r.Of {
			out = append(out, find.Finding{
				ID: "not-back", What: fmt.Sprintf("Not back before the next hit on %d of %d", r.Of-r.Back, r.Of),
				Why: "Ducks that run into each other flatten the part. Move the last points earlier.",
			})
		}
		if r.Clicks() {
			out = append(out, find.Finding{
				ID: "clicks", What: fmt.Sprintf("Steepest slope %s dB per ms", figure.Signed(float64(r.Steepest), 1)),
				Why: "Over 3 dB per ms a low tone may click. Spread the points, or bend the segment less.",
			})
		}
	}
	for i := range out {
		out[i].Hear, out[i].Group = "both", find.Fit
	}
	return out
}
