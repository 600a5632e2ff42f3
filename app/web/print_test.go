package web

import (
	"fmt"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// Print: the premaster is told, a loudness is asked and solved, met by what the deck plays, under its ceiling whatever the
// master's fader; who made the limiter work; heard before; untouched again; undone; the other stages judge the premaster; bad
// input and silence are said.
func TestPrint(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	page := b.get("/songs/" + id + "/print")
	for _, want := range []string{"The premaster is untouched", `id="printhits"`, `id="print-table"`} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if who := b.get("/songs/" + id + "/print/who"); !strings.Contains(who, `id="who-none"`) {
		t.Errorf("%.300s", who)
	}
	top := func() string {
		page := b.get("/songs/" + id + "/levels")
		_, after, _ := strings.Cut(page, `id="premaster-lufs">`)
		return after[:strings.Index(after, "<")]
	}
	var premaster string
	played := func() audio.Buffer {
		_, after := sides(t, b.get("/songs/"+id+"/deck/data?solo=all"))
		return sound(t, b.get(after))
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("print/solve:limit:-12:-2")); !strings.Contains(deck, "After tries: Print at") {
		t.Errorf("%.400s", deck)
	}
	if len(b.load(id).Master.Moves) != 0 {
		t.Error("what is tried is in")
	}
	for _, fader := range []float64{0, -4} {
		song := b.load(id)
		if _, err := b.server.Store.Edit(t.Context(), id, song.Rev, session.Gain{DB: fader}); err != nil {
			t.Fatal(err)
		}
		premaster = top()
		for _, school := range []string{"clip", "limit", "two"} {
			if status, page := b.edit(id, "/print/solve", url.Values{"school": {school}, "lufs": {"-13"}, "ceiling": {"-2"}}); status != 200 ||
				!strings.Contains(page, "turned down") {
				t.Fatalf("%s: %d %.400s", school, status, page)
			}
			x := played()
			loud := float64(meter.IntegratedLoudness(x))
			if len(x.Ch) == 1 {
				loud += dsp.PowerDB(2)
			}
			m := meter.NewTruePeak(len(x.Ch))
			m.Add(x)
			if loud < -13.3 || loud > -12.7 || float64(m.Peak()) > -2+0.1 {
				t.Errorf("%s, fader %g: the deck plays %.2f LUFS, %.2f dBTP", school, fader, loud, float64(m.Peak()))
			}
		}
		if top() != premaster {
			t.Errorf("the line at the top moves from %s to %s LUFS", premaster, top())
		}
	}
	if who := b.get("/songs/" + id + "/print/who"); !strings.Contains(who, `id="who-table"`) || strings.Contains(who, "NaN") {
		t.Errorf("%.400s", who)
	}
	if costs := b.get("/songs/" + id + "/print/costs"); !strings.Contains(costs, `id="printcost"`) || strings.Contains(costs, "NaN") {
		t.Errorf("%.400s", costs)
	}
	if page := b.get("/songs/" + id + "/print"); !strings.Contains(page, "A service that evens loudness out") ||
		strings.Contains(page, `id="finding-print-over"`) {
		t.Errorf("%.300s", page)
	}
	if page := b.get("/songs/" + id + "/print"); !strings.Contains(page, "clearance in 9 of 10 hits") {
		t.Error("clearance is not told")
	}
	// a bell put in by hand on Print is Print's, and stays when another school is solved
	if status, _ := b.do("POST", "/songs/"+id+"/moves/add", url.Values{"at": {session.At{}.String()}, "kind": {"filter"}, "rev": {fmt.Sprint(b.load(id).Rev)}},
		"HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/print"); status != 200 {
		t.Fatalf("%d", status)
	}
	if m := b.load(id).Master.Moves.Move(session.PrintMove + "filter1"); m == nil {
		t.Fatalf("%+v", b.load(id).Master.Moves)
	}
	if b.edit(id, "/print/solve", url.Values{"school": {"limit"}, "lufs": {"-14"}, "ceiling": {"-2"}}); b.load(
		id,
	).Master.Moves.Move(
		session.PrintMove+"filter1",
	) == nil ||
		top() != premaster {
		t.Error("what was put in by hand is gone, or the premaster has changed")
	}
	b.edit(id, "/moves/drop", url.Values{"at": {session.At{}.String()}, "move": {session.PrintMove + "filter1"}})
	song := b.load(id)
	if _, err := b.server.Store.Edit(t.Context(), id, song.Rev, session.Gain{DB: 2}); err != nil { // behind the ceiling
		t.Fatal(err)
	}
	if page := b.get("/songs/" + id + "/print"); !strings.Contains(page, `id="finding-print-over"`) {
		t.Error("a fader that moves the ceiling is not told")
	}
	if status, _ := b.edit(id, "/print/solve", url.Values{"school": {"none"}, "lufs": {"-13"}, "ceiling": {"-2"}}); status != 200 ||
		len(b.load(id).Master.Moves) != 0 {
		t.Errorf("%d %+v", status, b.load(id).Master.Moves)
	}
	b.edit(id, "/undo", url.Values{})
	if s := b.load(id).Song; !s.Printed() {
		t.Error("undo does not bring it back")
	}
	for _, form := range []url.Values{{"school": {"loud"}, "lufs": {"-9"}, "ceiling": {"-1"}}, {"school": {"clip"}, "lufs": {"loud"}, "ceiling": {"-1"}},
		{"school": {"clip"}, "lufs": {"-2"}, "ceiling": {"-1"}}, {"school": {"clip"}, "lufs": {"-9"}, "ceiling": {"1"}}, {}} {
		if status, page := b.edit(id, "/print/solve", form); status != 422 || !strings.Contains(page, `id="solve-wrong"`) {
			t.Errorf("%v: %d", form, status)
		}
	}
	silent := b.song()
	b.send(silent, file{"Pad.wav", asWAV(audio.New(rate, 2, 3*rate))})
	if page := b.get("/songs/" + silent + "/print"); !strings.Contains(page, "The loop is silent") {
		t.Errorf("%.300s", page)
	}
	if status, _ := b.edit(silent, "/print/solve", url.Values{"school": {"clip"}, "lufs": {"-9"}, "ceiling": {"-1"}}); status != 422 {
		t.Errorf("silence: %d", status)
	}
	if page := b.get("/songs/" + b.song() + "/print"); !strings.Contains(page, "Go to Intake") {
		t.Errorf("an empty song: %.300s", page)
	}
}
