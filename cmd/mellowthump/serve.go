package main

import (
	"bufio"
	"bytes"
	"strings"

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
	"slices"
	"time"

	"golang.org/x/term"

	"mellowthump/app/demodata"
	"mellowthump/app/gate"
	"mellowthump/app/store"
	"mellowthump/app/web"
	"mellowthump/app/web/intake"
	"mellowthump/app/web/shell"
	"mellowthump/core/demo"
	"mellowthump/core/group"
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
	named := bounceFolders(f)
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return errUsage{fmt.Errorf("serve takes no file names, got %q", f.Arg(0))}
	}
	return listen(ctx, *addr, *dir, out, named.name(ctx))
}

// demoServe serves a fresh folder that holds the demo song.
func demoServe(ctx context.Context, args []string, out io.Writer) error {
	f := flags("demo")
	addr := f.String("addr", defaultAddr, "")
	named := bounceFolders(f)
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
		fmt.Fprintln(out, "Making the demo songs Slow Ferry, Copper Kettle and Tidal Glass ...")
		if err := demodata.Song(ctx, st, demo.TidalGlass()); err != nil {
			return err
		}
		if err := demodata.Song(ctx, st, demo.CopperKettle()); err != nil {
			return err
		}
		if err := demodata.Load(ctx, st); err != nil { // the last is the first on the list
			return err
		}
		return named.name(ctx)(st)
	})
}

// bounces are the folders that are named on the command line: of a song by its name, where its bounces come.
type bounces map[string]string

// bounceFolders adds the flag that names them.
func bounceFolders(f *flag.FlagSet) bounces {
	named := bounces{}
	f.Func("bounces", "", func(text string) error {
		song, dir, ok := strings.Cut(text, "=")
		if !ok || strings.TrimSpace(song) == "" || dir == "" {
			return errors.New("say of which song: --bounces 'SONG=FOLDER'")
		}
		named[strings.TrimSpace(song)] = dir
		return nil
	})
	return named
}

// name names them to the songs; a folder that is named already stays as it is known.
func (b bounces) name(ctx context.Context) func(*store.Store) error {
	return func(st *store.Store) error {
		songs, err := st.Songs(ctx)
		if err != nil {
			return err
		}
		for name, dir := range b {
			path, err := filepath.Abs(dir)
			if err != nil {
				return err
			}
			i := slices.IndexFunc(songs, func(s store.SongRow) bool { return strings.EqualFold(s.Name, name) })
			if i < 0 {
				return fmt.Errorf("--bounces: there is no song %q", name)
			}
			if now, err := st.BounceFolder(ctx, songs[i].ID); err != nil || now == path {
				if err != nil {
					return err
				}
				continue
			}
			if err := intake.NameBounces(ctx, st, songs[i].ID, path); err != nil {
				return fmt.Errorf("--bounces of %s: %w", name, err)
			}
		}
		return nil
	}
}

// memoryLimit is where the collector begins to work harder: the renders that are kept, and the pass over a long song
// beside them. It is no bound; GOMEMLIMIT sets another.
const memoryLimit = 900 << 20

// admit says who is served at an address: this machine without a password; a network with the one that was set, or
// with one for this start, which is printed with what else must be known.
func admit(host, port, dir string, out io.Writer) (web.Access, error) {
	if ip := net.ParseIP(host); host == "localhost" || ip != nil && ip.IsLoopback() {
		return web.Access{Known: shell.Loopback(port)}, nil
	}
	hash, err := gate.Read(dir)
	if err != nil {
		return web.Access{}, err
	}
	if hash == "" {
		once := gate.Once()
		if hash, err = gate.Hash(once); err != nil {
			return web.Access{}, err
		}
		fmt.Fprintf(out, "The password of this start is %s  (mellowthump password sets a lasting one)\n", once)
	}
	fmt.Fprintln(out, "It is open to the network and NOT encrypted: whoever can listen in reads all that goes over it, the password too.")
	name, err := os.Hostname()
	if err != nil {
		name = ""
	}
	return web.Access{Known: shell.Network(port, host, name, name+".local"), Gate: gate.New(hash)}, nil
}

// addresses are those that a host is reached at: all of this machine's where it stands for all.
func addresses(host, port string) []string {
	all := []string{host}
	if ip := net.ParseIP(host); host == "" || ip != nil && ip.IsUnspecified() {
		all = []string{"localhost"}
		found, _ := net.InterfaceAddrs() // none known: the machine's own name is left
		for _, a := range found {
			if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
				all = append(all, n.IP.String())
			}
		}
	}
	for i, name := range all {
		all[i] = "http://" + net.JoinHostPort(name, port) + "/"
	}
	return all
}

// setPassword keeps the password that is asked for where the program is open to a network.
func setPassword(ctx context.Context, args []string, out io.Writer) error {
	f := flags("password")
	dir := f.String("data", dataDir(), "")
	if err := parse(f, args); err != nil {
		return err
	}
	if f.NArg() > 0 {
		return errUsage{errors.New("password: it is typed when it is asked for, or comes on standard input; never on the command line, where others can see it")}
	}
	word, err := askPassword(out)
	if err != nil {
		return err
	}
	hash, err := gate.Hash(word)
	if err != nil {
		return err
	}
	if err := gate.Write(*dir, hash); err != nil {
		return fmt.Errorf("keeping the password: %w", err)
	}
	fmt.Fprintf(out, "The password is set in %s; it holds from the next start.\n", *dir)
	return nil
}

// askPassword asks twice at a terminal, unseen; else it reads a line.
func askPassword(out io.Writer) (string, error) {
	in := int(os.Stdin.Fd())
	if !term.IsTerminal(in) {
		line, err := bufio.NewReader(io.LimitReader(os.Stdin, 1<<16)).ReadString('\n')
		if err != nil && !errors.Is(err, io.EOF) {
			return "", err
		}
		return strings.TrimRight(line, "\r\n"), nil
	}
	var words [2][]byte
	for i, ask := range []string{"New password: ", "Once more: "} {
		fmt.Fprint(out, ask)
		var err error
		if words[i], err = term.ReadPassword(in); err != nil {
			return "", err
		}
		fmt.Fprintln(out)
	}
	if !bytes.Equal(words[0], words[1]) {
		return "", errors.New("the two are not the same; nothing was changed")
	}
	return string(words[0]), nil
}

// listen serves a data folder until ctx ends.
func listen(ctx context.Context, addr, dir string, out io.Writer, prepare func(*store.Store) error) error {
	if os.Getenv("GOMEMLIMIT") == "" {
		debug.SetMemoryLimit(memoryLimit)
	}
	host, _, err := net.SplitHostPort(addr)
	if err != nil {
		return errUsage{fmt.Errorf("--addr: %w", err)}
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
	who, err := admit(host, port, dir, out)
	if err != nil {
		return err
	}
	server, err := web.New(st, who)
	if err != nil {
		return err
	}
	if err := st.ServedAt("http://" + net.JoinHostPort(host, port) + "/"); err != nil {
		return err
	}
	if err := server.Start(ctx); err != nil {
		return err
	}
	defer server.Pool.Close()
	srv := &http.Server{Handler: server, ReadHeaderTimeout: 10 * time.Second, IdleTimeout: 2 * time.Minute, MaxHeaderBytes: 64 << 10}
	done := make(chan error, 1)
	group.Beside(func() { done <- group.Try(func() error { return srv.Serve(l) }) })
	fmt.Fprintf(out, "Mellow Thump is at %s  (data in %s; Ctrl+C stops it)\n", strings.Join(addresses(host, port), " and "), dir)
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
