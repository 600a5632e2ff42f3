package mix

import (
	"fmt"
	"math"
	"slices"

	"mellowthump/core/meter"

	"mellowthump/core/field"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Hits returns the frames of a trigger's hits, over the whole song, as its stems play them: those of
// all its stems or of the grid, with what was put in and taken out by hand.
func (r *Renderer) Hits(song *session.Song, trigger string) ([]int, error) {
	t := song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger} // one that is not named is the kick's
	}
	var hits []int
	if t.Grid != "" {
		ms, err := field.NoteMS(t.Grid, song.BPM)
		if err != nil {
			return nil, err
		}
		n, err := r.Length(song)
		if err != nil {
			return nil, err
		}
		rate := float64(song.Rate)
		for k := 0; ; k++ {
			at := (song.Grid + float64(k)*ms/1000) * rate
			if at >= float64(n) {
				break
			}
			hits = append(hits, int(math.Round(at)))
		}
	}
	if t.MIDI != nil {
		for _, at := range t.MIDI.Hits() {
			hits = append(hits, int(math.Round(at*float64(song.Rate))))
		}
	}
	for _, st := range song.Sources(t) {
		own, err := r.rawHits(song, t, st)
		if err != nil {
			return nil, err
		}
		by := int(math.Round(st.Nudged() * float64(song.Rate) / 1000))
		for _, h := range own {
			hits = append(hits, h+by)
		}
	}
	return edited(hits, t, song.Rate), nil
}

// edited applies what was put in and taken out by hand, in order, each hit once.
func edited(hits []int, t *session.Trigger, rate int) []int {
	near := int(move.HitNear * float64(rate))
	for _, at := range slices.Concat(t.Removed, t.Added) { // what a hand puts in stands for what was found there
		frame := int(math.Round(at * float64(rate)))
		hits = slices.DeleteFunc(hits, func(h int) bool { return max(h-frame, frame-h) <= near })
	}
	for _, at := range t.Added {
		hits = append(hits, int(math.Round(at*float64(rate))))
	}
	slices.Sort(hits)
	out := hits[:0]
	for _, h := range hits {
		if len(out) == 0 || h-out[len(out)-1] > near || len(t.Stems) == 0 && t.Bus == "" && len(t.Added) == 0 && h != out[len(out)-1] {
			out = append(out, h)
		}
	}
	return out
}

// ownHits are the hits of a stem's own trigger as its file has them: what stands before a nudge in its
// chain goes by these.
func (r *Renderer) ownHits(song *session.Song, trigger string, st *session.Stem) ([]int, error) {
	t := song.Trigger(trigger)
	if t == nil {
		t = &session.Trigger{ID: session.KickTrigger}
	}
	if !slices.Contains(song.Sources(t), st) {
		return r.Hits(song, trigger)
	}
	hits, err := r.rawHits(song, t, st)
	return edited(hits, t, song.Rate), err
}

// sharedHits are the hits by which a combined sample is split: those of the file, which head and tail share.
func (r *Renderer) sharedHits(song *session.Song, trigger string, st *session.Stem) ([]int, error) {
	t := song.Trigger(trigger)
	for _, o := range song.Sources(t) {
		if o.Audio == st.Audio {
			return r.ownHits(song, trigger, o)
		}
	}
	return r.Hits(song, trigger)
}

// rawHits are the hits of one of a trigger's stems as its file has them.
func (r *Renderer) rawHits(song *session.Song, t *session.Trigger, st *session.Stem) ([]int, error) {
	if t.At != "" && !song.Reaches(st, t.At) {
		return nil, nil // it does not arrive where it is taken
	}
	var times []float64
	if st.MIDI != nil {
		times = st.MIDI.Hits()
	} else {
		found, err := r.Library.Onsets(st.Audio)
		if err != nil {
			return nil, fmt.Errorf("the hits of %s: %w", st.Name, err)
		}
		times = t.Found(found)
	}
	hits := make([]int, len(times))
	for i, at := range times {
		hits[i] = int(math.Round(at * float64(song.Rate)))
	}
	return hits, nil
}

// KickPitch returns the pitch of the trigger's stem as it plays, tuned or not; the zero value where it has none.
func (r *Renderer) KickPitch(song *session.Song) (meter.Pitch, error) {
	st := song.TriggerStem()
	p, err := r.Library.KickPitch(st.Audio)
	if tuned := st.Tuned(); tuned != 0 && p.Hz > 0 {
		p.Hz *= math.Pow(2, tuned/1200)
		p.Note, p.Cents = meter.Note(p.Hz)
	}
	return p, err
}

// KickHz is the frequency of KickPitch; 0 where it has none.
func (r *Renderer) KickHz(song *session.Song) (float64, error) {
	p, err := r.KickPitch(song)
	return p.Hz, err
}

// hitsFor are the hits that a move of a chain goes by; st is the stem whose chain it is, nil for a bus or the master.
func (r *Renderer) hitsFor(song *session.Song, n move.Needs, st *session.Stem) ([]int, error) {
	switch {
	case n.Hits == move.NoHits:
		return nil, nil
	case st != nil && n.Hits == move.OwnHits:
		return r.ownHits(song, n.Trigger, st)
	case st != nil && n.Hits == move.SharedHits:
		return r.sharedHits(song, n.Trigger, st)
	}
	return r.Hits(song, n.Trigger)
}
