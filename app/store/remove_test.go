package store

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"runtime"
	"strconv"
	"sync"
	"testing"
	"time"

	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
	"mellowthump/core/session"
)

// Songs are removed on a slow disk while others take the same audio in, as the jobs of the pool do: what was
// acknowledged to a song stays, whatever is removed beside it. 50 here, as many as MELLOWTHUMP_REMOVALS asks for (make
// kill: 1,000).
func TestRemovalsBesideUploads(t *testing.T) {
	was := unlink
	t.Cleanup(func() { unlink = was })
	unlink = func(path string) error {
		for range 200 { // others come in between
			runtime.Gosched()
		}
		time.Sleep(time.Millisecond) // a slow disk, not a wait for something
		return was(path)
	}
	rounds, _ := strconv.Atoi(os.Getenv("MELLOWTHUMP_REMOVALS"))
	s := open(t, t.TempDir())
	file, sha := tone(t)
	src, _ := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	a, err := facts.Analyse(ctx, src, "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	// bring takes the file in for a song, as a job does.
	bring := func(song string) error {
		job, err := s.AddJob(ctx, Job{SongID: song, Kind: "import", State: Running})
		if err != nil {
			return err
		}
		in, err := s.Incoming(bytes.NewReader(file), 1<<20)
		if err != nil {
			return err
		}
		defer s.DropIncoming(in)
		if _, err := s.Registered(ctx, sha); errors.Is(err, ErrNotFound) {
			err = s.Register(ctx, in, sha, a)
			if err != nil {
				return err
			}
		} else if err != nil {
			return err
		}
		return s.EditDone(ctx, song, AnyRevision, session.AddStem{File: "x.wav", Audio: sha, Rate: 44100, Role: session.Perc}, job)
	}
	check := func(song string) error {
		if is, err := os.ReadFile(s.audioPath(sha, "wav")); err != nil || !bytes.Equal(is, file) {
			return fmt.Errorf("the audio of a song that was brought in is gone: %v", err)
		}
		if a, err := s.Facts(ctx, sha); err != nil || a.Damage != "" {
			return fmt.Errorf("its facts: %v", err)
		}
		return nil
	}
	removed := 0
	for range max(50, rounds) {
		old, fresh := create(t, s), create(t, s)
		if err := bring(old); err != nil {
			t.Fatal(err)
		}
		if err := s.Delete(ctx, old, true); err != nil {
			t.Fatal(err)
		}
		var both sync.WaitGroup
		var brought, gone error
		both.Go(func() { _, gone = s.Remove(ctx, old) })
		both.Go(func() { brought = bring(fresh) })
		both.Wait()
		if brought != nil {
			t.Fatal(brought)
		}
		if gone == nil {
			removed++
		}
		if err := check(fresh); err != nil {
			t.Fatal(err)
		}
		for _, id := range []string{old, fresh} {
			s.Delete(ctx, id, true)
			s.Remove(ctx, id)
		}
		if _, err := os.Stat(s.audioPath(sha, "wav")); err == nil {
			t.Fatal("audio that no song has is still there")
		}
	}
	if removed == 0 {
		t.Error("nothing was removed beside an upload")
	}
}
