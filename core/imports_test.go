package core_test

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"unicode/utf8"
)

// The import rule of the design: core knows nothing of the application, the web or SQL, the
// layers point down only, and no stage imports another stage.
func TestImports(t *testing.T) {
	if err := filepath.WalkDir(".", func(path string, d fs.DirEntry,
		err error) error { // what go list reads, read here too: a result that is kept is of these files
		if err == nil && strings.HasSuffix(path, ".go") {
			_, err = os.ReadFile(path)
		}
		return err
	}); err != nil {
		t.Fatal(err)
	}
	out, err := exec.Command("go", "list", "-f", "{{.ImportPath}} {{join .Imports \" \"}}", "./...").CombinedOutput()
	if err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	layer := map[string]int{
		"group": 0, "audio": 0, "dsp": 0, "midi": 0, "figure": 0, "search": 0, "field": 1,
		"meter": 1, "move": 1, "session": 2, "facts": 3, "find": 3, "mix": 3, "archive": 3, "device": 4, "bench": 4, "pair": 5, "stage": 5, "landed": 5, "care": 0,
		"export": 7, "stages": 7, "runsheet": 8,
	}
	stages := map[string]bool{}
	for _, s := range strings.Fields("intake levels pocket duck room body width compare print logbook demo") {
		stages[s], layer[s] = true, 6
	}
	name := func(path string) string {
		rest, ok := strings.CutPrefix(path, "mellowthump/core/")
		if !ok {
			return ""
		}
		return strings.SplitN(rest, "/", 2)[0]
	}
	seen := 0
	for _, line := range strings.Split(strings.TrimSpace(string(out)), "\n") {
		fields := strings.Fields(line)
		from := name(fields[0])
		if from == "" {
			continue
		}
		seen++
		if _, ok := layer[from]; !ok {
			t.Errorf("core/%s has no layer; add it to this test with its place", from)
		}
		for _, imp := range fields[1:] {
			for _, forbidden := range []string{"mellowthump/app", "mellowthump/cmd", "github.com/gin-gonic", "github.com/jmoiron/sqlx", "database/sql",
				"html/template", "net/http"} {
				if strings.HasPrefix(imp, forbidden) {
					t.Errorf("core/%s imports %s", from, imp)
				}
			}
			to := name(imp)
			switch {
			case to == "" || to == from:
			case stages[from] && stages[to]:
				t.Errorf("the stage %s imports the stage %s", from, to)
			case layer[to] > layer[from]:
				t.Errorf("core/%s imports core/%s, which lies above it", from, to)
			}
		}
	}
	if seen < 10 {
		t.Fatalf("only %d packages seen", seen)
	}
}

// The tree in CONTRIBUTING names every package, and no other.
func TestTree(t *testing.T) {
	text, err := os.ReadFile("../CONTRIBUTING.md")
	if err != nil {
		t.Fatal(err)
	}
	_, tree, _ := strings.Cut(string(text), "```\n")
	tree, _, _ = strings.Cut(tree, "```")
	named := map[string]bool{}
	for _, line := range strings.Split(tree, "\n") {
		for _, word := range strings.Fields(line) {
			if !strings.HasSuffix(word, "/") {
				break
			}
			if strings.HasPrefix(line, "  ") {
				word = "core/" + word
			}
			named[strings.TrimSuffix(word, "/")] = true
		}
	}
	there := map[string]bool{"e2e": true, "cmd/mellowthump": true}
	for _, top := range []string{"core", "app", "internal"} {
		dirs, err := os.ReadDir(filepath.Join("..", top))
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range dirs {
			if d.IsDir() {
				there[top+"/"+d.Name()] = true
			}
		}
	}
	for name := range there {
		if !named[name] {
			t.Errorf("the tree does not name %s", name)
		}
	}
	for name := range named {
		if !there[name] && name != "core" {
			t.Errorf("the tree names %s, which is not there", name)
		}
	}
}

// A line can be read: none is over 160 characters.
func TestLines(t *testing.T) {
	read := 0
	err := filepath.WalkDir("..", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") {
			return err
		}
		read++
		text, err := os.ReadFile(path)
		if err != nil {
			return err
		}
		for i, line := range strings.Split(string(text), "\n") {
			if n := utf8.RuneCountInString(line); n > 160 {
				t.Errorf("%s:%d has %d characters", path, i+1, n)
			}
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	if read < 400 {
		t.Errorf("only %d files were read", read)
	}
}

// A function can be read: none is over 60 lines long without saying why, and none takes more than six values beside a context.
func TestFunctions(t *testing.T) {
	read := 0
	for _, top := range []string{".", "../app", "../cmd"} {
		err := filepath.WalkDir(top, func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			set := token.NewFileSet()
			file, err := parser.ParseFile(set, path, nil, parser.ParseComments)
			if err != nil {
				return err
			}
			for _, d := range file.Decls {
				f, ok := d.(*ast.FuncDecl)
				if !ok || f.Body == nil {
					continue
				}
				read++
				if n := set.Position(f.End()).Line - set.Position(f.Pos()).Line + 1; n > 60 && !strings.Contains(f.Doc.Text(), "Long because") {
					t.Errorf("%s: %s has %d lines, and does not say why", path, f.Name.Name, n)
				}
				n := 0
				for _, p := range f.Type.Params.List {
					if s, ok := p.Type.(*ast.SelectorExpr); !ok || s.Sel.Name != "Context" {
						n += max(1, len(p.Names))
					}
				}
				if n > 6 {
					t.Errorf("%s: %s takes %d values", path, f.Name.Name, n)
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if read < 2000 {
		t.Errorf("only %d functions were read", read)
	}
}

// Every name that docs/words.md gives to a word is there.
func TestWords(t *testing.T) {
	text, err := os.ReadFile("../docs/words.md")
	if err != nil {
		t.Fatal(err)
	}
	named := regexp.MustCompile("`([a-z]+)\\.([A-Z]\\w*)(?:\\.(\\w+))?`").FindAllStringSubmatch(string(text), -1)
	if len(named) < 40 {
		t.Fatalf("only %d names", len(named))
	}
	for _, m := range named {
		files, _ := filepath.Glob("../core/" + m[1] + "/*.go")
		for _, dir := range []string{"../app/", "../app/web/"} {
			more, _ := filepath.Glob(dir + m[1] + "/*.go")
			files = append(files, more...)
		}
		src := ""
		for _, f := range files {
			b, err := os.ReadFile(f)
			if err != nil {
				t.Fatal(err)
			}
			src += string(b)
		}
		for _, name := range m[2:] {
			if name != "" && !regexp.MustCompile(`\b`+name+`\b`).MatchString(src) {
				t.Errorf("%s: there is no %s", m[0], name)
			}
		}
	}
}
