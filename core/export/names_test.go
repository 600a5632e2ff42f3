package export

import (
	"context"
	"slices"
	"strings"
	"testing"

	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Names follow a pattern; what stands for nothing leaves no gap; what is wrong with one is a sentence.
func TestNames(t *testing.T) {
	song := session.New("Low Tide", 87.5)
	for _, c := range []struct {
		pattern string
		n       int
		name    string
		want    string
	}{
		{"{song} {nn} {name}", 3, "808", "Low Tide 03 808"}, {"{song} {nn} {name}", 0, "mix", "Low Tide mix"}, {"{name}_{key}_{bpm}", 12, "Pad", "Pad_87.5"},
		{"{nn}-{name}", 0, "premaster", "premaster"}, {"{name} - {key}", 1, "Pad", "Pad"}, {"v2.1 {name}", 1, "Pad", "v2.1 Pad"},
	} {
		if got := Named(c.pattern, &song, c.n, c.name); got != c.want {
			t.Errorf("%q of %s: %q, not %q", c.pattern, c.name, got, c.want)
		}
	}
	for pattern, want := range map[string]string{"": "", "{song} {name}": "", "{song}": "need {name}", "{name} {artist}": "{artist} stands for nothing",
		strings.Repeat("x", 120) + "{name}": "at most 120"} {
		if err := CheckNames(pattern); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", pattern, err)
		}
	}
	r, worked := worked(2)
	worked.Stem("808").SetMove(move.Move{ID: "duck-808", Params: move.StartingDuck()})
	files, err := Out(
		context.Background(),
		r,
		worked,
		Order{What: []string{"stems", "mix", "copy", "curves", "hits"}, Names: "{song}/{nn}/{name}", Extra: []File{Text("more.txt", "x")}},
		t.TempDir(),
		nil,
		func(float64) {},
	)
	if err != nil {
		t.Fatal(err)
	}
	var names []string
	for _, f := range files {
		names = append(names, f.Name)
	}
	for _, want := range []string{"Slow Ferry-03-808.wav", "Slow Ferry--mix.wav", "Slow Ferry duck curve.csv", "Slow Ferry duck gain.mid", "Slow Ferry hits.mid",
		"more.txt", "checksums.sha256"} {
		if !slices.Contains(names, want) {
			t.Errorf("no %q among %q", want, names)
		}
	}
	worked.Stem("808").Moves = nil
	if files, err = Out(context.Background(), r, worked, Order{What: []string{"curves", "mix"}}, t.TempDir(), nil, func(float64) {}); err != nil ||
		len(files) != 2 {
		t.Errorf("a song without a duck: %d files, %v", len(files), err)
	}
}
