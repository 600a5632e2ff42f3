package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"time"

	"github.com/jmoiron/sqlx"

	"mellowthump/core/audio"
	"mellowthump/core/facts"
	"mellowthump/core/group"
)

// Registered returns what is known of a file; ErrNotFound where it was never measured. Facts of an older analyser are measured
// anew, once for all who ask, whoever of them goes away.
func (s *Store) Registered(ctx context.Context, sha string) (*facts.Analysis, error) {
	a, err := s.known(ctx, sha)
	if a == nil && err == nil {
		return s.remeasured(ctx, sha)
	}
	return a, err
}

// known are the facts of a file that are there; nil where it is to be measured anew.
func (s *Store) known(ctx context.Context, sha string) (*facts.Analysis, error) {
	s.files.RLock() // what is read here is of a file that stays
	defer s.files.RUnlock()
	s.mu.Lock()
	a := s.facts[sha]
	s.mu.Unlock()
	if a != nil {
		return a, nil
	}
	var body string
	err := s.db.GetContext(ctx, &body, `SELECT body FROM facts WHERE sha = ? AND version = ?`, sha, facts.Version)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	a = &facts.Analysis{}
	if err := json.Unmarshal([]byte(body), a); err != nil {
		return nil, nil // damaged: the file itself knows best
	}
	a.Damage = s.damage(ctx, sha)
	return s.first(sha, a), nil
}

// Facts are the facts of a file that a song has: where nothing is known of it, neither file nor row, they say that it is gone.
// A song opens all the same.
func (s *Store) Facts(ctx context.Context, sha string) (*facts.Analysis, error) {
	a, err := s.Registered(ctx, sha)
	if errors.Is(err, ErrNotFound) {
		return goneFacts(gone), nil
	}
	return a, err
}

const gone = "gone from the data folder"

// goneFacts stand for those of a file of which nothing is known: a second of silence.
func goneFacts(damage string) *facts.Analysis {
	const rate = 44100
	is := audio.Format{Container: "wav", Encoding: audio.Float, BitDepth: 32, Rate: rate, Channels: 1, Frames: rate}
	a, err := facts.Analyse(context.Background(), audio.Silence{Is: is}, "", nil)
	if err != nil {
		panic("store: silence is not measured: " + err.Error())
	}
	a.Damage = damage
	return a
}

// Forget takes all out of the database that is known of a file.
func (s *Store) Forget(ctx context.Context, sha string) error {
	s.files.Lock()
	defer s.files.Unlock()
	s.forget(sha)
	return s.in(ctx, func(tx *sqlx.Tx) error { return forgetRows(ctx, tx, sha) })
}

func forgetRows(ctx context.Context, tx *sqlx.Tx, sha string) error {
	for _, query := range []string{`DELETE FROM facts WHERE sha = ?`, `DELETE FROM audio_files WHERE sha = ?`} {
		if _, err := tx.ExecContext(ctx, query, sha); err != nil {
			return err
		}
	}
	return nil
}

// Uses reports whether a song has a file, at any of its revisions.
func (s *Store) Uses(ctx context.Context, sha string) (bool, error) {
	var n int
	err := s.db.GetContext(ctx, &n, `SELECT EXISTS (SELECT 1 FROM revisions WHERE instr(body, ?))`, sha)
	return n > 0, err
}

