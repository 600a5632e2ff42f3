package store

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"

	"github.com/jmoiron/sqlx"
	"github.com/pressly/goose/v3"
)

// lockName is the file that whoever works on a data folder holds.
const lockName = "in-use"

// InUse reports whether a program holds a data folder.
func InUse(dir string) bool {
	f, err := os.Open(filepath.Join(dir, lockName))
	if err != nil {
		return false
	}
	defer f.Close()
	return syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB) != nil
}

// lock takes a data folder for this program alone; the error says who has it.
func lock(dir string) (*os.File, error) {
	f, err := os.OpenFile(filepath.Join(dir, lockName), os.O_RDWR|os.O_CREATE, 0o600)
	if err != nil {
		return nil, fmt.Errorf("taking the data folder: %w", err)
	}
	if err := syscall.Flock(int(f.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		held := make([]byte, 200)
		n, _ := f.Read(held)
		f.Close()
		if !errors.Is(err, syscall.EWOULDBLOCK) {
			return nil, fmt.Errorf("taking the data folder %s: %w", dir, err)
		}
		who := "another Mellow Thump"
		if process, where, ok := strings.Cut(strings.TrimSpace(string(held[:n])), " "); ok {
			who += " (process " + process + ", at " + where + ")"
		} else if process != "" {
			who += " (process " + process + ")"
		}
		return nil, fmt.Errorf("the data folder %s is in use by %s; stop that one, or name another folder with --data", dir, who)
	}
	return f, holder(f, "")
}

// holder writes who has the folder, and where it is served.
func holder(f *os.File, where string) error {
	if err := f.Truncate(0); err != nil {
		return err
	}
	_, err := f.WriteAt([]byte(strings.TrimSpace(strconv.Itoa(os.Getpid())+" "+where)+"\n"), 0)
	return err
}

// ServedAt notes where the folder is served, for whoever else wants it.
func (s *Store) ServedAt(where string) error { return holder(s.lock, where) }

// migrate brings the database to this program's schema; the database as it was is kept beside it. One of a newer
// program is left alone.
func migrate(ctx context.Context, db *sqlx.DB, p *goose.Provider, path string) error {
	now, target, err := p.GetVersions(ctx)
	if err != nil {
		if strings.Contains(err.Error(), "not a database") || strings.Contains(err.Error(), "malformed") {
			return fmt.Errorf(
				"%s is damaged, or no database of this program: %w. Put a copy of it back (a copy is kept beside it at each change of its form, named .before-), or "+
					"name another folder with --data",
				path,
				err,
			)
		}
		return err
	}
	switch {
	case now > target:
		return fmt.Errorf("%s was written by a newer Mellow Thump (form %d, this one knows %d); nothing was changed. Start the newer one", path, now, target)
	case now == target:
		return nil
	case now > 0:
		if err := backup(ctx, db, fmt.Sprintf("%s.before-%d", path, target)); err != nil {
			return err
		}
	}
	_, err = p.Up(ctx)
	return err
}

// backup keeps a copy of the database; one of that name is replaced.
func backup(ctx context.Context, db *sqlx.DB, to string) error {
	if err := os.Remove(to); err != nil && !errors.Is(err, os.ErrNotExist) {
		return fmt.Errorf("keeping a copy of the database: %w", err)
	}
	if _, err := db.ExecContext(ctx, `VACUUM INTO ?`, to); err != nil {
		return fmt.Errorf("keeping a copy of the database: %w", err)
	}
	return os.Chmod(to, 0o600)
}
