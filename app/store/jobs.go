package store

import (
	"context"
	"database/sql"
	"errors"

	"github.com/jmoiron/sqlx"
)

// JobState is where a job stands.
type JobState string

// The states of a job.
const (
	Queued    JobState = "queued"
	Running   JobState = "running"
	Done      JobState = "done"
	Failed    JobState = "failed"
	Cancelled JobState = "cancelled"
	Ready     JobState = "ready" // what it brought is in, and waits to be told what it is
)

// Job is a piece of background work.
type Job struct {
	ID       int64    `db:"id"`
	SongID   string   `db:"song_id"`
	Kind     string   `db:"kind"`
	Name     string   `db:"name"`
	Payload  string   `db:"payload"` // JSON, as its kind reads it
	State    JobState `db:"state"`
	Progress float64  `db:"progress"` // 0 to 1
	Message  string   `db:"message"`
	Starts   int      `db:"starts"` // how often it was started
}

// Active reports whether the job has still to end.
func (j Job) Active() bool { return j.State == Queued || j.State == Running }

// MostStarts is how often a job is begun during which the program ended without being told to.
const MostStarts = 5

// Kept reports whether a job was given up for the program's ends and not for what it brought, which is kept: it can be tried again.
func (j Job) Kept() bool { return j.State == Failed && j.Starts >= MostStarts }

// Percent is the progress in per cent.
func (j Job) Percent() int { return int(100*j.Progress + 0.5) }

const jobColumns = `id, song_id, kind, name, payload, state, progress, message, starts`

// AddJob stores a queued job and returns its id.
func (s *Store) AddJob(ctx context.Context, j Job) (int64, error) {
	res, err := s.db.ExecContext(ctx, `INSERT INTO jobs (song_id, kind, name, payload, state, message, created, updated) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		j.SongID, j.Kind, j.Name, j.Payload, j.State, j.Message, now(), now())
	if err != nil {
		return 0, err
	}
	return res.LastInsertId()
}

// SetJob stores where a job stands.
func (s *Store) SetJob(ctx context.Context, id int64, state JobState, progress float64, message string) error {
	return setJob(ctx, s.db, id, state, progress, message)
}

// StartJob notes that a job is started, once more.
func (s *Store) StartJob(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(ctx, `UPDATE jobs SET state = ?, progress = 0, message = '', starts = starts + 1, updated = ? WHERE id = ?`, Running, now(), id)
	return err
}

// StopJob notes that a job was stopped with the program; the start does not count.
func (s *Store) StopJob(ctx context.Context, id int64) error {
	_, err := s.db.ExecContext(
		ctx,
		`UPDATE jobs SET state = ?, progress = 0, starts = MAX(0, starts - 1), updated = ? WHERE id = ? AND state IN ('queued', 'running')`,
		Queued,
		now(),
		id,
	)
	return err
}

func setJob(ctx context.Context, db sqlx.ExecerContext, id int64, state JobState, progress float64, message string) error {
	_, err := db.ExecContext(ctx, `UPDATE jobs SET state = ?, progress = ?, message = ?, updated = ? WHERE id = ?`, state, progress, message, now(), id)
	return err
}

// Job returns one job.
func (s *Store) Job(ctx context.Context, id int64) (Job, error) {
	var j Job
	err := s.db.GetContext(ctx, &j, `SELECT `+jobColumns+` FROM jobs WHERE id = ?`, id)
	if errors.Is(err, sql.ErrNoRows) {
		return j, ErrNotFound
	}
	return j, err
}

// SetReady keeps what a job brought until it is told what it is.
func (s *Store) SetReady(ctx context.Context, id int64, payload string) error {
	_, err := s.db.ExecContext(ctx, `UPDATE jobs SET state = ?, progress = 1, message = '', payload = ?, updated = ? WHERE id = ?`, Ready, payload, now(), id)
	return err
}

// Jobs lists a song's jobs that are active, failed or ready, oldest first.
func (s *Store) Jobs(ctx context.Context, song string) ([]Job, error) {
	var rows []Job
	err := s.db.SelectContext(
		ctx,
		&rows,
		`SELECT `+jobColumns+` FROM jobs WHERE song_id = ? AND state IN ('queued', 'running', 'failed', 'ready') ORDER BY id`,
		song,
	)
	return rows, err
}

// Again puts a job that was given up into the queue as one that was never begun; ErrNotFound where it is none.
func (s *Store) Again(ctx context.Context, id int64) error {
	res, err := s.db.ExecContext(
		ctx,
		`UPDATE jobs SET state = ?, progress = 0, message = '', starts = 0, updated = ? WHERE id = ? AND state = ? AND starts >= ?`,
		Queued,
		now(),
		id,
		Failed,
		MostStarts,
	)
	if err != nil {
		return err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNotFound)
	}
	return nil
}

// kept lists the jobs whose uploads are wanted: those that a stop of the program left, and those that can be tried again.
func (s *Store) kept(ctx context.Context) ([]Job, error) {
	var rows []Job
	err := s.db.SelectContext(ctx, &rows, `SELECT `+jobColumns+` FROM jobs WHERE state IN ('queued', 'running') OR state = 'failed' AND starts >= ?`, MostStarts)
	return rows, err
}

// Unfinished lists all jobs that a stop of the program left, oldest first.
func (s *Store) Unfinished(ctx context.Context) ([]Job, error) {
	var rows []Job
	err := s.db.SelectContext(ctx, &rows, `SELECT `+jobColumns+` FROM jobs WHERE state IN ('queued', 'running') ORDER BY id`)
	return rows, err
}

// ForgetJobs removes a song's ended jobs from the list; a print that is whole is known by its job.
func (s *Store) ForgetJobs(ctx context.Context, song string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM jobs WHERE song_id = ? AND kind <> 'print' AND state NOT IN ('queued', 'running')`, song)
	return err
}

// ForgetJobsOf removes a song's ended jobs of one kind from the list.
func (s *Store) ForgetJobsOf(ctx context.Context, song, kind string) error {
	_, err := s.db.ExecContext(ctx, `DELETE FROM jobs WHERE song_id = ? AND kind = ? AND state NOT IN ('queued', 'running')`, song, kind)
	return err
}

// LastJob returns the last job of a kind that a song had, ErrNotFound where it had none.
func (s *Store) LastJob(ctx context.Context, song, kind string) (Job, error) {
	var j Job
	err := s.db.GetContext(ctx, &j, `SELECT `+jobColumns+` FROM jobs WHERE song_id = ? AND kind = ? ORDER BY id DESC LIMIT 1`, song, kind)
	if errors.Is(err, sql.ErrNoRows) {
		return j, ErrNotFound
	}
	return j, err
}
