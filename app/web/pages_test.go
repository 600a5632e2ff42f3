package web

import (
	"context"
	"fmt"
	"net/url"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/session"
)

// BenchmarkPages shows each stage of a song whose facts and renders are known.
func BenchmarkPages(b *testing.B) {
	w, id := ready(&testing.T{})
	w.edit(id, "/duck/fit", url.Values{})
	for _, stage := range w.server.Stages() {
		if stage.Sheet == nil {
			continue
		}
		w.get("/songs/" + id + "/" + stage.Key)
		b.Run(stage.Key, func(b *testing.B) {
			for b.Loop() {
				w.get("/songs/" + id + "/" + stage.Key)
			}
		})
	}
}

// sixty is a song of sixty stems.
func sixty(t *testing.T) (*bench, string) {
	b, id := ready(t)
	song := b.load(id).Song
	for i := range 58 {
		st := song.Stems[i%2]
		st.ID, st.Name, st.Role = fmt.Sprintf("x%d", i), fmt.Sprintf("Layer %d", i), session.Melodic
		song.Stems = append(song.Stems, st)
	}
	if _, err := b.server.Store.Edit(context.Background(), id, store.AnyRevision, session.Become{Song: song, Said: "sixty"}); err != nil {
		t.Fatal(err)
	}
	return b, id
}

// BenchmarkSixty shows Intake and Levels of sixty stems, and their marks, after a trim: what the trim changed is measured
// anew.
func BenchmarkSixty(b *testing.B) {
	w, id := sixty(&testing.T{})
	for _, path := range []string{"intake", "levels", "marks"} {
		w.get("/songs/" + id + "/" + path)
		b.Run(path, func(b *testing.B) {
			for b.Loop() {
				w.get("/songs/" + id + "/" + path)
			}
		})
	}
	n := 0
	b.Run("trim", func(b *testing.B) {
		for b.Loop() {
			n++
			w.level(id, "/gain", url.Values{"of": {"x7"}, "step": {"clip"}, "db": {fmt.Sprint(float64(n%600)/100 - 3)}})
		}
	})
}

// Every stage says the one thing to do next: where there are no stems, and where no role is known.
func TestEmptyStages(t *testing.T) {
	b := newBench(t)
	empty := b.song()
	for _, st := range b.server.Stages() {
		page := b.get("/songs/" + empty + "/" + st.Key)
		way := strings.Contains(page, `id="to-intake"`) && strings.Contains(page, `id="no-stems"`)
		switch st.Key {
		case "intake":
			way = strings.Contains(page, "drop them here")
		case "log":
			way = strings.Contains(page, "Bring the stems on Intake")
		}
		if !way {
			t.Errorf("%s says not what is to be done first", st.Key)
		}
	}
	kick, _ := beat()
	pads := b.song()
	if jobs := b.send(pads, file{"Pad.wav", asWAV(kick)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	stem := b.load(pads).Stems[0].ID
	b.edit(pads, "/stems/"+stem, url.Values{"role": {"melodic"}})
	for _, key := range []string{"pocket", "duck", "room", "body"} {
		if page := b.get("/songs/" + pads + "/" + key); !strings.Contains(page, `id="to-roles"`) {
			t.Errorf("%s does not lead to the roles", key)
		}
	}
}
