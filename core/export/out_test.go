package export

import (
	"context"
	"encoding/binary"
	"encoding/csv"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"runtime/debug"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// disk is a library of files that lie on a disk, as those of the program do: the demo's stems, again and again.
type disk struct {
	*mix.Memory // of one time
	dir         string
	once, all   float64 // s
}

func (d disk) Open(sha string) (audio.Source, func() error, error) {
	f, err := os.Open(filepath.Join(d.dir, sha))
	if err != nil {
		return nil, nil, err
	}
	st, err := f.Stat()
	if err != nil {
		return nil, nil, err
	}
	src, err := wav.NewReader(f, st.Size())
	return src, f.Close, err
}

func (d disk) Onsets(sha string) ([]meter.Onset, error) {
	once, err := d.Memory.Onsets(sha)
	var out []meter.Onset
	for at := 0.0; at < d.all; at += d.once {
		for _, o := range once {
			o.At += at
			out = append(out, o)
		}
	}
	return out, err
}

// onDisk writes the stems of a song, so many seconds long.
func onDisk(b *testing.B, song *session.Song, seconds float64) mix.Library {
	b.Helper()
	lib := disk{&mix.Memory{}, b.TempDir(), 0, seconds}
	for i, s := range demo.SlowFerry().Stems {
		sha := fmt.Sprintf("%064x", i+1)
		lib.Put(sha, s.Sound)
		lib.once = float64(s.Sound.Frames()) / float64(s.Sound.Rate)
		long := audio.New(s.Sound.Rate, len(s.Sound.Ch), int(seconds*float64(s.Sound.Rate)))
		for c, ch := range long.Ch {
			for at := 0; at < len(ch); at += len(s.Sound.Ch[c]) {
				copy(ch[at:], s.Sound.Ch[c])
			}
		}
		f, err := os.Create(filepath.Join(lib.dir, sha))
		if err == nil {
			err = wav.Write(f, long, wav.Int24)
		}
		if err == nil {
			err = f.Close()
		}
		if err != nil {
			b.Fatal(err)
		}
		if _, err := lib.Onsets(sha); err != nil { // measured at the import
			b.Fatal(err)
		}
	}
	return lib
}

// resident is how much memory the process holds now, MB.
func resident(b *testing.B) float64 {
	b.Helper()
	text, err := os.ReadFile("/proc/self/statm")
	if err != nil {
		return math.NaN()
	}
	var all, held float64
	if _, err := fmt.Sscan(string(text), &all, &held); err != nil {
		return math.NaN()
	}
	return held * float64(os.Getpagesize()) / 1e6
}

// worked is the demo song, as long as is asked, with a move of every kind that works on the sound in use.
func worked(seconds float64) (*mix.Renderer, *session.Song) {
	d := demo.SlowFerry()
	lib, song := &mix.Memory{}, d.Song
	for i, s := range d.Stems {
		long := audio.New(s.Sound.Rate, len(s.Sound.Ch), int(seconds*float64(s.Sound.Rate)))
		for c, ch := range long.Ch {
			for at := 0; at < len(ch); at += len(s.Sound.Ch[c]) {
				copy(ch[at:], s.Sound.Ch[c])
			}
		}
		s.Audio = fmt.Sprintf("%064x", i+1)
		lib.Put(s.Audio, long)
		song.Stems = append(song.Stems, s.Stem)
	}
	put := func(stem string, moves ...move.Params) {
		for i, p := range moves {
			song.Stem(stem).SetMove(move.Move{ID: fmt.Sprintf("m%d", i+1), Params: p})
		}
	}
	put("kick-top", &move.Polarity{}, &move.Filter{Shape: dsp.Highpass, Hz: 90, Slope: 24})
	put(
		"808",
		&move.Drive{Adds: move.DriveBoth, Drive: 9, Over: 120, Level: -9},
		&move.Compress{Threshold: -20, Ratio: 3, Knee: 6, Attack: 30, Release: 200, BackHz: 50},
		move.StartingDuck(),
	)
	put("snare", &move.Attack{Attack: 3}, &move.SoftClip{Threshold: -6, Knee: 3})
	put("clap", &move.AttackBands{LowHz: 120, HighHz: 2500, MidAttack: 3})
	put(
		"bell",
		&move.Filter{Shape: dsp.Highpass, Hz: 150, Slope: 24},
		&move.Ring{Hz: 900, Q: 4, Range: 6, Threshold: -40, Ratio: 4, Attack: 5, Release: 100, Channels: "stereo"},
		&move.Parallel{Over: 340, Attack: 6, Drive: 6, Level: -12},
	)
	put(
		"pad",
		&move.SideCut{Hz: 200, Slope: 24},
		&move.KeyedBell{Trigger: session.KickTrigger, Hz: 250, Q: 2, Range: 4, Channels: "mid", Threshold: -40, Ratio: 4, Attack: 5, Release: 100},
	)
	put("texture", &move.MidSide{Channels: "side", Shape: dsp.LowShelf, Hz: 200, Q: 0.7, DB: -6})
	song.Bus("drums").Moves = move.Chain{{ID: "glue", Params: &move.Compress{Threshold: -18, Ratio: 2, Knee: 6, KeyHz: 150, Attack: 30, Release: 200, BackHz: 50}}}
	song.Bus("music").Moves = move.Chain{
		{ID: "bands", Params: &move.Bands{LowHz: 120, HighHz: 2500, Depth: 50, Low: -30, Mid: -30, High: -40, Attack: 10, Release: 120}},
	}
	song.Master.Moves = move.Chain{{ID: "mono", Params: &move.MonoBelow{Hz: 120}}}.
		With(
			move.Move{ID: session.PrintClip, Params: &move.SoftClip{Threshold: -3, Knee: 3}},
		).With(move.Move{ID: session.PrintLimit, Params: &move.Limit{Drive: 3, Ceiling: -1, Ahead: 3, Release: 120}})
	return mix.New(lib, 32<<20), &song
}

// The sheet has a row for every gain and every move that is on, none for what is off.
func TestSheet(t *testing.T) {
	_, song := worked(1)
	song.Stem("pad").Fader = -4.5
	song.Master.Moves[0].Off = true
	body, err := Sheet(song).Bytes(context.Background())
	if err != nil {
		t.Fatal(err)
	}
	rows, err := csv.NewReader(strings.NewReader(string(body))).ReadAll()
	if err != nil {
		t.Fatal(err)
	}
	moves := 0
	for _, at := range song.Places() {
		chain, _ := song.Chain(at)
		moves += len(chain.Active())
	}
	words := 0
	for _, r := range rows[1:] {
		if r[4] != "" {
			words++
		}
	}
	all := fmt.Sprint(rows)
	if words != moves || !strings.Contains(all, "[Pad track −4.5 dB") || strings.Contains(all, "mono below") || !strings.Contains(all, "limiter at −1 dBTP") {
		t.Errorf("%d rows of %d moves: %s", words, moves, all)
	}
}

// What is asked goes out, each once, in its order, with names that differ; nothing is none.
func TestOut(t *testing.T) {
	r, song := worked(2)
	song.Stem("pad").Name = song.Stem("bell").Name
	ctx, none := context.Background(), func(float64) {}
	files, err := Out(ctx, r, song, Order{What: []string{"stems", "hits", "premaster", "archive"}, Form: "flac"}, t.TempDir(), nil, none)
	if err != nil {
		t.Fatal(err)
	}
	seen := map[string]bool{}
	for _, f := range files {
		if seen[f.Name] {
			t.Errorf("%s is there twice", f.Name)
		}
		seen[f.Name] = true
	}
	if len(files) != 1+12+1+1 || !strings.Contains(files[0].Name, "premaster") || files[len(files)-1].Name != "checksums.sha256" ||
		!strings.HasSuffix(files[1].Name, ".flac") {
		t.Errorf("%d files, the first %s", len(files), files[0].Name)
	}
	// one pass is what each is by itself
	if files, err = Out(ctx, r, song, Order{What: []string{"premaster", "copy", "stems", "buses"}, Form: "wav32"}, t.TempDir(), nil, none); err != nil {
		t.Fatal(err)
	}
	frames, err := r.Length(song)
	if err != nil {
		t.Fatal(err)
	}
	plain := song.Unprinted()
	for _, f := range files {
		want := File{}
		switch {
		case strings.Contains(f.Name, "premaster"):
			want = Print(r, &plain, mix.Tap{}, frames, "x", "wav32")
		case strings.Contains(f.Name, "copy"):
			want = Print(r, song, mix.Tap{}, frames, "x", "wav16")
		case strings.Contains(f.Name, "808"):
			want = Print(r, song, mix.Tap{Stem: "808"}, frames, "x", "wav32")
		case strings.Contains(f.Name, "Music"):
			want = Print(r, song, mix.Tap{Bus: "music"}, frames, "x", "wav32")
		default:
			continue
		}
		a, err := f.Bytes(ctx)
		if err != nil {
			t.Fatal(err)
		}
		b, err := want.Bytes(ctx)
		if err != nil || len(a) != len(b) {
			t.Fatalf("%s: %d and %d bytes, %v", f.Name, len(a), len(b), err)
		}
		if strings.Contains(f.Name, "copy") { // dithered
			continue
		}
		off := float32(0)
		for i := len(a) % 4; i+4 <= len(a); i += 4 { // the heads are alike
			x, y := math.Float32frombits(binary.LittleEndian.Uint32(a[i:])), math.Float32frombits(binary.LittleEndian.Uint32(b[i:]))
			off = max(off, x-y, y-x)
		}
		if !(off <= 1e-6) {
			t.Errorf("%s differs by %g from what it is by itself", f.Name, off)
		}
	}
	for _, what := range [][]string{nil, {"nothing"}, {"archive"}} {
		if _, err := Out(ctx, r, song, Order{What: what, Form: ""}, t.TempDir(), nil, none); err == nil {
			t.Errorf("%v goes out", what)
		}
	}
	if _, err := Out(ctx, r, &session.Song{}, Order{What: []string{"mix"}, Form: ""}, t.TempDir(), nil, none); err == nil {
		t.Error("a song without stems goes out")
	}
}

// BenchmarkPrintOut prints three minutes of twelve stems with every kind of move in use: stems, premaster and listening copy;
// 15 s are asked on two processors, and under 600 MB.
func BenchmarkPrintOut(b *testing.B) {
	const seconds = 180
	_, song := worked(1)
	r := mix.New(onDisk(b, song, seconds), 32<<20)
	debug.FreeOSMemory() // what the demo was made of
	most := 0.0
	for b.Loop() {
		files, err := Out(
			context.Background(),
			r,
			song,
			Order{What: []string{"premaster", "copy", "stems", "sheet"}, Form: ""},
			b.TempDir(),
			nil,
			func(float64) { most = max(most, resident(b)) },
		)
		if err != nil {
			b.Fatal(err)
		}
		if err := Zip("x.zip", files).Write(context.Background(), io.Discard); err != nil {
			b.Fatal(err)
		}
	}
	b.ReportMetric(most, "MB")
}
