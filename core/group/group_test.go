package group

import (
	"bytes"
	"context"
	"errors"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"log/slog"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"
)

// lines is a log that several write to.
type lines struct {
	mu sync.Mutex
	b  bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.b.String()
}

// logged runs f and returns what was logged meanwhile.
func logged(t *testing.T, f func(said *lines)) string {
	var b lines
	was := slog.Default()
	slog.SetDefault(slog.New(slog.NewTextHandler(&b, nil)))
	t.Cleanup(func() { slog.SetDefault(was) })
	f(&b)
	slog.SetDefault(was)
	return b.String()
}

func broken() { var none []int; _ = none[len(none)] }

// However work is begun, its panic is an error of those who wait for it, logged once with the place where it happened.
func TestPanicsAreErrors(t *testing.T) {
	for name, run := range map[string]func() error{
		"Try": func() error { return Try(func() error { broken(); return nil }) },
		"Group": func() error {
			var g Group
			g.Go(func() error { broken(); return nil })
			return g.Wait()
		},
		"WithContext": func() error {
			g, ctx := WithContext(context.Background())
			g.Go(func() error { broken(); return nil })
			g.Go(func() error { <-ctx.Done(); return ctx.Err() }) // it ends with the first error
			return g.Wait()
		},
		"All, in a group": func() error {
			var g Group
			g.Go(func() error { All(4, func(i int) { broken() }); return nil })
			return g.Wait()
		},
	} {
		var err error
		said := logged(t, func(*lines) { err = run() })
		if !Stopped(err) || !strings.Contains(err.Error(), "inside the program") {
			t.Errorf("%s: %v", name, err)
		}
		if n := strings.Count(said, "work stopped short"); n < 1 || name != "All, in a group" && n > 1 || !strings.Contains(said, "group_test.go") {
			t.Errorf("%s: logged %d times: %s", name, n, said)
		}
	}
	logged(t, func(said *lines) {
		Beside(broken)
		After(0, broken)
		for end := time.Now().Add(time.Minute); strings.Count(said.String(), "work stopped short") < 2; runtime.Gosched() {
			if time.Now().After(end) {
				t.Fatal("nothing is logged of work that nobody waits for")
			}
		}
	})
	if err := Try(func() error { return errors.ErrUnsupported }); Stopped(err) || err != errors.ErrUnsupported {
		t.Errorf("an error became %v", err)
	}
}

// All does each once, and no more at once than there are processors.
func TestAll(t *testing.T) {
	got := make([]int, 1000)
	All(len(got), func(i int) { got[i]++ })
	for i, n := range got {
		if n != 1 {
			t.Fatalf("%d was done %d times", i, n)
		}
	}
	All(0, func(int) { t.Error("nothing was asked") })
}

// A group's bound holds, and its first error is that of all.
func TestLimit(t *testing.T) {
	var g Group
	g.SetLimit(1)
	busy := make(chan bool, 1)
	for range 20 {
		g.Go(func() error {
			select {
			case busy <- true:
			default:
				return errors.New("two at once")
			}
			runtime.Gosched()
			<-busy
			return nil
		})
	}
	if err := g.Wait(); err != nil {
		t.Error(err)
	}
}

// Nothing else in the program starts a goroutine.
func TestNothingElseStartsGoroutines(t *testing.T) {
	seen := 0
	for _, root := range []string{"../../core", "../../app", "../../cmd"} {
		err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "core/group/") {
				return err
			}
			files := token.NewFileSet()
			f, err := parser.ParseFile(files, path, nil, 0)
			if err != nil {
				return err
			}
			seen++
			ast.Inspect(f, func(n ast.Node) bool {
				at := ""
				switch n := n.(type) {
				case *ast.GoStmt:
					at = "go"
				case *ast.ImportSpec:
					if strings.Contains(n.Path.Value, "x/sync/errgroup") {
						at = "errgroup"
					}
				case *ast.SelectorExpr:
					if x, ok := n.X.(*ast.Ident); ok && (x.Name == "time" || x.Name == "context") && n.Sel.Name == "AfterFunc" ||
						ok && x.Name == "sync" && n.Sel.Name == "WaitGroup" {
						at = x.Name + "." + n.Sel.Name
					}
				}
				if at != "" {
					t.Errorf("%s: %s; core/group starts goroutines, and recovers", files.Position(n.Pos()), at)
				}
				return true
			})
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if seen < 200 {
		t.Errorf("only %d files were read", seen)
	}
}
