package web

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	corebench "mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/find"
	"mellowthump/core/mix"
	"mellowthump/core/runsheet"
	"mellowthump/core/stage"
	"mellowthump/core/stages"
)

// A stage is declared once: a value in core and one in the browser with its files, each with a line in its list. Then it has a page,
// a place and a mark in the rail, its style, its help, its findings with their buttons, and rows on the run sheet.
func TestEleventhStage(t *testing.T) {
	of := stage.Stage{
		Key: "eleventh", Name: "Eleventh", Question: "Is there one more?", Help: []string{"It is made up."},
		Judge: func(context.Context, *corebench.Bench, mix.Window) ([]find.Finding, error) {
			return []find.Finding{{ID: "odd", What: "it is odd", Why: "it was made so", Do: "Leave it."}}, nil
		},
	}
	was := stages.All
	t.Cleanup(func() { stages.All = was })
	stages.All = append(slices.Clone(was), &of)

	b, id := ready(t)
	server, err := shell.New(b.server.Store, local(b.at.Listener.Addr()), func(s *shell.Server) []*shell.Stage {
		return append(inOrder(s), &shell.Stage{
			Stage: &of,
			Files: []fs.FS{fstest.MapFS{
				"eleventh.html": {
					Data: []byte(`{{define "eleventh"}}<p id="made-up">{{.Name}}, {{.Length}} frames</p>{{range .Found}}{{template "finding" (cell $ .)}}{{end}}{{end}}`),
				},
				"eleventh.css": {Data: []byte(`#made-up { color: inherit }`)},
			}},
			Sheet: func(_ *gin.Context, v *shell.View) (any, error) { return v, nil },
		})
	})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { server.Pool.Close() })
	b.at.Config.Handler = server // of the next request on
	b.CloseIdleConnections()
	page := b.get("/songs/" + id + "/eleventh")
	for _, want := range []string{`id="made-up"`, "Is there one more?", "It is made up.", "/static/css/eleventh.css?", "it is odd"} {
		if !strings.Contains(page, want) {
			t.Errorf("its page lacks %q", want)
		}
	}
	if rail := b.get("/songs/" + id + "/intake"); !strings.Contains(rail, "/eleventh\"") {
		t.Error("it has no place in the rail")
	}
	song := b.load(id)
	known := map[string]*facts.Analysis{}
	for _, st := range song.Stems {
		if known[st.Audio], err = b.server.Store.Facts(t.Context(), st.Audio); err != nil {
			t.Fatal(err)
		}
	}
	sheet, err := runsheet.Make(t.Context(), b.server.Renderer, &song.Song, known, runsheet.Choice{}, nil)
	if err != nil || !slices.ContainsFunc(sheet.Rows, func(r runsheet.Row) bool { return r.Key == "eleventh/odd" }) {
		t.Errorf("it has no row on the run sheet: %v", err)
	}
}

// homonyms are words that are written like a stage's key and mean something else, by the file that they stand in.
var homonyms = map[string]string{
	"core/facts/match.go": "print", "core/mix/follow.go": "duck", "core/export/out.go": "width", "core/session/upgrade.go": "*",
	"core/session/differ.go": "width", "core/compare/drill.go": "duck", "core/move/side.go": "width", "core/move/duck.go": "duck",
	"app/web/body/split.go": "width", "app/web/levels/edits.go": "width", "app/web/shell/jobs.go": "print", "app/web/compare/drills.go": "duck",
}

// No stage's key stands anywhere but in its own packages, and in the order of the work.
func TestStageKeys(t *testing.T) {
	keys := map[string]bool{stage.Log: true}
	for _, s := range stages.All {
		keys[s.Key] = true
	}
	literal := regexp.MustCompile(`"(\w+)"`)
	read := 0
	for _, top := range []string{"core", "app"} {
		err := filepath.WalkDir(filepath.Join("../..", top), func(path string, d fs.DirEntry, err error) error {
			if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
				return err
			}
			path = filepath.ToSlash(path)
			name := strings.TrimPrefix(path, "../../")
			if name == "core/stage/order.go" {
				return nil
			}
			read++
			src, err := os.ReadFile(path)
			if err != nil {
				return err
			}
			own := filepath.Base(filepath.Dir(name))
			for i, line := range strings.Split(string(src), "\n") {
				for _, m := range literal.FindAllStringSubmatch(strings.Split(line, "// ")[0], -1) {
					key := m[1]
					if keys[key] && own != key && !(key == stage.Log && own == "logbook") && homonyms[name] != key && homonyms[name] != "*" && !strings.Contains(line, "`") {
						t.Errorf("%s:%d names the stage %q: %s", name, i+1, key, strings.TrimSpace(line))
					}
				}
			}
			return nil
		})
		if err != nil {
			t.Fatal(err)
		}
	}
	if read < 200 {
		t.Errorf("only %d files were read", read)
	}
}