// restored registers a file that is in its place, whole, and whose row is missing; ErrNotFound where there is none.
func (s *Store) restored(ctx context.Context, sha string) error {
	s.files.Lock()
	defer s.files.Unlock()
	if len(sha) != 2*sha256.Size || filepath.Base(sha) != sha {
		return ErrNotFound
	}
	path := s.audioPath(sha, "wav")
	st, err := os.Lstat(path)
	if err != nil || !st.Mode().IsRegular() {
		return ErrNotFound
	}
	if is, err := hash(path); err != nil || is != sha {
		return ErrNotFound
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO audio_files (sha, ext, bytes, created) VALUES (?, 'wav', ?, ?) ON CONFLICT DO NOTHING`, sha, st.Size(), now())
	return err
}

// damage says what became of a registered file, "" where it is whole: its size is compared, and where it was written to
// since it was registered, its hash.
func (s *Store) damage(ctx context.Context, sha string) string {
	var row struct {
		Bytes   int64
		Created string
	}
	if err := s.db.GetContext(ctx, &row, `SELECT bytes, created FROM audio_files WHERE sha = ?`, sha); err != nil {
		return ""
	}
	path := s.audioPath(sha, "wav")
	st, err := os.Lstat(path)
	switch created, _ := time.Parse(time.RFC3339Nano, row.Created); {
	case errors.Is(err, os.ErrNotExist):
		return gone
	case err != nil:
		return "not to be read"
	case !st.Mode().IsRegular():
		return "no plain file"
	case st.Size() < row.Bytes:
		return "cut short"
	case st.Size() > row.Bytes:
		return "not what was brought"
	case st.ModTime().After(created):
		if is, err := hash(path); err != nil {
			return "not to be read"
		} else if is != sha {
			return "not what was brought"
		}
		os.Chtimes(path, time.Time{}, created) // it need not be hashed again
	}
	return ""
}

// first keeps what is known of a file, unless somebody was faster, and returns what is kept.
func (s *Store) first(sha string, a *facts.Analysis) *facts.Analysis {
	s.mu.Lock()
	defer s.mu.Unlock()
	if was := s.facts[sha]; was != nil {
		return was
	}
	s.facts[sha] = a
	return a
}

func (s *Store) keep(sha string, a *facts.Analysis) {
	s.mu.Lock()
	s.facts[sha] = a
	s.mu.Unlock()
}

// forget drops what is known of a file that is no more.
func (s *Store) forget(sha string) {
	s.mu.Lock()
	delete(s.facts, sha)
	s.mu.Unlock()
}

// measuring is a measurement under way that several may wait for.
type measuring struct {
	done chan struct{}
	a    *facts.Analysis
	err  error
}

// remeasured waits for the facts of a registered file by the analyser's current version; the first who asks starts it.
func (s *Store) remeasured(ctx context.Context, sha string) (*facts.Analysis, error) {
	var there string
	err := s.db.GetContext(ctx, &there, `SELECT sha FROM audio_files WHERE sha = ?`, sha)
	if errors.Is(err, sql.ErrNoRows) {
		err = s.restored(ctx, sha)
	}
	if err != nil {
		return nil, err
	}
	s.mu.Lock()
	m := s.measuring[sha]
	if m == nil {
		m = &measuring{done: make(chan struct{})}
		s.measuring[sha] = m
		group.Beside(func() {
			m.err = group.Try(func() (err error) {
				m.a, err = s.remeasure(context.WithoutCancel(ctx), sha)
				return err
			})
			if m.err == nil {
				m.a = s.first(sha, m.a)
			}
			s.mu.Lock()
			delete(s.measuring, sha)
			s.mu.Unlock()
			close(m.done)
		})
	}
	s.mu.Unlock()
	select {
	case <-m.done:
		return m.a, m.err
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// remeasure brings the facts of a registered file to the analyser's current version. What only the file that was brought
// could tell (its name, kind and depth: it may have been an MP3) is taken over from what was known.
func (s *Store) remeasure(ctx context.Context, sha string) (*facts.Analysis, error) {
	var known facts.Analysis
	var body string
	switch err := s.db.GetContext(ctx, &body, `SELECT body FROM facts WHERE sha = ? ORDER BY version DESC LIMIT 1`, sha); {
	case err == nil:
		if err := json.Unmarshal([]byte(body), &known); err != nil { // of no use any more
			known = facts.Analysis{}
		}
	case !errors.Is(err, sql.ErrNoRows):
		return nil, err
	}
	if known.Damage = s.damage(ctx, sha); known.Damage != "" && known.Format != "" {
		return &known, nil
	}
	if known.Damage != "" {
		return goneFacts(known.Damage), nil
	}
	src, closeFile, err := s.open(sha)
	if err != nil {
		return nil, err
	}
	defer closeFile()
	a, err := facts.Analyse(ctx, src, known.File, nil)
	if err == nil {
		err = facts.Describe(ctx, src, a)
	}
	if err != nil {
		return nil, err
	}
	if known.Format != "" {
		a.Format, a.BitDepth, a.EncodingIs = known.Format, known.BitDepth, known.EncodingIs
	}
	fresh, err := json.Marshal(a)
	if err != nil {
		return nil, err
	}
	_, err = s.db.ExecContext(ctx, `INSERT INTO facts (sha, version, body) VALUES (?, ?, ?)
		ON CONFLICT DO UPDATE SET body = excluded.body`, sha, facts.Version, string(fresh))
	return a, err
}

// Refresh measures anew, one after another, what an older analyser measured: before anybody asks.
func (s *Store) Refresh(ctx context.Context) error {
	var old []string
	err := s.db.SelectContext(ctx, &old, `SELECT sha FROM audio_files
		WHERE sha NOT IN (SELECT sha FROM facts WHERE version = ?) ORDER BY created DESC`, facts.Version)
	for _, sha := range old {
		if err == nil {
			_, err = s.Facts(ctx, sha)
		}
	}
	return err
}
