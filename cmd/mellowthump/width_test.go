package main

import (
	"encoding/json"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// The width of files: the fields by their names, the demo's pad told with the corner that cures it, a mono file with nulls;
// ffmpeg's mono costs what is said; bad input is one line.
func TestWidthOfFiles(t *testing.T) {
	outside.Slow(t)
	x := ferry()["pad"]
	pad := outside.WriteWAV(t, "pad.wav", x.Slice(0, 14*x.Rate), wav.Float32)
	mono := outside.WriteWAV(t, "mono.wav", audio.Buffer{Rate: x.Rate, Ch: x.Ch[:1]}.Slice(0, 3*x.Rate), wav.Float32)
	status, out, errs := command("width", pad, mono)
	if status != 0 {
		t.Fatal(status, errs)
	}
	for _, want := range []string{`"file"`, `"correlation"`, `"correlation_worst_tenth"`, `"fold_loss_db"`, `"fold_loss_lu"`, `"side_share_db"`, `"side_cut_hz"`,
		`"delay_ms"`, `"bands"`, `"hz"`} {
		if !strings.Contains(out, want) {
			t.Errorf("there is no %s", want)
		}
	}
	var got []struct {
		Worst *float64 `json:"correlation_worst_tenth"`
		LU    *float64 `json:"fold_loss_lu"`
		Side  *float64 `json:"side_cut_hz"`
		Delay *float64 `json:"delay_ms"`
		Bands []any    `json:"bands"`
	}
	if err := json.Unmarshal([]byte(out), &got); err != nil {
		t.Fatal(err)
	}
	p, m := got[0], got[1]
	if p.Worst == nil || *p.Worst > -0.2 || p.Side == nil || *p.Side < 150 || *p.Side > 400 || len(p.Bands) < 20 {
		t.Errorf("the pad: %s", out[:400])
	}
	if m.Worst != nil || m.LU != nil || m.Side != nil || m.Delay != nil || m.Bands == nil {
		t.Errorf("the mono file: %+v", m)
	}
	folded := audio.New(x.Rate, 2, 14*x.Rate)
	for i := range folded.Ch[0] {
		folded.Ch[0][i] = (x.Ch[0][i] + x.Ch[1][i]) / 2
		folded.Ch[1][i] = folded.Ch[0][i]
	}
	want := outside.EBUR128(t, pad).Integrated - outside.EBUR128(t, outside.WriteWAV(t, "folded.wav", folded, wav.Float32)).Integrated
	if p.LU == nil || math.Abs(*p.LU-want) > 0.11 {
		t.Errorf("mono costs %v LU, ffmpeg says %.1f", p.LU, want)
	}
	for args, c := range map[string]struct {
		status int
		say    string
	}{"width": {2, "at least one"}, "width none.wav": {1, "none.wav"}} {
		if status, out, errs := command(strings.Fields(args)...); status != c.status || out != "" || !strings.Contains(errs, c.say) {
			t.Errorf("%s: %d %q %q", args, status, out, errs)
		}
	}
}
