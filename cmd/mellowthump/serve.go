package main

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime/debug"
	"time"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/app/web"
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
		return demodata.Load(ctx, st)
	})
}

// memoryLimit is where the collector begins to work harder: the renders that are kept, and a long song's
// fit beside them. It is no bound; GOMEMLIMIT sets another.
const memoryLimit = 2 << 30

// listen serves a data folder until ctx ends. Only loopback addresses are served.
func listen(ctx context.Context, addr, dir string, out io.Writer, prepare func(*store.Store) error) error {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
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
	if err := server.Start(ctx); err != nil {
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
