package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"reflect"
	"strings"
	"sync"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
	"mellowthump/core/session"
)

var ctx = context.Background()

func open(t *testing.T, dir string) *Store {
	t.Helper()
	s, err := Open(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { s.Close() })
	return s
}

// editFunc is an edit made of a function.
type editFunc func(*session.Song) (string, error)

func (f editFunc) Apply(s *session.Song) (string, error) { return f(s) }

func edit(s *Store, id string, base int64, f editFunc) (int64, error) {
	song, err := s.Edit(ctx, id, base, f)
	if err != nil {
		return 0, err
	}
	if is, err := s.Load(ctx, id); err != nil || is.Rev == song.Rev && (is.Undo != song.Undo || !reflect.DeepEqual(is.Song, song.Song)) {
		return 0, fmt.Errorf("what was made is %+v, what is loaded %+v: %v", song, is, err)
	}
	return song.Rev, nil
}

func create(t *testing.T, s *Store) string {
	t.Helper()
	id, err := s.CreateSong(ctx, session.New("Low Tide", 120), "New song")
	if err != nil {
		t.Fatal(err)
	}
	return id
}

func key(t *testing.T, s *Store, id, key string) int64 {
	t.Helper()
	song, err := s.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	rev, err := edit(s, id, song.Rev, func(song *session.Song) (string, error) {
		song.Key = key
		return "key " + key, nil
	})
	if err != nil {
		t.Fatal(err)
	}
	return rev
}

func keyOf(t *testing.T, s *Store, id string) string {
	t.Helper()
	song, err := s.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	return song.Key
}

func TestUndoRedo(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	key(t, s, id, "A")
	key(t, s, id, "B")
	for _, step := range []struct {
		do   func(context.Context, string, int64) error
		want string
		err  error
	}{
		{s.Undo, "A", nil}, {s.Undo, "", nil}, {s.Undo, "", ErrNothing},
		{s.Redo, "A", nil}, {s.Redo, "B", nil}, {s.Redo, "B", ErrNothing}, {s.Undo, "A", nil},
	} {
		if err := step.do(ctx, id, AnyRevision); !errors.Is(err, step.err) {
			t.Fatalf("says %v, want %v", err, step.err)
		}
		if got := keyOf(t, s, id); got != step.want {
			t.Fatalf("key %q, want %q", got, step.want)
		}
	}
	key(t, s, id, "C") // an edit after an undo: redo has nothing older to bring back
	if err := s.Redo(ctx, id, AnyRevision); !errors.Is(err, ErrNothing) {
		t.Errorf("redo after a new edit says %v", err)
	}
	h, err := s.History(ctx, id, 10)
	if err != nil || len(h) != 4 {
		t.Errorf("%d revisions kept, want all 4; %v", len(h), err)
	}
}

func TestConflict(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	song, _ := s.Load(ctx, id)
	key(t, s, id, "mine")
	_, err := edit(s, id, song.Rev, func(song *session.Song) (string, error) { song.Key = "theirs"; return "x", nil })
	if !errors.Is(err, ErrConflict) || keyOf(t, s, id) != "mine" {
		t.Errorf("says %v, key %q", err, keyOf(t, s, id))
	}
	if _, err := edit(s, id, AnyRevision, func(song *session.Song) (string, error) { song.BPM = 1; return "x", nil }); err == nil {
		t.Error("a song that cannot be rendered was stored")
	}
	if _, err := s.Edit(ctx, "nobody", AnyRevision, nil); !errors.Is(err, ErrNotFound) {
		t.Errorf("an unknown song says %v", err)
	}
	before, _ := s.Load(ctx, id)
	if rev, err := edit(s, id, before.Rev, func(*session.Song) (string, error) { return "", nil }); err != nil || rev != before.Rev {
		t.Errorf("an edit that changes nothing made revision %d, %v", rev, err)
	}
}

// Many at once: every edit is a revision, none is lost.
func TestEditsAtOnce(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	var wg sync.WaitGroup
	for range 20 {
		wg.Go(func() {
			_, err := edit(s, id, AnyRevision, func(song *session.Song) (string, error) {
				song.BPM++
				return "faster", nil
			})
			if err != nil {
				t.Error(err)
			}
		})
	}
	wg.Wait()
	song, err := s.Load(ctx, id)
	if err != nil || song.BPM != 140 {
		t.Errorf("%g bpm, %v", song.BPM, err)
	}
}

