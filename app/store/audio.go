package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
	"mellowthump/core/meter"
)

// ErrTooLarge is returned where an upload goes over its limit.
var ErrTooLarge = errors.New("the file is too large")

// Incoming writes what r holds to a file of its own, not yet registered as audio, and
// returns its name. It takes at most limit bytes.
func (s *Store) Incoming(r io.Reader, limit int64) (name string, err error) {
	f, err := os.CreateTemp(filepath.Join(s.dir, "incoming"), "in-*")
	if err != nil {
		return "", fmt.Errorf("no room for the upload: %w", err)
	}
	defer func() {
		if e := f.Close(); err == nil {
			err = e
		}
		if err != nil {
			os.Remove(f.Name())
		}
	}()
	n, err := io.Copy(f, io.LimitReader(r, limit+1))
	if err != nil {
		return "", fmt.Errorf("writing the upload: %w", err)
	}
	if n > limit {
		return "", ErrTooLarge
	}
	return filepath.Base(f.Name()), f.Sync()
}

func (s *Store) incomingPath(name string) string {
	return filepath.Join(s.dir, "incoming", filepath.Base(name))
}

// OpenIncoming opens an upload.
func (s *Store) OpenIncoming(name string) (*os.File, error) { return os.Open(s.incomingPath(name)) }

// DropIncoming removes an upload that is not wanted.
func (s *Store) DropIncoming(name string) { os.Remove(s.incomingPath(name)) }

// SweepIncoming removes uploads that no job waits for or can be tried again with: a stop of the program
// left them half written. It is called before any upload is taken.
func (s *Store) SweepIncoming(ctx context.Context) error {
	jobs, err := s.kept(ctx)
	if err != nil {
		return err
	}
	files, err := os.ReadDir(filepath.Join(s.dir, "incoming"))
	if err != nil {
		return err
	}
	for _, f := range files {
		wanted := false
		for _, j := range jobs {
			wanted = wanted || strings.Contains(j.Payload, `"`+f.Name()+`"`)
		}
		if !wanted {
			s.DropIncoming(f.Name())
		}
	}
	return nil
}

// aLeft is the age from which audio that nothing knows of is left over.
const aLeft = 24 * time.Hour

// SweepAudio removes files among the audio that are not registered and older than a day: a stop between two steps of an
// import left them. It returns their names. It is called before any import is taken up: one that was left for days puts
// an old file in place before it registers it.
func (s *Store) SweepAudio(ctx context.Context) ([]string, error) {
	var known []string
	if err := s.db.SelectContext(ctx, &known, `SELECT sha || '.' || ext FROM audio_files`); err != nil {
		return nil, err
	}
	files, err := os.ReadDir(filepath.Join(s.dir, "audio"))
	if err != nil {
		return nil, err
	}
	registered := map[string]bool{}
	for _, name := range known {
		registered[name] = true
	}
	var swept []string
	for _, f := range files {
		st, err := f.Info()
		if err != nil || !st.Mode().IsRegular() || registered[f.Name()] || time.Since(st.ModTime()) < aLeft {
			continue
		}
		if used, err := s.Uses(ctx, strings.TrimSuffix(f.Name(), filepath.Ext(f.Name()))); err != nil {
			return swept, err
		} else if used { // its row is missing, and comes back when it is asked for
			continue
		}
		if err := os.Remove(filepath.Join(s.dir, "audio", f.Name())); err != nil {
			return swept, err
		}
		swept = append(swept, f.Name())
	}
	return swept, nil
}

// HashIncoming returns the SHA-256 of an upload in hex.
func (s *Store) HashIncoming(name string) (string, error) { return hash(s.incomingPath(name)) }

