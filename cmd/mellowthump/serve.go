package main

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sync/errgroup"

	"mellowthump/app/store"
	"mellowthump/app/web"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/intake"
)

const defaultAddr = "127.0.0.1:8808"

func flags(name string) *flag.FlagSet {
	f := flag.NewFlagSet(name, flag.ContinueOnError)
	f.SetOutput(io.Discard)
	return f
}

func parse(f *flag.FlagSet, args []string) error {
	if err := f.Parse(args); err != nil {
		return errUsage{fmt.Errorf("%s: %w", f.Name(), err)}
	}
	return nil
}

// dataDir is where songs are kept unless said otherwise.
func dataDir() string {
	base, err := os.UserConfigDir()
	if err != nil {
		base = "."
	}
	return filepath.Join(base, "mellowthump")
}

func serve(ctx context.Context, args []string, out io.Writer) error {
	f := flags("serve")
	addr := f.String("addr", defaultAddr, "")
	dir := f.String("data", dataDir(), "")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return errUsage{fmt.Errorf("serve takes no file names, got %q", f.Arg(0))}
	}
	return listen(ctx, *addr, *dir, out, nil)
}

// demoServe serves a fresh folder that holds the demo song.
func demoServe(ctx context.Context, args []string, out io.Writer) error {
	f := flags("demo")
	addr := f.String("addr", defaultAddr, "")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return errUsage{fmt.Errorf("demo takes no file names, got %q", f.Arg(0))}
	}
	dir, err := os.MkdirTemp("", "mellowthump-demo-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	return listen(ctx, *addr, dir, out, func(st *store.Store) error {
		fmt.Fprintln(out, "Making the demo song Slow Ferry ...")
		return loadDemo(ctx, st)
	})
}

// listen serves a data folder until ctx ends. Only loopback addresses are served.
func listen(ctx context.Context, addr, dir string, out io.Writer, prepare func(*store.Store) error) error {
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return errUsage{fmt.Errorf("--addr: %w", err)}
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return errUsage{fmt.Errorf("--addr %s: only this machine is served (127.0.0.1, ::1 or localhost); there is no password yet", addr)}
	}
	l, err := net.Listen("tcp", addr)
	if err != nil {
		return fmt.Errorf("listening on %s: %w; choose another with --addr", addr, err)
	}
	defer l.Close()
	st, err := store.Open(ctx, dir)
	if err != nil {
		return err
	}
	defer st.Close()
	if prepare != nil {
		if err := prepare(st); err != nil {
			return err
		}
	}
	_, port, _ := net.SplitHostPort(l.Addr().String())
	hosts := []string{"127.0.0.1:" + port, "localhost:" + port, "[::1]:" + port}
	server, err := web.New(st, hosts)
	if err != nil {
		return err
	}
	if err := server.Pool.Resume(ctx); err != nil {
		return err
	}
	defer server.Pool.Close()
	srv := &http.Server{Handler: server, ReadHeaderTimeout: 10 * time.Second}
	done := make(chan error, 1)
	go func() { done <- srv.Serve(l) }()
	fmt.Fprintf(out, "Mellow Thump is at http://%s/  (data in %s; Ctrl+C stops it)\n", net.JoinHostPort(host, port), dir)
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
	}
	stop, cancel := context.WithTimeout(context.Background(), 3*time.Second)
	defer cancel()
	if err := srv.Shutdown(stop); err != nil && !errors.Is(err, context.DeadlineExceeded) {
		return err
	}
	return nil
}

// loadDemo stores the demo song with its audio, as 24-bit files like any others.
func loadDemo(ctx context.Context, st *store.Store) error {
	d := demo.SlowFerry()
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
			a, err := intake.Analyse(ctx, audio.Source(src), stem.Name, nil)
			if err != nil {
				return fmt.Errorf("measuring %s: %w", stem.Name, err)
			}
			incoming, err := st.Incoming(&file, web.MaxFileBytes)
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
