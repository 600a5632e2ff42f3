package room

import (
	"context"
	"fmt"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Files is what the stems of some files put under kick and bass, and what of them may go unheard.
type Files struct {
	Cellar meter.Figure `json:"cellar_db"` // kick and bass over the stems together in 20 to 150 Hz
	Stems  []FileCut    `json:"stems"`
}

// FileCut is one file.
type FileCut struct {
	File  string       `json:"file"`
	Freed meter.Figure `json:"freed_cellar_db"` // by the low cut in the mix
	Low   Corners      `json:"low_cut"`
	High  Corners      `json:"high_cut"`
}

// Corners are how far an end may go unheard, Hz; null where nothing can.
type Corners struct {
	Alone meter.Figure `json:"alone_hz"`
	Mix   meter.Figure `json:"mix_hz"`
	Slope int          `json:"slope_db_oct"`
}

// Named is a sound with its file's name.
type Named struct {
	Name   string
	Source audio.Source
}

// OfFiles judges aligned files over their whole length, at the kick's rate and as loud as they are: the mix is their sum.
func OfFiles(ctx context.Context, kick, bass audio.Source, stems []Named) (*Files, error) {
	lib := &mix.Memory{}
	k, err := lib.Bring("kick", kick, 0)
	if err != nil {
		return nil, err
	}
	b, err := lib.Bring("bass", bass, k.Rate)
	if err != nil {
		return nil, err
	}
	song := session.New("room", 120) // nothing that is worked out below depends on the tempo
	song.Rate = k.Rate
	song.Stems = []session.Stem{{ID: "kick", Name: "kick", Role: session.Kick, Audio: "kick"}, {ID: "bass", Name: "bass", Role: session.Bass, Audio: "bass"}}
	length := max(k.Frames(), b.Frames())
	for i, s := range stems {
		id := fmt.Sprintf("stem-%d", i+1)
		x, err := lib.Bring(id, s.Source, k.Rate)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", s.Name, err)
		}
		length = max(length, x.Frames())
		song.Stems = append(song.Stems, session.Stem{ID: id, Name: s.Name, Role: session.Other, Audio: id})
	}
	r, w := mix.New(lib, 1<<31), mix.Window{To: length}
	c, err := Measure(ctx, r, &song, w)
	if err != nil {
		return nil, err
	}
	cuts, err := Cuts(ctx, r, &song, w)
	if err != nil {
		return nil, err
	}
	out := &Files{Cellar: c.Under, Stems: []FileCut{}}
	hz := func(v float64) meter.Figure {
		if v == 0 {
			return meter.None
		}
		return meter.Figure(v)
	}
	slope := song.RoomRules().Slope
	for i, k := range cuts {
		f := FileCut{
			File:  stems[i].Name,
			Freed: k.Low.Cellar,
			Low:   Corners{hz(k.Low.Alone), hz(k.Low.Mix), slope},
			High:  Corners{hz(k.High.Alone), hz(k.High.Mix), slope},
		}
		if k.Low.Mix == 0 {
			f.Freed = meter.None
		}
		out.Stems = append(out.Stems, f)
	}
	return out, nil
}