func TestTakesSurviveARestart(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := create(t, s)
	rev := key(t, s, id, "A")
	if err := s.SaveTake(ctx, id, rev, "first", "it <b>breathes</b>", map[string]float64{"x": 1}); err != nil {
		t.Fatal(err)
	}
	key(t, s, id, "B")
	s.Close()
	s = open(t, dir)
	if got := keyOf(t, s, id); got != "B" {
		t.Errorf("after a restart the key is %q", got)
	}
	takes, err := s.Takes(ctx, id)
	if err != nil || len(takes) != 1 || takes[0].Note != "it <b>breathes</b>" || takes[0].Numbers != `{"x":1}` {
		t.Fatalf("%+v, %v", takes, err)
	}
	song, _ := s.Load(ctx, id)
	if _, err := s.Return(ctx, id, song.Rev, takes[0].ID); err != nil {
		t.Fatal(err)
	}
	if got := keyOf(t, s, id); got != "A" {
		t.Errorf("back at the take the key is %q", got)
	}
	if err := s.Undo(ctx, id, AnyRevision); err != nil || keyOf(t, s, id) != "B" {
		t.Errorf("going back cannot be undone: %v", err)
	}
	if _, err := s.Return(ctx, id, AnyRevision, 999); !errors.Is(err, ErrNotFound) {
		t.Errorf("an unknown take says %v", err)
	}
	old, err := s.At(ctx, id, rev)
	if err != nil || old.Key != "A" {
		t.Errorf("at revision %d: %q, %v", rev, old.Key, err)
	}
	if _, err := s.At(ctx, "other", rev); !errors.Is(err, ErrNotFound) {
		t.Errorf("another song's revision says %v", err)
	}
}

// tone is a WAV file in memory with its hash.
func tone(t *testing.T) ([]byte, string) {
	t.Helper()
	b := audio.New(44100, 1, 44100)
	for i := range b.Ch[0] {
		b.Ch[0][i] = float32(i%100)/200 - 0.25
	}
	var file bytes.Buffer
	if err := wav.Write(&file, b, wav.Int24); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256(file.Bytes())
	return file.Bytes(), hex.EncodeToString(sum[:])
}

// same reports whether the audio of a hash is that file.
func same(t *testing.T, s *Store, sha string, file []byte) bool {
	t.Helper()
	got, err := os.ReadFile(s.audioPath(sha, "wav"))
	return err == nil && bytes.Equal(got, file)
}

