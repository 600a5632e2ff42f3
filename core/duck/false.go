package duck

import (
	"context"
	"fmt"
	"sort"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	falseDepth  = 1.0          // dB of reduction that counts
	falseRise   = 0.030        // s within which it comes about
	falseBefore = 0.030        // s before a hit that belong to it
	falseAfter  = 0.120        // s behind a hit that belong to it
	falseNear   = move.HitNear // s within which another stem's onset is its cause
	falsePart   = 0.1          // of them, that a stem is named for at the least
	falseCauses = 4            // stems that are named at the most
)

// False is the times at which a keyed duck ducks without a hit.
type False struct {
	At     []float64 // s in the song
	Cause  string    // the stems whose onsets they meet, those of most first; empty: not known
	Filter *move.KeyFilter
	Why    string // in words
}

// FalseTriggers finds where the song's duck lowers the bass by 1 dB and more with no hit of its trigger
// near, names the stem whose onsets fall there, and the gentlest key filter that would stop it. onsets
// gives the onsets of a stem's file.
// Long because it is one search: what is found at the key is followed to its causes in the same pass.
func FalseTriggers(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, onsets func(sha string) []float64) (*False, error) {
	d, off := song.Duck()
	if d == nil || off || !d.Keyed() {
		return nil, nil
	}
	hits, err := r.Hits(song, d.Trigger)
	if err != nil {
		return nil, err
	}
	at, err := falseAt(ctx, r, song, w, hits)
	if err != nil || len(at) == 0 {
		return nil, err
	}
	f := &False{At: at}
	type cause struct {
		name string
		at   map[int]bool // of the false ones
	}
	var causes []cause
	trigger := song.TriggerStem()
	for i := range song.Stems {
		st := &song.Stems[i]
		if trigger != nil && st.ID == trigger.ID || st.Role == session.Bass {
			continue
		}
		c := cause{st.Name, map[int]bool{}}
		on := onsets(st.Audio)
		for i, t := range at {
			k := sort.SearchFloat64s(on, t-falseNear)
			if k < len(on) && on[k] <= t+falseNear {
				c.at[i] = true
			}
		}
		if len(c.at) > 0 {
			causes = append(causes, c)
		}
	}
	// the fewest stems that meet them, the one that meets most of what is left at a time
	var names []string
	met := map[int]bool{}
	for len(causes) > 0 && len(names) < falseCauses {
		best, most := -1, 0
		for i, c := range causes {
			n := 0
			for k := range c.at {
				if !met[k] {
					n++
				}
			}
			if n > most {
				best, most = i, n
			}
		}
		if best < 0 || float64(most) < falsePart*float64(len(at)) {
			break
		}
		for k := range causes[best].at {
			met[k] = true
		}
		names = append(names, causes[best].name)
	}
	f.Cause = figure.List(names, "and")
	for _, hz := range []float64{250, 180, 130, 100, 80} { // the gentlest first
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		c := *song
		c.Stems = append([]session.Stem(nil), song.Stems...)
		k := *d
		k.Key = &move.KeyFilter{Low: hz, Slope: 24}
		if d.Key != nil {
			k.Key.High = d.Key.High
		}
		if k.Key.Validate() != nil {
			continue
		}
		c.SetDuck(&k, false, "")
		left, err := falseAt(ctx, r, &c, w, hits)
		if err != nil {
			return nil, err
		}
		if len(left) == 0 {
			f.Filter = k.Key
			break
		}
	}
	f.Why = fmt.Sprintf("It ducks %d times with no hit near", len(at))
	if f.Cause != "" {
		verb := " plays"
		if len(names) > 1 {
			verb = " play"
		}
		f.Why += ", where " + f.Cause + verb
	}
	return f, nil
}

// falseAt lists the times at which the gain falls without a hit.
func falseAt(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, hits []int) ([]float64, error) {
	var st *session.Stem
	for _, b := range song.ByRole(song.Ducked()) {
		if m, _ := b.DuckMove(); m != nil {
			st = b
		}
	}
	if st == nil {
		return nil, nil
	}
	gain, err := r.Gain(ctx, song, st, w)
	if err != nil {
		return nil, err
	}
	rate := float64(song.Rate)
	step := max(1, song.Rate/1000)
	reach := int(falseRise * rate)
	limit := float32(dsp.Gain(-falseDepth))
	var out []float64
	for i := reach; i < len(gain); i += step {
		if gain[i] > limit*gain[i-reach] { // no fall of 1 dB
			continue
		}
		at := w.From + i
		k := sort.SearchInts(hits, at-int(falseAfter*rate))
		if k < len(hits) && hits[k] <= at+int(falseBefore*rate) {
			continue
		}
		t := float64(at) / rate
		if len(out) == 0 || t-out[len(out)-1] > falseAfter {
			out = append(out, t)
		}
	}
	return out, nil
}
