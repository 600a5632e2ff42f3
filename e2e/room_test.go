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
	t.Parallel()
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
	p.until(
		"the rows",
		"document.querySelector('#room-rows .edge') && document.querySelector('#room-found')?.children.length && document.querySelector('#cellar-parts tr')",
	)
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
	p.until("what is taken away", "document.querySelector('#taken')?.checked && document.querySelector('#deck-data').dataset.after.includes('taken=1')")
	p.until("its mark on the rail", "document.querySelector('#mark-room em')")
	p.clean("422")
}

// A pair by hand: who is to be heard, when the other makes room, heard and set; its bell off and on in the chain below; a
// voice brought by its file, judged, taken out.
func TestRoomPair(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	kick, _ := fight()
	bell, organ := audio.New(kick.Rate, 1, kick.Frames()), audio.New(kick.Rate, 1, kick.Frames())
	for i := range bell.Ch[0] {
		ts := float64(i) / float64(kick.Rate)
		bell.Ch[0][i] = float32(0.15 * math.Sin(2*math.Pi*880*ts) * math.Exp(-math.Mod(ts, 0.5)/0.4))
		organ.Ch[0][i] = float32(0.2 * math.Sin(2*math.Pi*885*ts))
	}
	p.choose(write(t, "Bell.wav", bell, wav.Int24), write(t, "Organ.wav", organ, wav.Int24))
	p.until("both", "document.querySelectorAll('.stems tbody tr[data-name]').length === 4 && !document.querySelector('#imports progress')")
	id := a.song(p)
	song := func() *session.Song {
		t.Helper()
		s, err := a.store.Load(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return &s.Song
	}
	by, of := song().Named("Organ").ID, song().Named("Bell").ID
	p.click("#rail a[href$=room]")
	p.until("the pair", "document.querySelector('#pair-dip') && document.querySelector('#voice-says')")
	p.until("the worst pair", "document.querySelector('#pair-by').value === '"+by+"' && document.querySelector('#pair-of').value === '"+of+"'")
	p.choice("#pair-by", song().Named("Kick").ID)
	p.until("another pair", "!document.querySelector('#pair-says') || document.querySelector('#pair-says').textContent.includes('if Kick were gone')")
	p.choice("#pair-by", by)
	p.until("its sentence", "document.querySelector('#pair-says')?.textContent.includes('if Organ were gone')")
	p.choice("#pair-way", "keyed")
	p.until("the keyed dip", "document.querySelector('#pair-says')?.textContent.includes('while Bell sounds')")
	p.click("#room-pair [data-try]")
	p.until("it is heard before it is set", "document.querySelector('#deck-data').dataset.after.includes('try=')")
	p.until("the word of care", "document.querySelector('#care-dialog').open")
	p.click("#care-dialog [data-close]")
	p.edited("the dip", func() { p.click("#pair-dip") })
	m := song().Stem(by).Move(session.RoomFor + of)
	if m == nil || m.Params.Kind().Name != "keyedbell" {
		t.Fatalf("%+v", m)
	}
	p.until("its chain", "document.querySelector('#room-chains details[data-at="+by+"] summary')?.textContent.includes('while its trigger sounds')")
	p.click("#room-chains details[data-at=" + by + "] summary")
	p.edited("off", func() { p.click("#move-" + by + "-room-for-" + of + " [aria-pressed]") })
	if !song().Stem(by).Move(m.ID).Off {
		t.Error("it is not off")
	}
	p.until("the chain is still open", "document.querySelector('#room-chains details[data-at="+by+"]')?.open")
	p.edited("undone", p.undo)
	if song().Stem(by).Move(m.ID).Off {
		t.Error("it is still off")
	}
	p.until("the voice's field", "document.querySelector('#voice-file')")
	el, err := p.Timeout(patience).Element("#voice-file")
	if err != nil {
		t.Fatal(err)
	}
	if err := el.SetFiles([]string{write(t, "Lead.wav", organ, wav.Int24)}); err != nil {
		t.Fatal(err)
	}
	p.until("the voice", "document.querySelector('#voice-name')?.textContent === 'Lead' && document.querySelector('#voice-says')")
	p.typed("#voice-level", "loud")
	p.until("a sentence", "document.querySelector('#voice-wrong')")
	p.edited("the voice is out", func() { p.click("#voice-out") })
	if song().Voice != nil {
		t.Error("the voice is still there")
	}
	p.clean("422")
}