func TestAudio(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	file, sha := tone(t)
	in, err := s.Incoming(bytes.NewReader(file), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := s.HashIncoming(in); err != nil || got != sha {
		t.Fatalf("hash %s, %v", got, err)
	}
	if _, err := s.Registered(ctx, sha); !errors.Is(err, ErrNotFound) {
		t.Errorf("an unknown file has facts: %v", err)
	}
	src, _ := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	a, err := facts.Analyse(ctx, src, "x", nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Register(ctx, in, sha, a); err != nil {
		t.Fatal(err)
	}
	got, closeFile, err := s.Open(sha)
	if err != nil {
		t.Fatal(err)
	}
	closeFile()
	if got.Format().Frames != 44100 {
		t.Errorf("%+v", got.Format())
	}
	if _, err := s.HashIncoming(in); err != nil { // until its job has ended it can be taken in again
		t.Errorf("the upload is gone: %v", err)
	}
	if err := s.Register(ctx, in, sha, a); err != nil {
		t.Errorf("taken in again: %v", err)
	}
	if s.DropIncoming(in); !same(t, s, sha, file) {
		t.Error("without its upload the audio is another")
	}
	s.Close()
	s = open(t, dir)
	known, err := s.Facts(ctx, sha)
	if err != nil || known.DurationS != 1 || math.Abs(float64(known.RMS-a.RMS)) > 1e-6 {
		t.Errorf("facts read back %+v, %v", known, err)
	}
	if _, err := s.db.Exec(`DELETE FROM facts`); err != nil { // as a new analyser version would find it
		t.Fatal(err)
	}
	s.facts = map[string]*facts.Analysis{}
	if again, err := s.Facts(ctx, sha); err != nil || again.DurationS != 1 {
		t.Errorf("stale facts are not measured anew: %v", err)
	}
	if _, err := s.db.Exec(`UPDATE facts SET body = '{'`); err != nil {
		t.Fatal(err)
	}
	s.facts = map[string]*facts.Analysis{}
	if again, err := s.Facts(ctx, sha); err != nil || again.DurationS != 1 {
		t.Errorf("damaged facts are not measured anew: %v", err)
	}
	if o, err := s.Onsets(sha); err != nil || o == nil {
		t.Errorf("onsets %v, %v", o, err)
	}
	for _, none := range []string{"../../etc/passwd", strings.Repeat("a", 64)} { // a path is no hash; what is nowhere is silence, and said to be gone
		src, _, err := s.Open(none)
		if _, is := src.(audio.Silence); err != nil || !is {
			t.Errorf("%s was opened: %T, %v", none, src, err)
		}
		if a, err := s.Facts(ctx, none); err != nil || a.Damage == "" {
			t.Errorf("%s: %v", none, err)
		}
	}
	if _, err := s.db.Exec(`DELETE FROM facts; DELETE FROM audio_files`); err != nil { // the file alone is left
		t.Fatal(err)
	}
	s.facts = map[string]*facts.Analysis{}
	if again, err := s.Facts(ctx, sha); err != nil || again.DurationS != 1 || again.Damage != "" {
		t.Errorf("a whole file without a row is not known again: %v", err)
	}
	if _, err := s.db.Exec(`DELETE FROM facts`); err != nil { // the row alone
		t.Fatal(err)
	}
	os.Remove(s.audioPath(sha, "wav"))
	s.facts = map[string]*facts.Analysis{}
	if a, err := s.Facts(ctx, sha); err != nil || a.Damage == "" {
		t.Errorf("a row without facts and file: %v", err)
	}
}

// A crash between the rename and the row leaves a file that the same import takes over.
func TestCrashBeforeTheRow(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	file, sha := tone(t)
	if err := os.WriteFile(filepath.Join(dir, "audio", sha+".wav"), file[:100], 0o600); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Registered(ctx, sha); !errors.Is(err, ErrNotFound) {
		t.Fatalf("a file without a row counts as registered: %v", err)
	}
	in, err := s.Incoming(bytes.NewReader(file), 1<<20)
	if err != nil {
		t.Fatal(err)
	}
	src, _ := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	a, _ := facts.Analyse(ctx, src, "x", nil)
	if err := s.Register(ctx, in, sha, a); err != nil {
		t.Fatal(err)
	}
	if got, _ := os.ReadFile(filepath.Join(dir, "audio", sha+".wav")); !bytes.Equal(got, file) {
		t.Error("the half file is still there")
	}
}

func TestSweepIncoming(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	id := create(t, s)
	wanted, _ := s.Incoming(strings.NewReader("wanted"), 100)
	lost, _ := s.Incoming(strings.NewReader("half an up"), 100)
	if _, err := s.AddJob(ctx, Job{SongID: id, Kind: "import", Payload: `{"incoming":"` + wanted + `"}`, State: Running}); err != nil {
		t.Fatal(err)
	}
	if err := s.SweepIncoming(ctx); err != nil {
		t.Fatal(err)
	}
	if f, err := s.OpenIncoming(wanted); err != nil {
		t.Error("the upload of a waiting job is gone")
	} else {
		f.Close()
	}
	if _, err := s.OpenIncoming(lost); err == nil {
		t.Error("a half upload stays")
	}
}

func TestIncomingLimits(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	if _, err := s.Incoming(strings.NewReader("0123456789"), 9); !errors.Is(err, ErrTooLarge) {
		t.Errorf("says %v", err)
	}
	broken := &failing{after: 5}
	if _, err := s.Incoming(broken, 100); err == nil {
		t.Error("a broken upload was taken")
	}
	if left, _ := os.ReadDir(filepath.Join(dir, "incoming")); len(left) != 0 {
		t.Errorf("%d files are left of refused uploads", len(left))
	}
	os.RemoveAll(filepath.Join(dir, "incoming"))
	if _, err := s.Incoming(strings.NewReader("x"), 9); err == nil || !strings.Contains(err.Error(), "no room") {
		t.Errorf("without a folder it says %v", err)
	}
}

type failing struct{ after int }

func (f *failing) Read(p []byte) (int, error) {
	if f.after == 0 {
		return 0, errors.New("the line dropped")
	}
	f.after--
	p[0] = 'x'
	return 1, nil
}

func TestJobs(t *testing.T) {
	s := open(t, t.TempDir())
	id := create(t, s)
	j, err := s.AddJob(ctx, Job{SongID: id, Kind: "import", Name: "a.wav", State: Queued})
	if err != nil {
		t.Fatal(err)
	}
	if err := s.SetJob(ctx, j, Running, 0.5, "measuring"); err != nil {
		t.Fatal(err)
	}
	list, err := s.Jobs(ctx, id)
	if err != nil || len(list) != 1 || list[0].Percent() != 50 || !list[0].Active() {
		t.Errorf("%+v, %v", list, err)
	}
	if left, _ := s.Unfinished(ctx); len(left) != 1 {
		t.Errorf("unfinished %+v", left)
	}
	s.SetJob(ctx, j, Failed, 0, "It is not a WAV file.")
	if list, _ := s.Jobs(ctx, id); len(list) != 1 || list[0].Active() {
		t.Errorf("a failed job is %+v", list)
	}
	s.ForgetJobs(ctx, id)
	if list, _ := s.Jobs(ctx, id); len(list) != 0 {
		t.Errorf("forgotten, %+v is left", list)
	}
	if _, err := s.Job(ctx, j); !errors.Is(err, ErrNotFound) {
		t.Errorf("says %v", err)
	}
}
