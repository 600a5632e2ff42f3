package intake

import (
	"context"
	"errors"
	"fmt"

	"mellowthump/app/store"
	"mellowthump/app/unpack"
	"mellowthump/app/worker"
	"mellowthump/core/archive"
	"mellowthump/core/session"
)

// isArchive reports whether a file begins like a zip.
func isArchive(head []byte) bool { return string(head) == "PK\x03\x04" }

// importArchive makes a song that is still empty what an archive holds. Nothing of the song changes until all of it is in.
func (h *handlers) importArchive(ctx context.Context, j store.Job, incoming string, report worker.Report) error {
	f, err := h.Store.OpenIncoming(incoming)
	if err != nil {
		return errors.New("the upload is no longer there; send the file again")
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return err
	}
	report(0, "reading the archive")
	a, err := archive.Open(f, st.Size())
	if err != nil {
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	song, err := h.Store.Load(ctx, j.SongID)
	if err != nil {
		return err
	}
	if len(song.Stems) > 0 || len(song.References) > 0 {
		return errors.New("it is a song of its own: drop it on the list of songs, or on a song without stems; nothing was taken from it")
	}
	got, err := unpack.Song(ctx, h.Store, a, func(done float64, name string) { report(done, "measuring "+name) })
	if err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return fmt.Errorf("%w; nothing was taken from it", err)
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	return h.Store.ReadArchive(context.WithoutCancel(ctx), j.SongID, session.Become{Song: got, Said: "Read the archive " + j.Name}, a.History, j.ID)
}
