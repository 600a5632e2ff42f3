package store

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/session"
)

// old opens a data folder as the program of format 1 left it: a song of five revisions, the last undone, and a take.
func old(t *testing.T) (*Store, string) {
	t.Helper()
	dir := t.TempDir()
	dump, err := os.ReadFile("testdata/format1.sql")
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "mellowthump.db"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := db.Exec(string(dump)); err != nil {
		t.Fatal(err)
	}
	db.Close()
	s := open(t, dir)
	songs, err := s.Songs(ctx)
	if err != nil || len(songs) != 1 {
		t.Fatalf("%d songs, %v", len(songs), err)
	}
	return s, songs[0].ID
}

// Songs of the older format open, at every revision; undo, redo, takes and edits work on them as on new ones.
func TestOldSongs(t *testing.T) {
	s, id := old(t)
	song, err := s.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	if _, d := song.Bus("b2").Moves.Duck(); song.Format != session.Format || d == nil || song.Bus("b4").Moves != nil || song.Undo == "" ||
		!strings.Contains(song.Redo, "band") {
		t.Errorf("it opens as %+v", song)
	}
	history, err := s.History(ctx, id, 10)
	if err != nil || len(history) != 5 {
		t.Fatalf("%d revisions, %v", len(history), err)
	}
	for _, r := range history {
		if at, err := s.At(ctx, id, r.ID); err != nil || at.Format != session.Format {
			t.Errorf("revision %d: %v", r.ID, err)
		}
	}
	if err := s.Redo(ctx, id, song.Rev); err != nil {
		t.Fatal(err)
	}
	song, _ = s.Load(ctx, id)
	if m, _ := song.Bus("b4").Moves.Duck(); m == nil || !m.Off {
		t.Error("redone, the bus has no duck")
	}
	edited, err := s.Edit(ctx, id, song.Rev, session.Settings{Key: ptr("G minor")})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Undo(ctx, id, edited.Rev); err != nil {
		t.Fatal(err)
	}
	song, _ = s.Load(ctx, id)
	if song.Key != "F minor" {
		t.Errorf("undone, the key is %q", song.Key)
	}
	takes, err := s.Takes(ctx, id)
	if err != nil || len(takes) != 1 {
		t.Fatalf("%d takes, %v", len(takes), err)
	}
	if _, err := s.Return(ctx, id, song.Rev, takes[0].ID); err != nil {
		t.Fatal(err)
	}
	song, _ = s.Load(ctx, id)
	if _, d := song.Bus("b2").Moves.Duck(); d == nil || d.Depth() != -3 || song.Bus("b4").Moves != nil || !strings.Contains(song.Undo, "With music ducked") {
		t.Errorf("back at the take it is %+v", song)
	}
}

func ptr[T any](v T) *T { return &v }

// A tab that saw another revision neither undoes nor redoes.
func TestStaleTab(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	first, _ := s.Load(ctx, id)
	key(t, s, id, "A")
	if err := s.Undo(ctx, id, first.Rev); !errors.Is(err, ErrConflict) || keyOf(t, s, id) != "A" {
		t.Errorf("a stale undo says %v", err)
	}
	now, _ := s.Load(ctx, id)
	if err := s.Undo(ctx, id, now.Rev); err != nil {
		t.Fatal(err)
	}
	if err := s.Redo(ctx, id, now.Rev); !errors.Is(err, ErrConflict) || keyOf(t, s, id) == "A" {
		t.Errorf("a stale redo says %v", err)
	}
}

// A new analyser measures a file once for all who ask, and keeps what only the file that was brought could tell.
func TestFactsOfAnOlderAnalyser(t *testing.T) {
	s := open(t, t.TempDir())
	file, sha := tone(t)
	in, err := s.Incoming(strings.NewReader(string(file)), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	b := audio.New(44100, 1, 44100)
	a, err := facts.Analyse(ctx, audio.Memory{Buffer: b}, "song.mp3", nil)
	if err != nil {
		t.Fatal(err)
	}
	a.Format, a.BitDepth, a.EncodingIs = "mp3", 16, string(audio.PCM)
	if err := s.Register(ctx, in, sha, a); err != nil {
		t.Fatal(err)
	}
	if _, err := s.db.Exec(`UPDATE facts SET version = version - 1`); err != nil {
		t.Fatal(err)
	}
	gone, cancel := context.WithCancel(ctx)
	cancel()
	if _, err := s.Facts(gone, sha); !errors.Is(err, context.Canceled) {
		t.Errorf("who went away gets %v", err)
	}
	var wg sync.WaitGroup
	got := make([]*facts.Analysis, 5)
	for i := range got {
		wg.Go(func() { got[i], _ = s.Facts(ctx, sha) })
	}
	wg.Wait()
	for _, g := range got {
		if g == nil || g != got[0] || g.Format != "mp3" || g.BitDepth != 16 || g.File != "song.mp3" {
			t.Fatalf("measured anew: %+v", g)
		}
	}
	if err := s.Refresh(ctx); err != nil {
		t.Errorf("nothing is left to measure, and it says %v", err)
	}
}
