package export

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"

	"mellowthump/core/archive"
	"mellowthump/core/figure"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Going is what can go out of a song in one job.
type Going struct{ Key, Label string }

// Goings are all of it, in the order in which it is written.
var Goings = []Going{
	{"premaster", "premaster, 32-bit float"}, {"copy", "listening copy, 16 bit, dithered"}, {"mix", "mix as the deck plays it"}, {"stems", "stems, aligned"}, {"buses", "buses"}, {"sheet", "settings sheet (CSV)"}, {"hits", "hits (CSV)"}, {"archive", "archive: the song with its audio"},
}

// Out are the files of what goes out of a song: all sound aligned, as long as the longest stem, its form that of Forms or "flac" where no other is named; the last is the list of
// SHA-256 checksums. Names are Safe and differ. open gives the file of a hash for the archive; nil: there is none.
func Out(r *mix.Renderer, song *session.Song, what []string, form string, open func(sha string) (io.ReadCloser, error)) ([]File, error) {
	frames, err := r.Length(song)
	if err != nil {
		return nil, err
	}
	if frames == 0 {
		return nil, ErrNoPart
	}
	plain := song.Unprinted()
	var out []File
	for _, g := range Goings {
		if !slices.Contains(what, g.Key) {
			continue
		}
		switch g.Key {
		case "premaster":
			out = append(out, Print(r, &plain, mix.Tap{}, frames, song.Name+" premaster", "wav32"))
		case "copy":
			out = append(out, Print(r, song, mix.Tap{}, frames, song.Name+" listening copy", "wav16"))
		case "mix":
			out = append(out, Print(r, song, mix.Tap{}, frames, song.Name+" mix", form))
		case "stems":
			for i := range song.Stems {
				if st := &song.Stems[i]; !st.Mute {
					out = append(out, Print(r, song, mix.Tap{Stem: st.ID}, frames, fmt.Sprintf("stem %02d %s", i+1, st.Name), form))
				}
			}
		case "buses":
			for _, b := range song.Buses {
				if !b.Mute {
					out = append(out, Print(r, song, mix.Tap{Bus: b.ID}, frames, "bus "+b.Name, form))
				}
			}
		case "archive":
			if open != nil {
				out = append(out, File{Name: Safe(song.Name + " archive.zip"), Type: TypeZip, Write: func(ctx context.Context, w io.Writer) error { return archive.Write(ctx, w, song, open) }})
			}
		case "sheet":
			out = append(out, Sheet(song))
		case "hits":
			f, err := Hits(r, song)
			if err == nil {
				out = append(out, f)
			}
		}
	}
	if len(out) == 0 {
		return nil, ErrNoPart
	}
	z := Zip("x", out).Parts // with names that differ
	sums := make([]hash.Hash, len(z))
	for i := range z {
		write := z[i].Write
		sums[i] = sha256.New()
		z[i].Write = func(ctx context.Context, w io.Writer) error {
			sums[i].Reset()
			return write(ctx, io.MultiWriter(w, sums[i]))
		}
	}
	return append(z, File{Name: "checksums.sha256", Type: "text/plain; charset=utf-8", Write: func(_ context.Context, w io.Writer) error {
		for i, f := range z {
			if _, err := fmt.Fprintf(w, "%s  %s\n", hex.EncodeToString(sums[i].Sum(nil)), f.Name); err != nil {
				return err
			}
		}
		return nil
	}}), nil
}

// Sheet is all that a song does, a row each: the gains of every stem, bus and the master, and every move that is on, in general terms.
func Sheet(song *session.Song) File {
	rows := [][]string{{"place", "what", "value", "unit", "words", "why"}}
	gain := func(place, what string, v float64, unit string) {
		if v != 0 {
			rows = append(rows, []string{place, what, figure.Signed(v, -1), unit, "", ""})
		}
	}
	chain := func(place string, moves move.Chain) {
		for _, m := range moves.Active() {
			rows = append(rows, []string{place, strings.ToLower(m.Params.Kind().Label), "", "", move.Words(m.Params), m.Why})
		}
	}
	for i := range song.Stems {
		st := &song.Stems[i]
		if b := song.Bus(st.Bus); b != nil {
			rows = append(rows, []string{st.Name, "bus", b.Name, "", "", ""})
		}
		if st.Mute {
			rows = append(rows, []string{st.Name, "muted", "", "", "", ""})
		}
		gain(st.Name, "source", st.Source, "dB")
		gain(st.Name, "clip", st.Clip, "dB")
		chain(st.Name, st.Moves)
		gain(st.Name, "track", st.Fader, "dB")
		gain(st.Name, "pan", 100*st.Pan, "%")
		gain(st.Name, "width", 100*st.Width, "%")
	}
	for i := range song.Buses {
		b := &song.Buses[i]
		chain("bus "+b.Name, b.Moves)
		gain("bus "+b.Name, "fader", b.Fader, "dB")
	}
	chain("master", song.Master.Moves)
	gain("master", "fader", song.Master.Fader, "dB")
	return CSV(song.Name+" settings.csv", ',', rows)
}
