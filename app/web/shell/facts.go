package shell

import (
	"context"
	"fmt"

	"mellowthump/app/store"
	"mellowthump/core/facts"
	"mellowthump/core/session"
)

// factsOf gathers what is known of a song's files.
func factsOf(ctx context.Context, st *store.Store, song *session.Song) (map[string]*facts.Analysis, error) {
	out := map[string]*facts.Analysis{}
	for _, stem := range song.Stems {
		if out[stem.Audio] != nil {
			continue
		}
		a, err := st.Facts(ctx, stem.Audio)
		if err != nil {
			return nil, fmt.Errorf("the facts of %s: %w", stem.Name, err)
		}
		out[stem.Audio] = a
	}
	return out, nil
}
