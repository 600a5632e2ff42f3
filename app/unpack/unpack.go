// Package unpack puts the song of an archive into a data folder.
package unpack

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"mellowthump/app/decode"
	"mellowthump/app/store"
	"mellowthump/core/archive"
	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
	"mellowthump/core/group"
	"mellowthump/core/session"
)

// Song brings all audio of an archive into a data folder, measured and under its hash, and returns its song. What is there
// already is not measured again; report says how far it is, 0 to 1.
func Song(ctx context.Context, st *store.Store, a *archive.Archive, report func(done float64, name string)) (session.Song, error) {
	files := a.Files()
	names := map[string]string{}
	for _, s := range a.Song.Stems {
		names[s.Audio] = s.Name
	}
	for _, r := range a.Song.References {
		names[r.Audio] = r.Name
	}
	for i, sha := range files {
		report(float64(i)/float64(max(1, len(files))), names[sha])
		if f, err := st.Registered(ctx, sha); err == nil && f.Damage == "" {
			continue
		} else if err != nil && !errors.Is(err, store.ErrNotFound) {
			return a.Song, err
		}
		if err := take(ctx, st, a, sha, names[sha]); err != nil {
			return a.Song, err
		}
	}
	return a.Song, nil
}

// take brings one file.
func take(ctx context.Context, st *store.Store, a *archive.Archive, sha, name string) error {
	r, w := io.Pipe()
	group.Beside(func() { w.CloseWithError(group.Try(func() error { return a.Copy(ctx, w, sha) })) })
	incoming, err := st.Incoming(r, archive.MostFile)
	r.Close()
	if err != nil {
		return err
	}
	defer st.DropIncoming(incoming)
	is, err := st.HashIncoming(incoming)
	if err == nil && is != sha {
		err = fmt.Errorf("the audio %.8s is damaged: it is not what its name says", sha)
	}
	if err != nil {
		return err
	}
	if _, err := register(ctx, st, incoming, sha, name); err != nil {
		return fmt.Errorf("the audio %.8s: %w", sha, err)
	}
	return nil
}

// register measures a WAV that came in and puts it in place.
func register(ctx context.Context, st *store.Store, incoming, sha, name string) (*facts.Analysis, error) {
	f, err := st.OpenIncoming(incoming)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size, err := f.Stat()
	if err != nil {
		return nil, err
	}
	src, err := wav.NewReader(f, size.Size())
	if err != nil {
		return nil, err
	}
	known, err := facts.Analyse(ctx, src, name, nil)
	if err == nil {
		err = facts.Describe(ctx, src, known)
	}
	if err != nil {
		return nil, err
	}
	return known, st.Register(context.WithoutCancel(ctx), incoming, sha, known)
}

// File brings an audio file of any known kind into a data folder, as a WAV, measured and under its hash.
func File(ctx context.Context, st *store.Store, path string) (sha string, known *facts.Analysis, err error) {
	f, err := os.Open(path)
	if err != nil {
		return "", nil, err
	}
	defer f.Close()
	incoming := ""
	take := func(r io.Reader) (err error) {
		incoming, err = st.Incoming(r, archive.MostFile)
		return err
	}
	if wav.Is(f) {
		if _, err = f.Seek(0, io.SeekStart); err == nil {
			err = take(f)
		}
	} else {
		_, err = decode.WAV(ctx, f, take)
	}
	if incoming != "" {
		defer st.DropIncoming(incoming)
	}
	if err == nil {
		sha, err = st.HashIncoming(incoming)
	}
	if err == nil {
		known, err = register(ctx, st, incoming, sha, filepath.Base(path))
	}
	return sha, known, err
}
