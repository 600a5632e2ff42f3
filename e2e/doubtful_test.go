package e2e

import (
	"os"
	"testing"

	"mellowthump/core/audio/wav"
	"mellowthump/core/session"
)

// Ghost notes 20 dB down are doubtful: they are listed with why, drawn lighter on the deck and left out of the judgement.
// One is put in by a click; all are, where the threshold is raised.
func TestDoubtfulHits(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Ghosts", "120")
	kick, bass := fight()
	ghosts := 0
	one := append([]float32(nil), kick.Ch[0][rate/4:rate/4+rate/5]...)
	for at := rate / 2; at+rate/2 < kick.Frames(); at += 2 * rate { // softer copies of a hit, between two
		ghosts++
		for i, v := range one {
			kick.Ch[0][at+i] += 0.1 * v
		}
	}
	p.choose(write(t, "kick.wav", kick, wav.Int24), write(t, "808.wav", bass, wav.Int24))
	p.until("both stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 2")
	p.visit(a.url + "/songs/" + a.song(p) + "/duck")
	count := func() int {
		song, err := a.store.Load(t.Context(), a.song(p))
		if err != nil {
			t.Fatal(err)
		}
		h, err := a.server.Renderer.Hits(&song.Song, session.KickTrigger)
		if err != nil {
			t.Fatal(err)
		}
		return len(h)
	}
	hits := count()
	listed := p.js("document.querySelectorAll('#doubtful [name=do]').length")
	marked := p.js("document.querySelectorAll('#deck-song .doubtmark').length")
	if listed == "0" || listed != marked {
		t.Fatalf("%s doubtful hits are listed, %s marked on the deck, of %d ghosts", listed, marked, ghosts)
	}
	if dir := os.Getenv("LOOK"); dir != "" {
		p.js("document.querySelector('#doubtful').scrollIntoView({block: 'center'})")
		p.shot(dir + "/doubtful.png")
	}
	if dir := os.Getenv("LOOK"); dir != "" { // night, as well
		p.js("document.cookie = 'theme=night; path=/'")
		p.visit(p.js("location.href"))
		p.js("document.querySelector('#doubtful').scrollIntoView({block: 'center'})")
		p.shot(dir + "/doubtful-night.png")
	}
	p.js("document.querySelector('#doubtful').scrollIntoView({block: 'center'})")
	p.edited("putting one in", func() { p.click("#doubtful [name=do]") })
	if got := count(); got != hits+1 {
		t.Errorf("with one put in there are %d hits, before %d", got, hits)
	}
	p.until("the sliders", "document.querySelector('#quiet')")
	p.edited("the threshold", func() {
		p.js("(q => { q.value = 30; q.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector('#quiet'))")
	})
	if got := p.js("document.querySelectorAll('#doubtful [name=do]').length"); got != "0" || count() <= hits+1 {
		t.Errorf("at 30 dB %s are doubtful, %d are hits", got, count())
	}
	p.clean()
}
