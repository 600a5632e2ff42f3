package web

import (
	"context"
	"strings"
	"testing"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	corebench "mellowthump/core/bench"
	"mellowthump/core/find"
	"mellowthump/core/group"
	"mellowthump/core/mix"
)

// A stage that panics, in the handler or in work beside it, answers a sentence; all others go on, and so does the rail.
func TestAPanicIsASentence(t *testing.T) {
	b, id := ready(t)
	stageOf := func(key string) *shell.Stage {
		for _, s := range b.server.Stages() {
			if s.Key == key {
				return s
			}
		}
		t.Fatalf("no stage %s", key)
		return nil
	}
	room, width := stageOf("room"), stageOf("width")
	broken := *room.Stage
	broken.Judge = func(context.Context, *corebench.Bench, mix.Window) ([]find.Finding, error) {
		panic("a stage that is broken")
	}
	broken.Later = false
	room.Stage = &broken
	width.Sheet = func(*gin.Context, *shell.View) (any, error) {
		var g group.Group
		g.Go(func() error { panic("broken beside the handler") })
		return nil, g.Wait()
	}
	for _, key := range []string{"room", "width"} {
		if status, body := b.do("GET", "/songs/"+id+"/"+key, nil); status != 500 ||
			!strings.Contains(body, "Something went wrong inside the program. Your song is as it was.") {
			t.Errorf("%s answers %d: %.300s", key, status, body)
		}
	}
	b.get("/songs/" + id + "/levels")
	if marks := b.get("/songs/" + id + "/marks"); strings.Contains(marks, "went wrong") {
		t.Errorf("the rail: %.300s", marks)
	}
}
