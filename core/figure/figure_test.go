package figure

import (
	"fmt"
	"os"
	"strings"
	"testing"
)

// The rules of writing, by hand: a true minus, no sign on zero.
func TestNumbers(t *testing.T) {
	for _, c := range []struct{ got, want string }{
		{Signed(-0.04, 1), "0.0"}, {Signed(-3.25, 1), "−3.2"}, {Signed(-0.001, 2), "0.00"}, {Signed(12, 0), "12"}, {Signed(-1.5, -1), "−1.5"},
		{Plus(0.04, 1), "0.0"}, {Plus(2, 1), "+2.0"}, {Plus(-2, 1), "−2.0"}, {Short(-3), "−3"}, {Short(-0.01), "0"}, {Short(2.25), "2.2"}, {ShortPlus(4),
			"+4"}, {ShortPlus(0), "0"},
	} {
		if c.got != c.want {
			t.Errorf("%q, want %q", c.got, c.want)
		}
	}
}

// Every figure has a key, a unit and a definition of its own, and stands in docs/numbers.md as it is here;
// UPDATE_DOCS=1 writes the table anew.
func TestFigures(t *testing.T) {
	const file, begin, end = "../../docs/numbers.md", "| on screen | unit | decimals | definition |\n|---|---|---|---|\n", "\n\n"
	seen := map[string]bool{}
	var rows []string
	for _, f := range All {
		if f.Key == "" || f.Name == "" || f.Unit == "" || f.Decimals < 0 || !strings.HasSuffix(f.Definition, ".") || seen[f.Key] {
			t.Errorf("%q is not whole, or there twice", f.Key)
		}
		seen[f.Key] = true
		if Of(f.Key) != f {
			t.Errorf("%s is not found", f.Key)
		}
		rows = append(rows, fmt.Sprintf("| %s | %s | %d | %s |", f.Name, f.Unit, f.Decimals, f.Definition))
	}
	b, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	before, rest, ok := strings.Cut(string(b), begin)
	if !ok {
		t.Fatal("the table is not there")
	}
	table, after, _ := strings.Cut(rest, end)
	if want := strings.Join(rows, "\n"); table != want {
		if os.Getenv("UPDATE_DOCS") == "" {
			t.Fatal("docs/numbers.md does not list the figures as they are; UPDATE_DOCS=1 go test ./core/figure writes them")
		}
		if err := os.WriteFile(file, []byte(before+begin+want+end+after), 0o644); err != nil {
			t.Fatal(err)
		}
	}
}
