package store

import (
	"context"
	"errors"
	"testing"

	"mellowthump/core/session"
)

// A run makes a revision of each of its edits, and one undo and one redo go over all of them; one that is refused, or stands
// on another revision, leaves nothing; one that changes nothing is none.
func TestRuns(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer s.Close()
	id, err := s.CreateSong(ctx, session.New("River", 142), "New song")
	if err != nil {
		t.Fatal(err)
	}
	base, err := s.Head(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	key := func(k string) session.Edit { return session.Settings{Key: &k} }
	job, err := s.AddJob(ctx, Job{SongID: id, Kind: "apply", State: Queued})
	if err != nil {
		t.Fatal(err)
	}
	run, err := s.EditRun(
		ctx,
		id,
		base,
		"Run sheet: 3 changes",
		[]session.Edit{key("A minor"), key("A minor"), key("B minor"), key("C minor")},
		map[string]int{"made": 3},
		job,
	)
	if err != nil || run.Base != base || run.Head != base+3 {
		t.Fatalf("%+v, %v", run, err)
	}
	if j, err := s.Job(ctx, job); err != nil || j.State != Done {
		t.Errorf("the job: %+v, %v", j, err)
	}
	at := func(want string, undo string) {
		t.Helper()
		song, err := s.Load(ctx, id)
		if err != nil || song.Key != want || song.Undo != undo {
			t.Errorf("key %q, undo %q, %v; want %q, %q", song.Key, song.Undo, err, want, undo)
		}
	}
	at("C minor", "Run sheet: 3 changes")
	if err := s.Undo(ctx, id, run.Head); err != nil {
		t.Fatal(err)
	}
	at("", "")
	if song, _ := s.Load(ctx, id); song.Rev != base || song.Redo != "Run sheet: 3 changes" {
		t.Errorf("undone to %d, redo %q", song.Rev, song.Redo)
	}
	if err := s.Redo(ctx, id, base); err != nil {
		t.Fatal(err)
	}
	at("C minor", "Run sheet: 3 changes")
	if _, err := s.Edit(ctx, id, run.Head, key("D minor")); err != nil {
		t.Fatal(err)
	}
	at("D minor", "Set key D minor")
	if err := s.Undo(ctx, id, run.Head+1); err != nil {
		t.Fatal(err)
	}
	at("C minor", "Run sheet: 3 changes")

	bad := key(string(make([]rune, session.MaxName+1)))
	var no *Refused
	if _, err := s.EditRun(ctx, id, run.Head, "no", []session.Edit{key("E minor"), bad}, nil, 0); !errors.As(err, &no) {
		t.Errorf("a run with a bad edit: %v", err)
	}
	if _, err := s.EditRun(ctx, id, base, "no", []session.Edit{key("E minor")}, nil, 0); !errors.Is(err, ErrConflict) {
		t.Errorf("a run on another revision: %v", err)
	}
	if same, err := s.EditRun(ctx, id, run.Head, "no", []session.Edit{key("C minor")}, nil, 0); err != nil || same.Head != run.Head {
		t.Errorf("a run that changes nothing: %+v, %v", same, err)
	}
	at("C minor", "Run sheet: 3 changes")
	if all, err := s.Runs(ctx, id, 10); err != nil || len(all) != 1 || all[0] != run {
		t.Errorf("%+v, %v", all, err)
	}
	if history, err := s.History(ctx, id, 10); err != nil || len(history) != 5 || history[1].Run != run.ID || history[4].Run != 0 {
		t.Errorf("%+v, %v", history, err)
	}
}
