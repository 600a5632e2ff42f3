package store

import (
	"errors"
	"syscall"

	"modernc.org/sqlite"
	sqlite3 "modernc.org/sqlite/lib"
)

// Full reports whether an error says that there is no room on the disk, for a file or for the database.
func Full(err error) bool {
	var db *sqlite.Error
	if errors.As(err, &db) {
		return db.Code() == sqlite3.SQLITE_FULL || db.Code() == sqlite3.SQLITE_IOERR_SHMSIZE
	}
	return errors.Is(err, syscall.ENOSPC) || errors.Is(err, syscall.EDQUOT)
}
