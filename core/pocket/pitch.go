package pocket

import (
	"context"
	"math"
	"runtime"
	"sort"

	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// NoteUse is a note of the bass line and how the kick does on it.
type NoteUse struct {
	Note      string
	Hz        float64 // mean over its time
	Cents     float64 // off, mean over its time
	Share     float64 // of the line's time
	Hits      int     // hits of the kick that fall on it
	Clearance meter.Figure
}

// Notes lists the notes that a line uses between two times, the longest first, with the median
// clearance of the hits that fall on each.
func Notes(line []meter.BassNote, hits []meter.Hit, from, to float64) []NoteUse {
	byName := map[string]*NoteUse{}
	clear := map[string][]meter.Figure{}
	total := 0.0
	for _, n := range line {
		d := math.Min(n.End, to) - math.Max(n.Start, from)
		if d <= 0 {
			continue
		}
		u := byName[n.Note]
		if u == nil {
			u = &NoteUse{Note: n.Note}
			byName[n.Note] = u
		}
		u.Hz, u.Cents, u.Share = u.Hz+d*n.Hz, u.Cents+d*n.Cents, u.Share+d
		total += d
	}
	for _, h := range hits {
		if n := meter.NoteAt(line, h.At+hitReach); n != nil {
			clear[n.Note] = append(clear[n.Note], h.Clearance)
		}
	}
	var out []NoteUse
	for name, u := range byName {
		u.Hz, u.Cents, u.Share = u.Hz/u.Share, u.Cents/u.Share, u.Share/total
		u.Hits, u.Clearance = len(clear[name]), meter.Median(clear[name])
		out = append(out, *u)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Share > out[j].Share })
	return out
}

// hitReach is how long after a hit the note is asked that it falls on, s: a note may begin with
// the hit, or a little late.
const hitReach = 0.03

// The kick's pitch options, semitones.
const kickOptions = 5

// KickOption is the kick at another pitch against the whole line.
type KickOption struct {
	Semitones int
	Hz        float64
	Clearance meter.Figure // median
	P10       meter.Figure
	Overlap   meter.Figure // median, %
	Clash     []string     // notes on which the median clearance misses the target
}

// KickTune is the id of the move that tunes the kick.
const KickTune = "tune-kick"

// KickOptions renders the kick from five semitones under to five over where it is now, and judges
// each against the line that the bass really plays.
func KickOptions(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, line []meter.BassNote) ([]KickOption, error) {
	var semitones []int
	for s := -kickOptions; s <= kickOptions; s++ {
		if c := TunedKick(song, 100*float64(s)); math.Abs(c.TriggerStem().Tuned()) <= move.TuneMost {
			semitones = append(semitones, s)
		}
	}
	out := make([]KickOption, len(semitones))
	g, ctx := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	for i := range out {
		g.Go(func() error {
			c := TunedKick(song, 100*float64(semitones[i]))
			p, err := r.Pair(ctx, &c, w)
			if err != nil {
				return err
			}
			f, err := r.Figures(ctx, p)
			if err != nil {
				return err
			}
			o := KickOption{Semitones: semitones[i], Hz: p.Meter.HomeHz, Clearance: f.ClearanceMedian, P10: f.ClearanceP10, Overlap: f.OverlapMedian}
			rate := float64(song.Rate)
			for _, n := range Notes(line, f.Hits, float64(w.From)/rate, float64(w.To)/rate) {
				if n.Clearance.Valid() && float64(n.Clearance) < song.Targets.Clearance-shown {
					o.Clash = append(o.Clash, n.Note)
				}
			}
			out[i] = o
			return nil
		})
	}
	return out, g.Wait()
}

// TunedKick returns the song with its kick tuned by cents from where it is now.
func TunedKick(song *session.Song, cents float64) session.Song {
	c := *song
	c.Stems = append([]session.Stem(nil), song.Stems...)
	if st := song.TriggerStem(); st != nil {
		k := c.Stem(st.ID)
		k.SetMove(kickTuned(k, cents))
	}
	return c
}

// kickTuned is the move that tunes a kick by cents from where it is now; one that is back where it began goes out.
func kickTuned(st *session.Stem, cents float64) move.Move {
	now := 0.0
	if m := st.Move(KickTune); m != nil && !m.Off {
		now = m.Params.(*move.Tune).Cents
	}
	m := move.Move{ID: KickTune, Params: &move.Tune{Cents: now + cents, Trigger: session.KickTrigger}}
	if math.Abs(now+cents) < 1e-9 {
		m.Params = nil
	}
	return m
}

// Detune returns the move that takes a line's own error away: all notes by the same cents, or each
// by its own. The notes are those of the file, before any tuning.
func Detune(line []meter.BassNote, cents float64, each bool) move.Move {
	t := &move.Tune{Cents: math.Round(10*cents) / 10}
	last := -1.0
	for _, n := range line {
		if n.Start <= last || n.Start < 0 {
			continue
		}
		note := move.NoteTune{At: n.Start}
		if each {
			note.Cents = math.Round(10*(-n.Cents-t.Cents)) / 10
		}
		t.Notes = append(t.Notes, note)
		last = n.Start
	}
	return move.Move{ID: session.BassTune, Params: t}
}

const (
	levelFrom  = 0.02 // s after a note's start from which its level is taken
	levelTo    = 0.22
	levelLeast = 0.10 // s: shorter notes are not asked
)

// LevelSteps returns the spread of the levels of a line's notes in dB, 10th to 90th percentile, and
// how many were asked. env is the smoothed amplitude of the bass in 20-150 Hz, one value a ms,
// beginning at from, s.
func LevelSteps(line []meter.BassNote, env []float32, from float64) (spread meter.Figure, notes int) {
	var levels []meter.Figure
	for _, n := range line {
		a, b := n.Start+levelFrom, math.Min(n.Start+levelTo, n.End)
		lo, hi := int((a-from)/meter.EnvelopeStep), int((b-from)/meter.EnvelopeStep)
		if b-a < levelLeast-levelFrom || lo < 0 || hi > len(env) {
			continue
		}
		sum := 0.0
		for _, v := range env[lo:hi] {
			sum += float64(v) * float64(v)
		}
		if sum > 0 {
			levels = append(levels, meter.Figure(10*math.Log10(sum/float64(hi-lo))))
		}
	}
	if len(levels) < 2 {
		return meter.None, len(levels)
	}
	return meter.Percentile(levels, 0.9) - meter.Percentile(levels, 0.1), len(levels)
}
