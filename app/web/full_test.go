package web

import (
	"errors"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"mellowthump/app/store"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// On a full disk an edit and an upload say so in plain words and change nothing; an import that was under way waits, says
// so, and goes on when there is room. It takes a small disk of its own, which only a privileged user can make.
func TestDiskFull(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=12m"); err != nil {
		t.Skipf("this machine makes no small disk: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	b := newBenchIn(t, dir)
	id := b.song()
	kick, _ := beat()
	one := asWAV(kick)
	ballast := filepath.Join(dir, "ballast")
	fill := func() {
		t.Helper()
		f, err := os.OpenFile(ballast, os.O_CREATE|os.O_WRONLY|os.O_APPEND, 0o600)
		if err != nil {
			t.Fatal(err)
		}
		for size := 1 << 20; size > 0; size /= 2 {
			for err == nil {
				_, err = f.Write(make([]byte, size))
			}
			if !errors.Is(err, syscall.ENOSPC) {
				t.Fatal(err)
			}
			err = nil
		}
		f.Close()
	}
	// an MP3 becomes a WAV: there is room for the one and not for the other
	path := filepath.Join(t.TempDir(), "kick.mp3")
	outside.Run(t, "ffmpeg", "-v", "error", "-i", outside.WriteWAV(t, "kick.wav", kick, wav.Int24), "-c:a", "libmp3lame", path)
	packed, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	incoming, err := b.server.Store.Incoming(strings.NewReader(string(packed)), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	job, err := b.server.Store.AddJob(
		t.Context(),
		store.Job{SongID: id, Kind: "import", Name: "Kick.mp3", State: store.Queued, Payload: `{"incoming":"` + incoming + `"}`},
	)
	if err != nil {
		t.Fatal(err)
	}
	fill()
	status, body := b.edit(id, "/settings", url.Values{"name": {strings.Repeat("A long name ", 9)}, "bpm": {"121"}, "grid": {"0"}, "leader": {"kick"}})
	if status != 507 || !strings.Contains(body, "The disk is full") {
		t.Errorf("an edit: %d %.300s", status, body)
	}
	upload, kind := multipartOf(file{"Kick.wav", one})
	res, err := b.Post(b.url+"/songs/"+id+"/stems", kind, strings.NewReader(string(upload)))
	if err != nil {
		t.Fatal(err)
	}
	if res.Body.Close(); res.StatusCode != 507 {
		t.Errorf("an upload: %d", res.StatusCode)
	}
	if err := b.server.Pool.Resume(t.Context()); err != nil {
		t.Fatal(err)
	}
	said := func(what string) {
		t.Helper()
		for deadline := time.Now().Add(20 * time.Second); ; <-time.After(20 * time.Millisecond) {
			_, page := b.do("GET", "/songs/"+id+"/imports", nil)
			if strings.Contains(page, what) {
				return
			}
			if time.Now().After(deadline) {
				t.Fatalf("no word of %q: %.400s", what, page)
			}
		}
	}
	said("the disk is full; it goes on when there is room")
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); ; <-time.After(20 * time.Millisecond) {
		if j, err := b.server.Store.Job(t.Context(), job); err == nil && j.State == store.Done {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("with room again the job is %+v, %v", j, err)
		}
	}
	if song := b.load(id); len(song.Stems) != 1 || song.BPM != 120 {
		t.Errorf("%d stems at %g bpm", len(song.Stems), song.BPM)
	}
	if status, _ := b.edit(id, "/settings", url.Values{"name": {"Low Tide"}, "bpm": {"121"}, "grid": {"0"}, "leader": {"kick"}}); status != 200 {
		t.Errorf("an edit with room again: %d", status)
	}
	// a print that runs out of room waits too, and is whole when there is room again
	print, err := b.server.Store.AddJob(
		t.Context(),
		store.Job{SongID: id, Kind: "print", Name: "Low Tide", State: store.Queued, Payload: fmt.Sprintf(`{"rev":%d,"what":["mix","stems"]}`, b.load(id).Rev)},
	)
	if err != nil {
		t.Fatal(err)
	}
	fill()
	if err := b.server.Pool.Resume(t.Context()); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); ; <-time.After(20 * time.Millisecond) {
		if _, page := b.do("GET", "/songs/"+id+"/print/goes", nil); strings.Contains(page, "the disk is full; it goes on when there is room") {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("the print does not say that the disk is full: %.600s", page)
		}
	}
	if got, _ := b.do("GET", fmt.Sprintf("/songs/%s/print/goes/%d", id, print), nil); got != 404 {
		t.Errorf("half a print is given: %d", got)
	}
	if err := os.Remove(ballast); err != nil {
		t.Fatal(err)
	}
	for deadline := time.Now().Add(20 * time.Second); ; <-time.After(20 * time.Millisecond) {
		if j, err := b.server.Store.Job(t.Context(), print); err == nil && j.State == store.Done {
			break
		} else if time.Now().After(deadline) {
			t.Fatalf("with room again the print is %+v, %v", j, err)
		}
	}
	if _, body := b.do("GET", fmt.Sprintf("/songs/%s/print/goes/%d", id, print), nil); !strings.HasPrefix(body, "PK") ||
		!strings.Contains(body, "checksums.sha256") {
		t.Errorf("the print begins with %.20q", body)
	}
	b.server.Pool.Close()
	b.server.Store.Close()
	if r, err := store.Check(t.Context(), dir); err != nil || len(r.Troubles) > 0 {
		t.Errorf("the folder: %+v, %v", r, err)
	}
}

// A file is fetched although there is no room on this disk: it is to be kept elsewhere.
func TestDiskFullFetch(t *testing.T) {
	dir := t.TempDir()
	if err := syscall.Mount("tmpfs", dir, "tmpfs", 0, "size=512k"); err != nil {
		t.Skipf("this machine makes no small disk: %v", err)
	}
	t.Cleanup(func() { syscall.Unmount(dir, syscall.MNT_DETACH) })
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	want := b.get("/songs/" + id + "/duck/ducked.wav")
	if len(want) <= 1<<20 {
		t.Fatalf("%d bytes never go to the disk", len(want))
	}
	t.Setenv("TMPDIR", dir)
	if got := b.get("/songs/" + id + "/duck/ducked.wav"); got != want {
		t.Errorf("without room it has %d bytes, not %d", len(got), len(want))
	}
}
