package duck

import (
	"context"
	"math"
	"sort"

	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// NotePart is a note of the bass and the part of the depth that its hits need.
type NotePart struct {
	Note string
	Hits int
	Part float64 // 0 to 1
}

// PerNote is a curve whose depth follows the notes of the bass: as deep as it was on those that clash
// most, less on the others.
type PerNote struct {
	Duck  *move.Duck
	Notes []NotePart
	Loss  float64 // of bass in 20-150 Hz with it, dB
	Same  float64 // with the same depth on every hit
}

const (
	partStep  = 0.1  // of the depth
	partSlack = 0.15 // dB that the trial at the low rate may flatter
)

// FitPerNote finds for every note of a line the least part of a curve's depth with which the hits on it
// reach the clearance that is asked, in 9 of 10. note names the note at a time in the song, s; empty where
// none is known: those hits keep the whole depth.
// Long because parts are tried, chosen and summed over the same hits.
func FitPerNote(m *meter.HitMeter, bass meter.Sound, d *move.Duck, bpm float64, goal Goal, note func(at float64) string) (*PerNote, error) {
	t, err := lowTrial(m, bass)
	if err != nil {
		return nil, err
	}
	at, err := d.AtTempo(bpm)
	if err != nil {
		return nil, err
	}
	at.Parts = nil
	parts := int(math.Round(1 / partStep))
	clear, lost := make([][]meter.Figure, parts+1), make([][]float64, parts+1)
	for p := range clear {
		c := *at
		c.Points = append([]move.Point(nil), at.Points...)
		for i := range c.Points {
			c.Points[i].DB *= float64(p) / float64(parts)
		}
		if err := goal.stopped(); err != nil {
			return nil, err
		}
		goal.did(float64(p) / float64(parts+1))
		clear[p], lost[p] = t.judgeHits(&c)
	}
	byNote := map[string][]int{}
	for i, h := range m.Hits {
		byNote[note(float64(h+m.Offset)/float64(m.Rate))] = append(byNote[note(float64(h+m.Offset)/float64(m.Rate))], i)
	}
	chosen := make([]int, len(m.Hits))
	out := &PerNote{}
	for name, hits := range byNote {
		p := parts
		for ; name != "" && p > 0; p-- {
			var c []meter.Figure
			for _, i := range hits {
				c = append(c, clear[p-1][i])
			}
			if worst(c) < goal.Clearance+partSlack {
				break
			}
		}
		for _, i := range hits {
			chosen[i] = p
		}
		if name != "" {
			out.Notes = append(out.Notes, NotePart{name, len(hits), float64(p) / float64(parts)})
		}
	}
	sort.Slice(out.Notes, func(i, j int) bool {
		a, b := out.Notes[i], out.Notes[j]
		return a.Part > b.Part || a.Part == b.Part && a.Note < b.Note
	})
	sum, same := 0.0, 0.0
	c := *d
	c.Parts = nil
	for i, p := range chosen {
		sum, same = sum+lost[p][i], same+lost[parts][i]
		if p < parts {
			c.Parts = append(c.Parts, move.HitPart{At: float64(m.Hits[i]+m.Offset) / float64(m.Rate), Part: float64(p) / float64(parts)})
		}
	}
	out.Duck, out.Loss, out.Same = &c, t.lossOf(sum), t.lossOf(same)
	return out, nil
}

// FitSongPerNote is FitPerNote for the song's own curve over a window; nil where it has none.
func FitSongPerNote(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, line []meter.BassNote) (*PerNote, error) {
	d, off := song.Duck()
	if d == nil || off || d.Keyed() || len(line) == 0 || song.Leader == session.BassLeads {
		return nil, nil
	}
	plain := song.Unducked()
	p, err := r.Pair(ctx, &plain, w)
	if err != nil {
		return nil, err
	}
	goal := goalOf(ctx, song)
	return mix.Cached(ctx, r.Cache, mix.Key("per note", p.Key(), d, song.BPM, goal, line), func() (*PerNote, int, error) {
		mix.Doing(ctx, "Trying each note's own depth")
		n, err := FitPerNote(p.Meter, p.Bass, d, song.BPM, goal, func(at float64) string {
			for _, n := range line {
				if at+0.03 >= n.Start && at+0.03 < n.End { // a note may begin a little late
					return n.Note
				}
			}
			return ""
		})
		return n, 4096, err
	})
}