func hash(path string) (string, error) {
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	if _, err := io.Copy(h, f); err != nil {
		return "", err
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (s *Store) audioPath(sha, ext string) string {
	return filepath.Join(s.dir, "audio", sha+"."+ext)
}

// Register puts an upload in its place under its hash and registers it with its facts. The
// file is in place before the row is, so no registered file is ever missing; a crash
// between the two leaves a file that the next import of the same audio takes over. The upload itself stays: until its
// job has ended it can be taken in again.
func (s *Store) Register(ctx context.Context, incoming, sha string, a *facts.Analysis) error {
	s.files.Lock()
	defer s.files.Unlock()
	path := s.incomingPath(incoming)
	st, err := os.Stat(path)
	if err != nil {
		return err
	}
	if err := replaceBy(path, s.audioPath(sha, "wav")); err != nil {
		return fmt.Errorf("putting the audio in place: %w", err)
	}
	if d, err := os.Open(filepath.Join(s.dir, "audio")); err == nil { // the link itself
		d.Sync()
		d.Close()
	}
	body, err := json.Marshal(a)
	if err != nil {
		return err
	}
	tx, err := s.db.BeginTxx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	if _, err := tx.ExecContext(ctx,
		`INSERT INTO audio_files (sha, ext, bytes, created) VALUES (?, 'wav', ?, ?) ON CONFLICT DO UPDATE SET bytes = excluded.bytes, created = `+
			`excluded.created`, sha, st.Size(), now()); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, `INSERT INTO facts (sha, version, body) VALUES (?, ?, ?) ON CONFLICT DO UPDATE SET body = excluded.body`, sha,
		facts.Version, string(body)); err != nil {
		return err
	}
	if err := tx.Commit(); err != nil {
		return err
	}
	s.mu.Lock()
	delete(s.facts, sha)
	s.mu.Unlock()
	return nil
}

// replaceBy makes a file's content that of another, at once: whoever reads the old one goes on reading it.
func replaceBy(from, to string) error {
	fresh := to + ".new"
	if err := os.Remove(fresh); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	if err := os.Link(from, fresh); err != nil {
		return err
	}
	if err := os.Rename(fresh, to); err != nil {
		return err
	}
	if err := os.Remove(fresh); err != nil && !errors.Is(err, os.ErrNotExist) { // it stays where both were one file before
		return err
	}
	return nil
}

// OpenRaw opens a registered file as it is.
func (s *Store) OpenRaw(sha string) (*os.File, error) {
	f, err := os.Open(s.audioPath(sha, "wav"))
	if errors.Is(err, os.ErrNotExist) {
		return nil, ErrNotFound
	}
	return f, err
}

// Open opens registered audio, silence of its length where its file is damaged (Facts say how); with Onsets and KickPitch it
// makes Store a mix.Library.
func (s *Store) Open(sha string) (audio.Source, func() error, error) {
	a, err := s.Facts(context.Background(), sha)
	if err == nil && a.Damage == "" {
		src, closeFile, err := s.open(sha)
		if err == nil {
			return src, closeFile, nil
		}
		damaged := *a
		if damaged.Damage = s.damage(context.Background(), sha); damaged.Damage == "" {
			return nil, nil, err // too many open files, perhaps: it may work later
		}
		a = &damaged
		s.keep(sha, a)
	}
	if err != nil {
		return nil, nil, fmt.Errorf("opening audio: %w", err)
	}
	is := audio.Format{
		Container: "wav",
		Encoding:  audio.Float,
		BitDepth:  32,
		Rate:      a.Rate,
		Channels:  a.Channels,
		Frames:    int64(math.Round(a.DurationS * float64(a.Rate))),
	}
	return audio.Silence{Is: is}, func() error { return nil }, nil
}

func (s *Store) open(sha string) (audio.Source, func() error, error) {
	f, err := os.Open(s.audioPath(filepath.Base(sha), "wav"))
	if err != nil {
		return nil, nil, fmt.Errorf("opening audio: %w", err)
	}
	st, err := f.Stat()
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	r, err := wav.NewReader(f, st.Size())
	if err != nil {
		f.Close()
		return nil, nil, err
	}
	return r, f.Close, nil
}

// Onsets returns the hits of registered audio, doubtful ones too.
func (s *Store) Onsets(sha string) ([]meter.Onset, error) {
	a, err := s.Facts(context.Background(), sha)
	if err != nil {
		return nil, err
	}
	return a.Hits, nil
}

// KickPitch returns the pitch of registered audio as a kick, the zero value where there is none.
func (s *Store) KickPitch(sha string) (meter.Pitch, error) {
	a, err := s.Facts(context.Background(), sha)
	if err != nil || a.Kick == nil {
		return meter.Pitch{}, err
	}
	return *a.Kick, nil
}
