package web

import (
	"net/url"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/session"
)

// The aim is one setting of the song, in the top line: Pocket, Duck and the fit go by it, undo takes it back; one that is none is refused,
// and who asks for a clearance goes by that again.
func TestAim(t *testing.T) {
	b, id := ready(t)
	if status, body := b.edit(id, "/aim", url.Values{"aim": {"clear"}}); status != 200 || !strings.Contains(body, `<option value="clear" selected>`) {
		t.Fatalf("%d %.300s", status, body)
	}
	if s := b.load(id); s.Targets.Aim != session.AimClear || s.Undo != "Aim: clear" {
		t.Fatalf("%+v after %q", s.Targets, s.Undo)
	}
	if page := b.get("/songs/" + id + "/pocket"); !strings.Contains(page, "Kick stands: 808 hides") || strings.Contains(page, "Go to Duck") {
		t.Errorf("a kick of which nothing is hidden is sent to Duck")
	}
	if status, body := b.edit(id, "/duck/fit", url.Values{"school": {"curve"}}); status != 422 || !strings.Contains(body, "No duck is needed") {
		t.Errorf("nothing is to be ducked: %d %.300s", status, body)
	}
	for _, st := range b.load(id).ByRole(session.Bass) {
		if _, err := b.server.Store.Edit(b.Context(), id, store.AnyRevision, session.Gain{At: session.At{Stem: st.ID}, Step: session.TrackStep, DB: 15}); err != nil {
			t.Fatal(err)
		}
	}
	if page := b.get("/songs/" + id + "/pocket"); !strings.Contains(page, "in one hit of ten") || strings.Contains(page, "under 8 dB") {
		t.Errorf("Pocket does not go by what is hidden")
	}
	if status, body := b.edit(id, "/duck/fit", url.Values{"school": {"curve"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song := b.load(id)
	d, _ := song.Duck()
	if d == nil || !strings.HasPrefix(song.DuckWhy(), "The kick stands: the bass hides ") {
		t.Errorf("the fit says %q", song.DuckWhy())
	}
	if page := b.get("/songs/" + id + "/pocket"); strings.Contains(page, "Go to Duck") || !strings.Contains(page, "Kick stands: 808 hides") {
		t.Errorf("after the fit Pocket still sends to Duck, or does not say that the kick stands")
	}
	if status, body := b.edit(id, "/aim", url.Values{"aim": {"loudest"}}); status != 422 || b.load(id).Targets.Aim != session.AimClear {
		t.Errorf("an aim that is none: %d %.200s", status, body)
	}
	b.edit(id, "/duck/targets", url.Values{"clearance": {"6"}, "depth": {"12"}})
	if got := b.load(id).Targets; got.Aim != session.AimApart || got.Clearance != 6 {
		t.Errorf("asked for a clearance: %+v", got)
	}
}
