// Package demodata puts the demo songs of the core into a data folder, as files like any others.
package demodata

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"math"

	"golang.org/x/sync/errgroup"

	"mellowthump/app/store"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/intake"
)

// Load stores the demo song Slow Ferry.
func Load(ctx context.Context, st *store.Store) error { return Song(ctx, st, demo.SlowFerry()) }

// Song stores a demo song with its audio, as 24-bit files like any others.
func Song(ctx context.Context, st *store.Store, d demo.Song) error {
	hashes := make([]string, len(d.Stems))
	var g errgroup.Group
	g.SetLimit(2)
	for i, stem := range d.Stems {
		g.Go(func() error {
			var file bytes.Buffer
			if err := wav.Write(&file, stem.Sound, wav.Int24); err != nil {
				return err
			}
			sum := sha256.Sum256(file.Bytes())
			hashes[i] = hex.EncodeToString(sum[:])
			src, err := wav.NewReader(bytes.NewReader(file.Bytes()), int64(file.Len()))
			if err != nil {
				return err
			}
			a, err := intake.Analyse(ctx, src, stem.Name, nil)
			if err == nil {
				err = intake.Describe(ctx, src, a)
			}
			if err != nil {
				return fmt.Errorf("measuring %s: %w", stem.Name, err)
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
	_, err := st.CreateSong(ctx, d.Song, "The demo song")
	return err
}
