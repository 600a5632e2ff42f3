// Package demodata puts the demo songs of the core into a data folder, as files like any others.
package demodata

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/facts"
	"mellowthump/core/group"
	"mellowthump/core/session"
)

// Load stores the demo song Slow Ferry.
func Load(ctx context.Context, st *store.Store) error { return Song(ctx, st, demo.SlowFerry()) }

// Song stores a demo song with its audio, as 24-bit files like any others.
func Song(ctx context.Context, st *store.Store, d demo.Song) error {
	type sound struct {
		name string
		of   audio.Buffer
	}
	var all []sound
	for _, stem := range d.Stems {
		all = append(all, sound{stem.Name, stem.Sound})
	}
	for _, f := range d.Finished {
		all = append(all, sound{f.Name, f.Sound})
	}
	hashes := make([]string, len(all))
	var g group.Group
	g.SetLimit(2)
	for i, s := range all {
		g.Go(func() error {
			var file bytes.Buffer
			if err := wav.Write(&file, s.of, wav.Int24); err != nil {
				return err
			}
			sum := sha256.Sum256(file.Bytes())
			hashes[i] = hex.EncodeToString(sum[:])
			src, err := wav.NewReader(bytes.NewReader(file.Bytes()), int64(file.Len()))
			if err != nil {
				return err
			}
			a, err := facts.Analyse(ctx, src, s.name, nil)
			if err == nil {
				err = facts.Describe(ctx, src, a)
			}
			if err != nil {
				return fmt.Errorf("measuring %s: %w", s.name, err)
			}
			incoming, err := st.Incoming(&file, math.MaxInt64-1)
			if err != nil {
				return err
			}
			return st.Register(ctx, incoming, hashes[i], a)
		})
	}
	if err := g.Wait(); err != nil {
		return err
	}
	for i, stem := range d.Stems {
		stem.Audio = hashes[i]
		d.Song.Stems = append(d.Song.Stems, stem.Stem)
	}
	for i, f := range d.Finished {
		d.Song.References = append(d.Song.References, session.Reference{ID: fmt.Sprintf("r%d", i+1), Name: f.Name, Audio: hashes[len(d.Stems)+i]})
	}
	_, err := st.CreateSong(ctx, d.Song, "The demo song")
	return err
}
