package web

import (
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/field"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Every kind can be put in, set, refused, turned off and taken out at every place where it may stand, by the one handler;
// what was done is named in the list of changes.
func TestChains(t *testing.T) {
	b, id := ready(t)
	b.level(id, "/bus", url.Values{"name": {"Low end"}})
	bass := bassID(b, id)
	do := func(what string, form url.Values) (int, string) {
		t.Helper()
		return b.edit(id, "/moves/"+what, form)
	}
	for _, at := range []session.At{{Stem: bass}, {Bus: "b1"}, {}} {
		for _, k := range move.Kinds {
			before := b.load(id).Rev
			status, body := do("add", url.Values{"at": {at.String()}, "kind": {k.Name}})
			if k.Where&at.Where() == 0 {
				if status != 422 || b.load(id).Rev != before || !strings.Contains(body, "cannot stand") {
					t.Errorf("%s on %s: %d", k.Name, at, status)
				}
				continue
			}
			song := b.load(id)
			chain, name := song.Chain(at)
			if status != 200 || song.Rev == before {
				t.Fatalf("%s on %s is not put in: %d %.300s", k.Name, at, status, body)
			}
			m := chain.Move(k.Name + "1")
			if m == nil || !strings.Contains(song.Undo, k.Label+" on "+name) {
				t.Fatalf("%s on %s: %+v, %q", k.Name, at, m, song.Undo)
			}
			for _, f := range m.Params.Fields() {
				if f.Number == nil || f.Idle {
					continue
				}
				form := url.Values{"at": {at.String()}, "move": {m.ID}, f.Name: {"loud"}}
				if status, body := do("set", form); status != 422 || !strings.Contains(body, f.Label) {
					t.Errorf("%s: %q as %s answers %d", k.Name, "loud", f.Name, status)
				}
				v := *f.Number + f.Step
				if v > f.Hi {
					v = *f.Number - f.Step
				}
				form.Set(f.Name, trim(v))
				if status, body := do("set", form); status != 200 && !strings.Contains(body, "Nothing was changed") {
					t.Errorf("%s: %g as %s answers %d", k.Name, v, f.Name, status)
				}
			}
			if status, _ := do("switch", url.Values{"at": {at.String()}, "move": {m.ID}}); status != 200 {
				t.Errorf("%s is not turned off: %d", k.Name, status)
			}
			if chain, _ := b.load(id).Chain(at); !chain.Move(m.ID).Off {
				t.Errorf("%s is not off", k.Name)
			}
			if status, _ := do("drop", url.Values{"at": {at.String()}, "move": {m.ID}}); status != 200 {
				t.Errorf("%s is not taken out: %d", k.Name, status)
			}
		}
		if chain, _ := b.load(id).Chain(at); len(*chain) != 0 {
			t.Errorf("left on %s: %+v", at, *chain)
		}
	}
	for what, form := range map[string]url.Values{
		"add": {"at": {"nobody"}, "kind": {"filter"}}, "set": {"at": {"master"}, "move": {"none"}}, "drop": {"at": {"bus:none"},
			"move": {"x"}}, "switch": {"at": {bass}, "move": {"x"}},
	} {
		rev := b.load(id).Rev
		if status, body := do(what, form); status != 422 || !strings.Contains(body, "no longer there") || b.load(id).Rev != rev {
			t.Errorf("%s of what is not there: %d", what, status)
		}
	}
}

func trim(v float64) string {
	f := field.Field{Number: &v}
	return f.String()
}

// The two kinds that bend or part the sound are shown on a stem, a bus and the master, and are heard there: the deck plays
// them, says that something was changed, and the levels are those of what is heard.
func TestMovesAreHeardEverywhere(t *testing.T) {
	for _, place := range []string{"stem", "bus", "master"} {
		b, id := ready(t)
		b.level(id, "/bus", url.Values{"name": {"Low end"}})
		bass := bassID(b, id)
		b.level(id, "/stem/"+bass, url.Values{"bus": {"b1"}, "pan": {"0"}, "width": {"100"}})
		at := map[string]string{"stem": bass, "bus": "bus:b1", "master": "master"}[place]
		plain := b.get("/songs/" + id + "/deck/data?solo=bass")
		if !strings.Contains(plain, "both are the same") {
			t.Fatalf("%s: untouched, the deck says %.600s", place, plain)
		}
		for _, kind := range []string{"midside", "softclip"} {
			b.edit(id, "/moves/add", url.Values{"at": {at}, "kind": {kind}})
		}
		set := url.Values{"at": {at}, "move": {"softclip1"}, "threshold_db": {"-20"}, "knee_db": {"3"}}
		if status, body := b.edit(id, "/moves/set", set); status != 200 || !strings.Contains(b.load(id).Undo, "threshold") {
			t.Fatalf("%s: %d %q %.200s", place, status, b.load(id).Undo, body)
		}
		page := b.get("/songs/" + id + "/levels?open=" + url.QueryEscape(at))
		for _, want := range []string{"soft clip over −20 dBFS, knee of 3 dB", "side alone: low shelf at 120 Hz, 0 dB", `name="threshold_db"`} {
			if !strings.Contains(page, want) {
				t.Errorf("%s: the page does not show %q", place, want)
			}
		}
		data := b.get("/songs/" + id + "/deck/data?solo=bass")
		if strings.Contains(data, "both are the same") {
			t.Errorf("%s: the deck says that nothing was changed", place)
		}
		before, after := b.sound(address(data, "before")), b.sound(address(data, "after"))
		top := func(x []float32) (most float64) {
			for _, v := range x {
				most = max(most, float64(max(v, -v)))
			}
			return most
		}
		if top(before.Ch[0]) < 0.2 || top(after.Ch[0]) > 0.12 {
			t.Errorf("%s: clipped at -20 dBFS it peaks at %.3f, before at %.3f", place, top(after.Ch[0]), top(before.Ch[0]))
		}
	}
}
