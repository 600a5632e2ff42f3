package export

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"mellowthump/core/field"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/room"
	"mellowthump/core/session"
)

// detailed is the number of fields from which a move is told field by field.
const detailed = 6

// Moves is a settings sheet: the moves of all chains that keep names, on, in general terms, to be set by hand elsewhere, and
// what is to be expected of them. ErrNoPlan where there are none.
func Moves(title string, song *session.Song, keep func(move.Move) bool, expect []string) (File, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "%s: %s\n%g bpm\n", song.Name, title, song.BPM)
	n := 0
	for _, at := range song.Places() {
		chain, name := song.Chain(at)
		if name == "the master" {
			name = "Master"
		}
		for _, m := range *chain {
			if m.Off || !keep(m) {
				continue
			}
			if name != "" {
				fmt.Fprintf(&b, "\n%s\n", name)
				name = ""
			}
			fmt.Fprintf(&b, "  %s: %s\n", m.Params.Kind().Label, move.Words(m.Params))
			if m.Why != "" {
				fmt.Fprintf(&b, "    %-14s %s\n", "why", m.Why)
			}
			fields := slices.DeleteFunc(m.Params.Fields(), func(f field.Field) bool { return f.Idle })
			if len(fields) < detailed { // its words say it all
				fields = nil
			}
			for _, f := range fields {
				words := f.Words()
				if f.Trigger {
					if t := song.Trigger(f.String()); t != nil {
						words = t.Name + " sounds; its key is taken before the fader"
						if t.Post {
							words = t.Name + " sounds; its key is taken behind the fader"
						}
					}
				}
				fmt.Fprintf(&b, "    %-14s %s\n", f.Label, words)
			}
			n++
		}
	}
	if n == 0 {
		return File{}, ErrNoPlan
	}
	if len(expect) > 0 {
		fmt.Fprintf(&b, "\nWhat to expect\n")
		for _, e := range expect {
			fmt.Fprintf(&b, "  %s\n", e)
		}
	}
	fmt.Fprintf(
		&b,
		"\nGains of files that peak elsewhere move thresholds by as much. High-passes and low-passes are Butterworth's.\nCompare by ear at matched loudness; the "+
			"ears decide.\n",
	)
	return Text(song.Name+" "+title+".txt", b.String()), nil
}

// RoomSettings are the settings of Room's moves, and what they bring over a window.
func RoomSettings(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (File, error) {
	there := false
	for _, at := range song.Places() {
		chain, _ := song.Chain(at)
		there = there || slices.ContainsFunc(*chain, func(m move.Move) bool { return !m.Off && session.OfRoom(m) })
	}
	if !there { // nothing is rendered for nothing
		return File{}, ErrNoPlan
	}
	plain := song.Unroomed()
	var expect []string
	var cellar, peak [2]meter.Figure
	for k, s := range []*session.Song{&plain, song} {
		c, err := room.Measure(ctx, r, s, w)
		if err != nil {
			return File{}, err
		}
		x, _, err := r.Solo(ctx, s, mix.SoloAll, w)
		if err != nil {
			return File{}, err
		}
		cellar[k], peak[k] = c.Under, meter.PeakDB(x.Ch...)
	}
	if cellar[0].Valid() && cellar[1].Valid() {
		expect = append(expect, fmt.Sprintf("the rest under kick and bass, 20 to 150 Hz  %s to %s dB", signed1(cellar[0]), signed1(cellar[1])))
	}
	expect = append(expect, fmt.Sprintf("peak of the mix                             %s to %s dBFS", signed1(peak[0]), signed1(peak[1])))
	return Moves("Room settings", song, session.OfRoom, expect)
}

// BodySettings are the settings of Body's moves.
func BodySettings(song *session.Song) (File, error) {
	return Moves("Body settings", song, session.OfBody, nil)
}

// WidthSettings are the settings of Width's moves.
func WidthSettings(song *session.Song) (File, error) {
	return Moves("Width settings", song, session.OfWidth, nil)
}

// CompareSettings are the settings of Compare's match.
func CompareSettings(song *session.Song) (File, error) {
	return Moves("Match to a finished track", song, session.OfCompare, nil)
}
