package duck

import (
	"fmt"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// Says says in a sentence what a song's duck does now, over the stretch that was judged: bars names it. asked is the clearance of
// the worst tenth that the target is of. It is made of the figures of the moment, never kept.
func Says(song *session.Song, st *pair.State, asked meter.Figure, bars string) string {
	d, off := song.Duck()
	led := "the kick clears the bass"
	lost := "bass"
	if song.Leader == session.BassLeads {
		led, lost = "the bass leads the kick", "kick"
	}
	clears := "no hit can be judged"
	if asked.Valid() {
		clears = fmt.Sprintf("%s by %s dB in 9 of 10 hits", led, figure.Signed(float64(asked), 1))
		if _, ok := pair.Asked(song); !ok {
			clears += fmt.Sprintf(", %g asked", song.Targets.Clearance)
		}
	}
	if d == nil || off || st.Readout == nil {
		return fmt.Sprintf("The duck is off. In %s %s.", bars, clears)
	}
	does := fmt.Sprintf("Up to %s dB of reduction", figure.Signed(-float64(st.Readout.Depth), 1))
	if !d.Keyed() {
		does = fmt.Sprintf("%s dB deep", figure.Signed(-d.Depth(), 1))
		if at, err := d.AtTempo(song.BPM); err == nil && len(at.Points) > 0 {
			does += fmt.Sprintf(", back by %.0f ms", at.Points[len(at.Points)-1].MS)
			if at.Follow {
				does += " or before the next hit"
			}
		}
	}
	said := fmt.Sprintf("%s. In %s %s", does, bars, clears)
	if st.Readout.BassLossLow.Valid() {
		said += fmt.Sprintf("; %s dB of %s are lost", figure.Signed(float64(st.Readout.BassLossLow), 2), lost)
	}
	return said + "."
}

// KeyPeak is the sample peak of what a keyed duck listens to over a song, before its key filter, dBFS: the level at which its
// threshold was fitted.
func KeyPeak(key meter.Sound) (meter.Figure, error) {
	top := float32(0)
	err := key.Read(func(x []float32) error {
		top = max(top, meter.Peak(x))
		return nil
	})
	if err != nil || top == 0 {
		return meter.None, err
	}
	return meter.PeakDB([]float32{top}), nil
}
