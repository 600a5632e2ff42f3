package body

import (
	"context"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// File is what the hits or the notes of one file weigh.
type File struct {
	Spread meter.Figure `json:"spread_db"`
	Attack meter.Figure `json:"attack_db"`
	Items  []FileItem   `json:"items"`
}

// FileItem is one hit or note.
type FileItem struct {
	At     float64      `json:"at_s"`
	Weight meter.Figure `json:"weight_db"`
	Click  meter.Figure `json:"click_db"`
	Tone   meter.Figure `json:"tone_db"`
}

// OfFile weighs the hits of a kick, or the notes of a bass, over its whole length.
func OfFile(ctx context.Context, src audio.Source, role session.Role) (*File, error) {
	lib := &mix.Memory{}
	x, err := lib.Bring(string(role), src, 0)
	if err != nil {
		return nil, err
	}
	song := session.New("body", 120) // nothing that is worked out below depends on the tempo
	song.Rate = x.Rate
	song.Stems = []session.Stem{{ID: string(role), Name: string(role), Role: role, Audio: string(role)}}
	song.Settle()
	var line []meter.BassNote
	if role == session.Bass {
		low, fs := meter.Low(x.Mono(), x.Rate)
		line = meter.BassLine(low, fs)
	}
	out := &File{Spread: meter.None, Attack: meter.None, Items: []FileItem{}}
	p, ok := Of(&song, string(role))
	if !ok {
		return out, nil
	}
	w, err := WeighWhole(ctx, mix.New(lib, 1<<28), &song, p, line, mix.Window{To: x.Frames()})
	if err != nil {
		return nil, err
	}
	out.Spread, out.Attack = w.Spread, w.Attack
	for _, it := range w.Items {
		out.Items = append(out.Items, FileItem{it.At, it.Weight, it.Click, it.Tone})
	}
	return out, nil
}
