package e2e

import (
	"math"
	"strings"
	"testing"

	"github.com/go-rod/rod/lib/input"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// Room, as a hand uses it: the rows come after the page, all unheard is cut and undone, a bracket is dragged, moved by
// keys and typed, what is taken away is heard, a reload keeps it.
func TestRoom(t *testing.T) {
	a, p := withFight(t)
	kick, _ := fight()
	bell := audio.New(kick.Rate, 1, kick.Frames())
	for i := range bell.Ch[0] {
		ts := float64(i) / float64(kick.Rate)
		bell.Ch[0][i] = float32(0.15*math.Sin(2*math.Pi*880*ts)*math.Exp(-math.Mod(ts, 0.5)/0.4) + 0.02*math.Sin(2*math.Pi*41*ts))
	}
	p.choose(write(t, "Bell.wav", bell, wav.Int24))
	p.until("the bell", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	song := a.song(p)
	p.click("#rail a[href$=room]")
	p.until("the rows", "document.querySelector('#room-rows .edge') && document.querySelector('#room-found')?.children.length && document.querySelector('#cellar-parts tr')")
	id := strings.TrimPrefix(p.js("document.querySelector('#room-rows tbody tr').id"), "room-")
	cut := func() float64 {
		t.Helper()
		s, err := a.store.Load(t.Context(), song)
		if err != nil {
			t.Fatal(err)
		}
		return s.Stem(id).RoomCut(session.RoomLow)
	}
	p.edited("all that is unheard", func() { p.click("#cut-all") })
	first := cut()
	if first < 50 || first > 630 {
		t.Errorf("cut at %g Hz", first)
	}
	p.until("the bracket", "document.querySelector('#edge-"+id+"-low.set')")
	p.edited("undone", p.undo)
	if cut() != 0 {
		t.Error("the cut is still there")
	}
	p.until("the rows again", "document.querySelector('#edge-"+id+"-low') && !document.querySelector('#edge-"+id+"-low.set')")

	p.edited("a drag", func() { p.drag("#edge-"+id+"-low .reach", 60, 0) })
	dragged := cut()
	if dragged <= first {
		t.Errorf("dragged from %g to %g Hz", first, dragged)
	}
	p.until("the bracket", "document.querySelector('#edge-"+id+"-low.set')")
	p.js("document.querySelector('#edge-" + id + "-low').focus()")
	p.edited("an arrow key", func() { p.press(input.ArrowLeft) })
	if keyed := cut(); math.Abs(keyed/dragged-math.Pow(2, -1.0/12)) > 0.01 {
		t.Errorf("a key from %g to %g Hz", dragged, keyed)
	}
	p.until("the field", "document.querySelector('#low-"+id+"')")
	p.edited("typed", func() { p.typed("#low-"+id, "120") })
	if cut() != 120 {
		t.Errorf("typed, it is %g Hz", cut())
	}
	p.until("the field", "document.querySelector('#low-"+id+"')?.value === '120'")
	rev := p.rev()
	p.typed("#low-"+id, "deep")
	p.until("a sentence", "document.querySelector('#cut-wrong')?.textContent.includes('Nothing was changed')")
	if p.rev() != rev {
		t.Error("a bad corner changed the song")
	}
	p.visit(a.url + "/songs/" + song + "/room")
	p.until("what is set, after a reload", "document.querySelector('#low-"+id+"')?.value === '120'")
	p.click("#deck-data [data-solo=all]")
	p.until("the deck tells both sides apart", "document.querySelector('#taken')")
	p.click("#taken")
	p.until("what is taken away", "document.querySelector('#taken')?.checked && document.querySelector('#deck-data').dataset.after.includes('taken=stage')")
	p.until("its mark on the rail", "document.querySelector('#mark-room em')")
	p.clean("422")
}
