package pair

import (
	"fmt"
	"math"
	"sort"
	"strings"

	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// EarlyHandover is the handover that is aimed at where the bass leads, ms: own choice, a little
// after the kick's click.
const EarlyHandover = 50.0

// Proposal is a value that the files suggest for the song.
type Proposal struct{ What, Why, Field, Value string }

const (
	gridTell  = 0.02 // s by which hits may miss the grid unremarked
	tempoSure = 0.15 // confidence from which a tempo is spoken of
	tempoTake = 0.9  // confidence from which it is taken where nobody said one
	tempoNear = 0.004
	rootShare = 0.3 // of the time on one note, from which it is called the root
)

// Proposals suggests tempo, grid, leader and key where the files tell and the song says otherwise. st is how kick and
// bass were judged, nil where they could not be.
func Proposals(b *bench.Bench, st *State) []Proposal {
	song := b.Song
	out := tempo(b)
	if st != nil && song.Leader == session.KickLeads && st.Before.HandoverMedian.Valid() && st.Before.HandoverMedian < EarlyHandover &&
		st.Before.ClearanceMedian < 0 {
		out = append(
			out,
			Proposal{
				"bass leads",
				fmt.Sprintf("The bass takes over %.0f ms after the hit and sits over the kick in the median.", float64(st.Before.HandoverMedian)),
				"leader",
				"bass",
			},
		)
	}
	if basses := song.ByRole(session.Bass); len(basses) > 0 && song.Key == "" && b.Facts[basses[0].Audio] != nil {
		if root, share := facts.LineRoot(facts.Line(b.Facts[basses[0].Audio], basses[0].MIDI)); root != "" && share > rootShare {
			out = append(out, Proposal{"root " + root, fmt.Sprintf("%s stands on %s for %.0f %% of its time.", basses[0].Name, root, 100*share), "key", root})
		}
	}
	return out
}

// Tempo is what the hits say of a song's grid: those of the stem that gives the hits and of the snares; where no stem is the
// kick, of the drums that it is in. nil where they are too few.
func Tempo(song *session.Song, known map[string]*facts.Analysis) *meter.Tempo {
	var hits []float64
	trigger := song.TriggerStem()
	for _, st := range song.Stems {
		drums := trigger == nil && (st.Role == session.Drums || st.Role == session.Perc) // where no stem is the kick, it is in one of these
		if a := known[st.Audio]; a != nil && (st.Role == session.Snare || drums || trigger != nil && st.ID == trigger.ID) {
			hits = append(hits, a.Onsets...)
		}
	}
	sort.Float64s(hits)
	return meter.EstimateTempo(hits, nil)
}

// WithTempo is an edit of stems after which a song of which nobody said the tempo has that of its hits, where they are sure; where
// they are no longer, it goes back. It looks at the song that the edit comes to, before the database is held. Known are the facts of a file, by its hash.
type WithTempo struct {
	session.Edit
	Known func(audio string) *facts.Analysis
}

// Apply makes the edit and says what it did; where it came to a tempo, that as well.
func (e WithTempo) Apply(s *session.Song) (string, error) {
	said, err := e.Edit.Apply(s)
	if err != nil || said == "" || s.FromHits == nil {
		return said, err
	}
	known := map[string]*facts.Analysis{}
	for _, st := range s.Stems {
		known[st.Audio] = e.Known(st.Audio)
	}
	take := session.HitsTempo{}
	if t := Tempo(s, known); t != nil && t.Confidence >= tempoTake {
		take = session.HitsTempo{BPM: bpmOf(t), Grid: math.Round(1e4*t.Offset) / 1e4, Sure: math.Round(100*t.Confidence) / 100}
		if take.Grid < gridTell { // stems are mostly bounced from a bar's start
			take.Grid = 0
		}
		near := math.Abs(math.Remainder(take.Grid-s.Grid, s.BarSeconds())) < gridTell
		if s.FromHits.Taken() && math.Abs(take.BPM/s.BPM-1) < tempoNear && near {
			return said, nil // it is the same
		}
	}
	with := s.Clone()
	tempo, err := take.Apply(&with)
	if err != nil || tempo == "" {
		return said, nil // a tempo that cannot be taken is proposed
	}
	*s = with
	return said + "; " + strings.ToLower(tempo[:1]) + tempo[1:], nil
}

// bpmOf is a tempo as it is proposed: to a tenth.
func bpmOf(t *meter.Tempo) float64 { return math.Round(t.BPM*10) / 10 }

// tempo suggests the tempo of the hits, or where the song's own has its first bar.
func tempo(b *bench.Bench) []Proposal {
	song := b.Song
	t := Tempo(song, b.Facts)
	if t == nil || t.Confidence <= tempoSure || song.FromHits.Taken() {
		return nil
	}
	same := math.Abs(t.BPM/song.BPM-1) < tempoNear
	for _, o := range t.Others {
		same = same || math.Abs(o/song.BPM-1) < tempoNear
	}
	if !same {
		bpm := bpmOf(t)
		return []Proposal{
			{
				fmt.Sprintf("%g bpm", bpm),
				fmt.Sprintf("The hits stand on a grid of %g bpm (or %s)%s, from %.3f s on; %.0f %% sure.", bpm, tempi(t.Others), swung(t), t.Offset, 100*t.Confidence),
				"bpm",
				fmt.Sprintf("%g", bpm),
			},
		}
	}
	if d := math.Abs(math.Remainder(t.Offset-song.Grid, 60/song.BPM)); d > gridTell {
		at := math.Round(10000*t.Offset) / 10
		return []Proposal{{fmt.Sprintf("first bar at %g ms", at), "The hits stand beside the grid; from there on they meet it.", "grid", fmt.Sprintf("%g", at)}}
	}
	return nil
}

// tempi lists tempi, "71, 284 or 213".
func tempi(bpm []float64) string {
	words := make([]string, len(bpm))
	for i, b := range bpm {
		words[i] = fmt.Sprintf("%g", math.Round(b*10)/10)
	}
	return figure.List(words, "or")
}

// swung says how a grid is swung; empty where it is straight.
func swung(t *meter.Tempo) string {
	if t.Swung == 0 {
		return ""
	}
	return fmt.Sprintf(", its %s swung at %.0f %%", map[int]string{8: "eighths", 16: "sixteenths"}[t.Swung], 100*t.Swing)
}
