package shell

import (
	"context"
	"errors"
	"fmt"

	"mellowthump/app/store"
	"mellowthump/app/worker"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/facts"
)

// TakeIn measures a WAV among what came in, puts it in place under its hash and registers it, unless it is known already. name and
// original say what it came as. mended says that a registered file was damaged and is whole again. A stop is heeded before it is put
// in place, and not during it.
func (s *Server) TakeIn(
	ctx context.Context,
	incoming, name string,
	original audio.Format,
	report worker.Report,
) (sha string, a *facts.Analysis, mended bool, err error) {
	if sha, err = s.Store.HashIncoming(incoming); err != nil {
		return "", nil, false, errors.New("the upload is no longer there; send the file again")
	}
	a, err = s.Store.Registered(ctx, sha)
	if mended = err == nil && a.Damage != ""; !mended && !errors.Is(err, store.ErrNotFound) {
		return sha, a, false, err
	}
	if err != nil { // a song may have it, of which nothing is left
		if mended, err = s.Store.Uses(ctx, sha); err != nil {
			return sha, nil, false, err
		}
	}
	f, err := s.Store.OpenIncoming(incoming)
	if err != nil {
		return sha, nil, false, err
	}
	defer f.Close()
	st, err := f.Stat()
	if err != nil {
		return sha, nil, false, err
	}
	src, err := wav.NewReader(f, st.Size())
	if err != nil {
		return sha, nil, false, fmt.Errorf("%w; nothing was taken from it", err)
	}
	report(0, "measuring")
	if a, err = facts.Analyse(ctx, src, name, func(p float64) { report(p, "measuring") }); err != nil {
		if ctx.Err() != nil {
			return sha, nil, false, ctx.Err()
		}
		return sha, nil, false, fmt.Errorf("%w; nothing was taken from it", err)
	}
	report(0.85, "listening")
	if err := facts.Describe(ctx, src, a); err != nil {
		return sha, nil, false, err
	}
	a.Format, a.BitDepth, a.EncodingIs = original.Container, original.BitDepth, string(original.Encoding)
	if err := ctx.Err(); err != nil {
		return sha, nil, false, err
	}
	if err := s.Store.Register(context.WithoutCancel(ctx), incoming, sha, a); err != nil {
		return sha, nil, false, fmt.Errorf("it could not be stored: %w", err)
	}
	if mended {
		s.Renderer.Forget() // silence stood for it
	}
	return sha, a, mended, nil
}
