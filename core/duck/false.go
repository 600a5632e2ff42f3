package duck

import (
	"context"
	"fmt"
	"sort"

	"mellowthump/core/dsp"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const (
	falseDepth  = 1.0   // dB of reduction that counts
	falseRise   = 0.030 // s within which it comes about
	falseBefore = 0.030 // s before a hit that belong to it
	falseAfter  = 0.120 // s behind a hit that belong to it
	falseNear   = 0.030 // s within which another stem's onset is its cause
)

// False is the times at which a keyed duck ducks without a hit.
type False struct {
	At     []float64 // s in the song
	Cause  string    // the stem whose onsets most of them meet; empty: not known
	Filter *move.KeyFilter
	Why    string // in words
}

// FalseTriggers finds where the song's duck lowers the bass by 1 dB and more with no hit of its trigger
// near, names the stem whose onsets fall there, and the gentlest key filter that would stop it. onsets
// gives the onsets of a stem's file.
func FalseTriggers(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, onsets func(sha string) []float64) (*False, error) {
	d, off := song.Duck()
	if d == nil || off || !d.Keyed() {
		return nil, nil
	}
	hits, err := r.Hits(song, d.Trigger)
	if err != nil {
		return nil, err
	}
	at, err := falseAt(r, song, w, hits)
	if err != nil || len(at) == 0 {
		return nil, err
	}
	f := &False{At: at}
	most := 0
	trigger := song.TriggerStem()
	for i := range song.Stems {
		st := &song.Stems[i]
		if trigger != nil && st.ID == trigger.ID || st.Role == session.Bass {
			continue
		}
		n := 0
		on := onsets(st.Audio)
		for _, t := range at {
			k := sort.SearchFloat64s(on, t-falseNear)
			if k < len(on) && on[k] <= t+falseNear {
				n++
			}
		}
		if n > most && 2*n >= len(at) {
			most, f.Cause = n, st.Name
		}
	}
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
		left, err := falseAt(r, &c, w, hits)
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
		f.Why += ", where " + f.Cause + " plays"
	}
	return f, nil
}

// falseAt lists the times at which the gain falls without a hit.
func falseAt(r *mix.Renderer, song *session.Song, w mix.Window, hits []int) ([]float64, error) {
	var st *session.Stem
	for _, b := range song.ByRole(song.Ducked()) {
		if m, _ := b.DuckMove(); m != nil {
			st = b
		}
	}
	if st == nil {
		return nil, nil
	}
	gain, err := r.Gain(song, st, w)
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
