package export

import (
	"archive/zip"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"io"
	"math"
	"strconv"
	"strings"
	"testing"
	"unicode/utf8"

	"mellowthump/core/audio"
	"mellowthump/core/audio/codec"
	"mellowthump/core/duck"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

const rate = 44100

// song is two seconds of a kick, a bass with a duck on, and a stereo pad.
func song() (*mix.Renderer, *session.Song) {
	lib := &mix.Memory{}
	kick, bass, pad := audio.New(rate, 1, 2*rate), audio.New(rate, 1, 2*rate), audio.New(rate, 2, rate)
	for h := range 4 {
		for i := range rate / 4 {
			s := float64(i) / rate
			kick.Ch[0][h*rate/2+i] = float32(0.7 * math.Sin(2*math.Pi*52*s) * math.Exp(-s/0.08))
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] = float32(0.4 * math.Sin(2*math.Pi*46*float64(i)/rate))
	}
	for i := range pad.Ch[0] {
		pad.Ch[0][i], pad.Ch[1][i] = 0.1, -0.2
	}
	s := session.New(`Low: "Tide"`, 120)
	s.Rate = rate
	for _, p := range []struct {
		id   string
		role session.Role
		b    audio.Buffer
	}{{"k", session.Kick, kick}, {"b", session.Bass, bass}, {"p", session.Melodic, pad}} {
		lib.Put(p.id, p.b)
		s.Stems = append(s.Stems, session.Stem{ID: p.id, Name: p.id, Role: p.role, Audio: p.id})
	}
	s.Settle()
	s.SetDuck(
		&move.Duck{School: move.CurveSchool, Trigger: session.KickTrigger, Points: []move.Point{{MS: -5}, {DB: -9}, {MS: 100, DB: -9}, {MS: 180}}},
		false,
		"",
	)
	return mix.New(lib, 1<<27), &s
}

// What is printed reads back as what is rendered, in every form, in its own number of channels and at its own length.
func TestPrint(t *testing.T) {
	r, s := song()
	ctx := context.Background()
	for form, near := range map[string]float64{"": 1.3e-7, "wav32": 0, "wav16": 5e-5, "flac": 1.3e-7} {
		for _, id := range []string{"b", "p"} {
			f, err := DuckedStem(r, s, id, WithAll, form)
			if err != nil {
				t.Fatal(err)
			}
			b, err := f.Bytes(ctx)
			if err != nil {
				t.Fatal(err)
			}
			src, err := codec.Open(bytes.NewReader(b), int64(len(b)))
			if err != nil {
				t.Fatal(err)
			}
			got, err := audio.ReadAll(src)
			if err != nil {
				t.Fatal(err)
			}
			n, _ := r.StemLength(s, s.Stem(id))
			want, _, err := r.Stem(ctx, s, s.Stem(id), mix.Window{To: n})
			if err != nil {
				t.Fatal(err)
			}
			if got.Frames() != n || len(got.Ch) != len(want.Ch) ||
				f.Name != id+map[string]string{"b": " ducked", "p": " changed"}[id]+map[string]string{"": ".wav", "wav16": " 16 bit.wav", "wav32": " float.wav",
					"flac": ".flac"}[form] {
				t.Fatalf("%q as %q: %d frames in %d channels", f.Name, form, got.Frames(), len(got.Ch))
			}
			for c := range want.Ch {
				for i, v := range want.Ch[c] {
					if d := math.Abs(float64(v - got.Ch[c][i])); d > near {
						t.Fatalf("%s as %q: frame %d is %g off", id, form, i, d)
					}
				}
			}
		}
	}
	stop, cancel := context.WithCancel(ctx)
	cancel()
	f, _ := DuckedStem(r, s, "b", "", "")
	if _, err := f.Bytes(stop); !errors.Is(err, context.Canceled) {
		t.Errorf("cancelled, it says %v", err)
	}
}

// Names are fit for any file system; tables hold what they are given; what there is nothing of says so.
func TestFiles(t *testing.T) {
	r, s := song()
	ctx := context.Background()
	f, err := Curve(ctx, r, s)
	if err != nil || f.Name != "Low- -Tide- duck curve.csv" {
		t.Fatalf("%q, %v", f.Name, err)
	}
	b, _ := f.Bytes(ctx)
	if rows := strings.Split(strings.TrimSpace(string(b)), "\n"); rows[0] != "ms,db" || len(rows) < 50 {
		t.Errorf("%d rows, the first %q", len(rows), rows[0])
	}
	b, _ = CurveFile("x", []duck.CurveRow{{MS: -1.5, DB: -3}}).Bytes(ctx)
	if string(b) != "ms,db\n-1.500,-3.000\n" {
		t.Errorf("%q", b)
	}
	b, _ = CSV("x", ',', [][]string{{"=1+1", "+cmd", "-x", "@sum", "\tx", "−4.8", "-4.8", "+1.2", "-1e-3", "", "Kick = low"}}).Bytes(ctx)
	if string(b) != "'=1+1,'+cmd,'-x,'@sum,'\tx,−4.8,-4.8,+1.2,-1e-3,,Kick = low\n" {
		t.Errorf("a sheet would calculate %q", b)
	}
	for _, of := range []func() (File, error){
		func() (File, error) { return Hits(r, s) }, func() (File, error) { return Click(r, s) },
		func() (File, error) { return GainMIDI(ctx, r, s) }, func() (File, error) { return GainWAV(ctx, r, s) },
	} {
		f, err := of()
		if err != nil {
			t.Fatal(err)
		}
		if b, err := f.Bytes(ctx); err != nil || len(b) < 60 {
			t.Errorf("%s: %d bytes, %v", f.Name, len(b), err)
		}
	}
	s.SetDuck(nil, false, "")
	if _, err := Curve(ctx, r, s); !errors.Is(err, ErrNoDuck) {
		t.Errorf("no duck: %v", err)
	}
	if _, err := GainWAV(ctx, r, s); !errors.Is(err, ErrNoDuck) {
		t.Errorf("no duck: %v", err)
	}
	s.Triggers[0].Removed = []float64{0, 0.5, 1, 1.5}
	if _, err := Hits(r, s); !errors.Is(err, ErrNoHits) {
		t.Errorf("no hits: %v", err)
	}
	s.Stems = s.Stems[2:]
	if _, err := DuckedStem(r, s, "", "", ""); !errors.Is(err, ErrNoPart) {
		t.Errorf("no bass: %v", err)
	}
}

// Any name is one of a file, in one folder, that any system takes; and no cell of a table is taken for a formula.
func FuzzNames(f *testing.F) {
	for _, name := range []string{"Low: \"Tide\"", "", ".", "..", "../../x", "a/b\\c", "con\x00", "=1+1", "-3", "+x", "@y", "\t=1", "\xff", " x ",
		strings.Repeat("ü", 400), "x\u202ey"} {
		f.Add(name)
	}
	f.Fuzz(func(t *testing.T, name string) {
		got := CSV(name, ',', [][]string{{name, "1.5"}})
		if n := got.Name; n == "" || len(n) > 240 || strings.Trim(n, ". ") != n || strings.ContainsAny(n, "/\\:*?\"<>|\x00") || !utf8.ValidString(n) {
			t.Fatalf("%q is named %q", name, n)
		}
		b, err := got.Bytes(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		rows, err := csv.NewReader(bytes.NewReader(b)).ReadAll()
		if err != nil || len(rows) != 1 || len(rows[0]) != 2 || rows[0][1] != "1.5" {
			t.Fatalf("%q is the row %q: %v", name, rows, err)
		}
		if cell := rows[0][0]; cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
			if _, err := strconv.ParseFloat(cell, 64); err != nil {
				t.Errorf("%q is the cell %q", name, cell)
			}
		}
	})
}

// Of two files with one name in an archive the later gets a number.
func TestZipNames(t *testing.T) {
	b, err := Zip("x.zip", []File{Text("Kick.txt", "a"), Text("kick.txt", "b"), Text("Kick.txt", "c")}).Bytes(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b), int64(len(b)))
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range z.File {
		names = append(names, f.Name)
	}
	if got := strings.Join(names, ", "); got != "Kick.txt, kick 2.txt, Kick 3.txt" {
		t.Errorf("they are named %s", got)
	}
	gone := errors.New("gone")
	if _, err := Zip("x.zip", []File{{Name: "a.txt", Type: TypeText, Write: func(context.Context,
		io.Writer) error {
		return gone
	}}}).Bytes(t.Context()); !errors.Is(
		err,
		gone,
	) ||
		!strings.Contains(err.Error(), "a.txt") {
		t.Errorf("a file that cannot be made: %v", err)
	}
}
