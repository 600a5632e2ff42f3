package store

import (
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strconv"
	"strings"
)

// printPath is where a print of a song lies when it is whole.
func (s *Store) printPath(song string, job int64) string {
	return filepath.Join(s.dir, "prints", song+"-"+strconv.FormatInt(job, 10)+".zip")
}

// WritePrint writes a print beside its name, and then under it: no half one is ever there. What a stop left is written over.
// dir is a folder for what is printed on the way; it is gone after.
func (s *Store) WritePrint(song string, job int64, write func(f *os.File, dir string) error) error {
	whole := s.printPath(song, job)
	dir := whole + ".parts"
	if err := os.RemoveAll(dir); err != nil {
		return err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	f, err := os.OpenFile(whole+".part", os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	err = write(f, dir)
	if err == nil {
		err = f.Sync()
	}
	if e := f.Close(); err == nil {
		err = e
	}
	if err == nil {
		err = os.Rename(whole+".part", whole)
	}
	if err != nil {
		os.Remove(whole + ".part")
	}
	return err
}

// OpenPrint opens a print that is whole; ErrNotFound where there is none.
func (s *Store) OpenPrint(song string, job int64) (*os.File, error) {
	f, err := os.Open(s.printPath(song, job))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNotFound
	}
	return f, err
}

// DropPrints removes the prints of a song, all but one; 0: all.
func (s *Store) DropPrints(song string, but int64) error {
	files, err := os.ReadDir(filepath.Join(s.dir, "prints"))
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	for _, f := range files {
		if strings.HasPrefix(f.Name(), song+"-") && f.Name() != filepath.Base(s.printPath(song, but)) {
			if e := os.RemoveAll(filepath.Join(s.dir, "prints", f.Name())); err == nil {
				err = e
			}
		}
	}
	return err
}
