package shell

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/core/audio"
	"mellowthump/core/compare"
	"mellowthump/core/mix"
)

// Side is something that a loop can be heard as: a revision of a song, with or without a part of what was done, or a finished track.
type Side struct {
	Rev  int64  `json:"rev"`
	Of   string `json:"of"` // as in the addresses of the deck's Before; empty: as it is
	Name string `json:"name"`
}

// BlindKind is the kind of a stored test for the ears that is a blind test.
const BlindKind = "blind"

// BlindTest is a blind test of two sides as it is stored.
type BlindTest struct {
	compare.Blind
	Sides  [2]Side    `json:"sides"` // A and B
	Solo   mix.Solo   `json:"solo"`
	Window mix.Window `json:"window"`
}

// ReadBlind reads a stored blind test.
func ReadBlind(e store.Ears) (BlindTest, error) {
	var t BlindTest
	if err := json.Unmarshal([]byte(e.Body), &t); err != nil {
		return t, fmt.Errorf("a blind test: %w", err)
	}
	return t, nil
}

// Said says what came of a test, and of what it was.
func (t BlindTest) Said() string {
	return t.Sides[0].Name + " and " + t.Sides[1].Name + ": " + t.Says(t.Sides[0].Name, t.Sides[1].Name)
}

// Sides are those of a song as it is now.
func (s *Server) Sides(v *View) []Side {
	out := []Side{{v.Rev, string(ask.Now), "the song as it is"}, {v.Rev, string(ask.Brought), "as I brought it"}}
	for _, st := range s.stages {
		if st.Before != nil {
			out = append(out, Side{v.Rev, ask.Before{As: ask.OfStage, Of: st.Key}.String(), st.BeforeName})
		}
	}
	for _, at := range v.Places() {
		chain, name := v.Song.Chain(at)
		for _, m := range *chain {
			if !m.Off {
				out = append(out, Side{v.Rev, ask.Before{As: ask.OfMove, At: at, Of: m.ID}.String(), "without " + strings.ToLower(m.Params.Kind().Label) + ", " + name})
			}
		}
	}
	for _, r := range v.Song.References {
		out = append(out, Side{v.Rev, ask.Before{As: ask.OfTrack, Of: r.ID}.String(), "the track " + r.Name})
	}
	return out
}

// RenderSide renders a loop of a side, going round.
func (s *Server) RenderSide(ctx context.Context, id string, side Side, solo mix.Solo, w mix.Window) (audio.Buffer, error) {
	song, err := s.Store.At(ctx, id, side.Rev)
	if err != nil {
		return audio.Buffer{}, err
	}
	of := ask.Before{As: ask.Now}
	if side.Of != "" {
		if of, err = ask.ParseBefore(side.Of); err != nil {
			return audio.Buffer{}, err
		}
	}
	whole := &store.Song{ID: id, Rev: side.Rev, Song: song}
	if of.As == ask.OfTrack {
		v := &View{Song: whole}
		ref := v.reference(of)
		if ref == nil {
			return audio.Buffer{}, errors.New("that finished track is no longer there")
		}
		if v.Bench, err = s.Bench(ctx, &song); err != nil {
			return audio.Buffer{}, err
		}
		return v.Bench.ReferenceLoop(ctx, *ref, w)
	}
	heard, err := s.before(ctx, whole, of)
	if err != nil {
		return audio.Buffer{}, errors.New("that move is no longer there")
	}
	return s.Renderer.Looped(ctx, &heard, solo, w)
}
