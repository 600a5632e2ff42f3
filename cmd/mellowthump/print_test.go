package main

import (
	"bytes"
	"context"
	"encoding/json"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/core/archive"
	"mellowthump/core/demo"
	"mellowthump/core/export"
	"mellowthump/core/mix"
	"mellowthump/internal/outside"
)

// A song goes into an archive, is read on another machine, and prints to the bit the same there as here; its checksums are
// those of sha256sum. Bad archives and usage are one line, and leave no file.
func TestPrintOfAnArchive(t *testing.T) {
	outside.Slow(t)
	ctx := context.Background()
	here, err := store.Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer here.Close()
	d := demo.CopperKettle()
	for i := range d.Stems { // short
		d.Stems[i].Sound = d.Stems[i].Sound.Slice(0, 6*44100)
	}
	if err := demodata.Song(ctx, here, d); err != nil {
		t.Fatal(err)
	}
	songs, err := here.Songs(ctx)
	if err != nil {
		t.Fatal(err)
	}
	song := songs[0].Song
	var zip bytes.Buffer
	if err := archive.Write(ctx, &zip, &song, nil, func(sha string) (io.ReadCloser, error) { return here.OpenRaw(sha) }); err != nil {
		t.Fatal(err)
	}
	dir := t.TempDir()
	name := filepath.Join(dir, "kettle.zip")
	if err := os.WriteFile(name, zip.Bytes(), 0o600); err != nil {
		t.Fatal(err)
	}
	to := filepath.Join(dir, "out")
	status, out, errs := command("print", "--song", name, "--out", to, "--what", "premaster,mix,stems,buses,sheet", "--form", "32f")
	if status != 0 {
		t.Fatal(status, errs)
	}
	var said printed
	if err := json.Unmarshal([]byte(out), &said); err != nil || said.Song != "Copper Kettle" || len(said.Files) < 10 {
		t.Fatalf("%s %v", out, err)
	}
	files, err := export.Out(
		ctx,
		mix.New(here, 1<<28),
		&song,
		export.Order{What: []string{"premaster", "mix", "stems", "buses", "sheet"}, Form: "wav32"},
		t.TempDir(),
		nil,
		func(float64) {},
	)
	if err != nil || len(files) != len(said.Files) {
		t.Fatalf("%d files, %v", len(files), err)
	}
	for _, f := range files {
		want, err := f.Bytes(ctx)
		if err != nil {
			t.Fatal(err)
		}
		got, err := os.ReadFile(filepath.Join(to, f.Name))
		if err != nil || !bytes.Equal(got, want) {
			t.Errorf("%s differs (%v)", f.Name, err)
		}
	}
	if said := outside.Run(t, "sh", "-c", "cd '"+to+"' && sha256sum -c checksums.sha256"); strings.Contains(said, "FAILED") {
		t.Error(said)
	}
	junk := filepath.Join(dir, "junk.zip")
	if err := os.WriteFile(junk, []byte("no zip"), 0o600); err != nil {
		t.Fatal(err)
	}
	none := filepath.Join(dir, "none")
	for _, c := range []struct {
		status int
		args   []string
	}{
		{2, []string{"print"}}, {2, []string{"print", "--song", name}}, {2, []string{"print", "--song", name, "--out", none, "--what", "all"}}, {2,
			[]string{"print", "--song", name, "--out", none, "--form", "8"}},
		{2, []string{"print", "--song", name, "--out", none, "more"}}, {1, []string{"print", "--song", junk, "--out", none}}, {1, []string{"print", "--song",
			filepath.Join(dir, "gone.zip"), "--out", none}},
	} {
		if status, out, errs := command(c.args...); status != c.status || out != "" || errs == "" {
			t.Errorf("%v: %d %q %q", c.args, status, out, errs)
		}
	}
	if _, err := os.Stat(none); err == nil {
		t.Error("a folder is left")
	}
}
