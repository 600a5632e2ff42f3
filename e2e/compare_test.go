package e2e

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Compare, as a hand uses it: a finished track is added, the song is seen above it, another amount asked, matched and taken out again.
func TestCompare(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	kick, bass := fight()
	ref := audio.New(kick.Rate, 1, kick.Frames())
	for i := range ref.Ch[0] {
		ref.Ch[0][i] = 0.8*kick.Ch[0][i] + bass.Ch[0][i]
	}
	s, err := dsp.RBJ(dsp.LowShelf, 80, 0.7, -9, float64(kick.Rate))
	if err != nil {
		t.Fatal(err)
	}
	dsp.NewFilter([]dsp.Biquad{s}).Process(ref.Ch[0], ref.Ch[0])
	p.click("#rail a[href$=compare]")
	p.until("no track yet", "document.querySelector('#no-reference') && document.querySelector('#reference-file')")
	el, err := p.Timeout(patience).Element("#reference-file")
	if err != nil {
		t.Fatal(err)
	}
	if err := el.SetFiles([]string{write(t, "Finished.wav", ref, wav.Int24)}); err != nil {
		t.Fatal(err)
	}
	p.until("the song above it", "document.querySelector('#song-over') && document.querySelector('#match-in')")
	p.typed("#match-amount", "80")
	p.until("another amount", "document.querySelector('#match-amount')?.value === '80' && document.querySelector('#match-in')")
	p.visit(p.js("location.href"))
	p.until("after a reload", "document.querySelector('#song-over') && document.querySelector('#match-in')")
	p.edited("matched", func() { p.click("#match-in") })
	p.until("a way back", "document.querySelector('#match-out')")
	n := 0
	song, err := a.store.Load(t.Context(), a.song(p))
	if err != nil {
		t.Fatal(err)
	}
	for _, m := range song.Master.Moves {
		if session.OfCompare(m) {
			n++
		}
	}
	if n == 0 || n > 5 {
		t.Errorf("%d filters on the master", n)
	}
	p.edited("taken out", func() { p.click("#match-out") })
	p.until("what is proposed", "document.querySelector('#match-in')")
	p.clean()
}

// withTrack is the fight with a finished track on the page of Compare.
func withTrack(t *testing.T) (*app, *page) {
	t.Helper()
	a, p := withFight(t)
	kick, bass := fight()
	ref := audio.New(kick.Rate, 1, kick.Frames())
	for i := range ref.Ch[0] {
		ref.Ch[0][i] = 0.4*kick.Ch[0][i] + 0.25*bass.Ch[0][i] // the bass is 4 dB softer than the kick would have it
	}
	p.click("#rail a[href$=compare]")
	p.until("Compare", "document.querySelector('#reference-file')")
	el, err := p.Timeout(patience).Element("#reference-file")
	if err != nil {
		t.Fatal(err)
	}
	if err := el.SetFiles([]string{write(t, "Liked.wav", ref, wav.Int24)}); err != nil {
		t.Fatal(err)
	}
	p.until(
		"the song above it",
		"document.querySelector('#song-over') && document.querySelector('#stretch') && document.querySelector('#devices-table') && "+
			"document.querySelector('.keep-ref') && document.querySelector('#blind-go') && document.querySelector('#drill-band')",
	)
	return a, p
}

// A stretch is dragged on the track's own overview and given up again; the set keeps the track; the deck plays it as Before,
// turned down, in a band by a key, and on the next stand-in by another; the page shows what vanishes there, and lets it be
// heard.
func TestCompareElsewhere(t *testing.T) {
	t.Parallel()
	a, p := withTrack(t)
	id := a.song(p)
	refs := func() []session.Reference {
		song, err := a.store.Load(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return song.References
	}
	p.edited("a stretch", func() { p.drag("#stretch", 180, 0) })
	if s := refs()[0].Stretch; s == nil || s.From < 3.2 || s.From > 3.8 || s.To < 4.8 || s.To > 5.6 {
		t.Errorf("%+v", s)
	}
	p.until("the way back", "document.querySelector('#stretch-all')")
	p.edited("all of it", func() { p.click("#stretch-all") })
	if refs()[0].Stretch != nil {
		t.Errorf("%+v", refs()[0].Stretch)
	}
	p.until("who to turn", "document.querySelector('#compare-found .finding button.fill')")
	p.edited("turning it", func() { p.click("#compare-found .finding button.fill") })
	song, err := a.store.Load(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	turned := 0
	for _, st := range song.Stems {
		if st.Source != 0 || st.Clip != 0 || st.Fader != 0 {
			turned++
		}
	}
	if turned != 1 {
		t.Errorf("%d stems were turned", turned)
	}
	p.edited("turning it back", func() { p.click("#undo") })
	p.until("the set", "document.querySelector('.keep-ref')")
	p.click(".keep-ref")
	p.until("it is kept", "document.querySelector('#inset') && document.querySelector('#set-table')")
	p.until("the track on the deck", "document.querySelector('#hear-track')")
	p.click("#hear-track")
	p.until("the word of care", "document.querySelector('#care-dialog').open")
	p.click("#care-ok")
	p.until(
		"it plays",
		"document.querySelector('#deck').dataset.state === 'playing' && document.querySelector('#down') && document.querySelector('#deck').dataset.side === 'before'",
	)
	p.js("document.activeElement.blur()")
	key := func(k string, want string) {
		t.Helper()
		p.js("document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '" + k + "', bubbles: true}))")
		p.until(
			k+": "+want,
			"document.querySelector('#ear')?.value === '"+want+"' && (document.querySelector('#deck').dataset.loaded || '').includes('ear="+want+"')",
		)
	}
	key("b", "low")
	key("b", "sub")
	key("d", "phone")
	key("d", "laptop")
	p.click("#devices-table [data-ear=club]")
	p.until("the club", "(document.querySelector('#deck').dataset.loaded || '').includes('ear=club')")
	p.js("(e => { e.value = '1'; e.dispatchEvent(new Event('change', {bubbles: true})) })(document.querySelector('#down'))")
	p.until(
		"10 dB down",
		"document.querySelector('#offset-db')?.textContent.trim() === '\u221210.0' && (document.querySelector('#deck').dataset.loaded || '').includes('down=1')",
	)
	p.clean()
}

// A blind test by a script that guesses stays within the odds over 200 trials; one that hears 3 dB has all of ten right.
// Answers go by keys and by buttons, no result shows before the end, and it is in the Log.
func TestBlind(t *testing.T) {
	t.Parallel()
	a, p := withTrack(t)
	id := a.song(p)
	song, err := a.store.Load(t.Context(), id)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := a.store.Edit(t.Context(), id, song.Rev, session.SetMove{At: session.At{}, Move: move.Move{ID: "lift", Params: &move.Filter{Shape: dsp.HighShelf,
		Hz: 60, Q: 0.7, DB: 3}}}); err != nil {
		t.Fatal(err)
	}
	p.visit(a.url + "/songs/" + id + "/compare")
	p.untilWithin(longPatience, "the choice, and all that moves it as it comes in",
		"document.querySelector('#blind-go') && !document.querySelector('.working') && !document.querySelector('.htmx-request')")
	begin := func(trials int) {
		t.Helper()
		p.js("(s => { s.value = [...s.options].find(o => o.textContent.startsWith('without filter')).value })(document.querySelector('#blind-b'))")
		p.fill("#blind-trials", fmt.Sprint(trials))
		p.click("#blind-go")
		p.until("the first trial", fmt.Sprintf("document.querySelector('#blind-trial')?.textContent === 'Trial 1 of %d.'", trials))
	}
	next := func(n, of int) string {
		if n == of {
			return "document.querySelector('#blind-last')"
		}
		return fmt.Sprintf("document.querySelector('#blind-trial')?.textContent === 'Trial %d of %d.'", n+1, of)
	}
	guess := rand.New(rand.NewPCG(11, 12))
	right := 0
	for range 2 {
		begin(100)
		for n := 1; n <= 100; n++ {
			key := []string{"j", "k"}[guess.IntN(2)]
			p.js("document.body.dispatchEvent(new KeyboardEvent('keydown', {key: '" + key + "', bubbles: true}))")
			p.until(fmt.Sprintf("trial %d", n+1), next(n, 100))
		}
		said := p.text("#blind-last")
		_, said, _ = strings.Cut(said, ": ")
		k := 0
		if _, err := fmt.Sscanf(said, "%d of 100 right", &k); err != nil {
			t.Fatalf("%q", said)
		}
		right += k
	}
	if right < 70 || right > 130 { // five standard deviations to each side of 100: by chance 1 in 30,000
		t.Errorf("guessing has %d of 200 right", right)
	}
	begin(10)
	for n := 1; n <= 10; n++ {
		p.js(`(async () => {
			window.heard = "";
			const d = document.querySelector("#blind").dataset, at = d.first;
			const c = new OfflineAudioContext(1, 1, Number(document.querySelector("#deck-data").dataset.rate));
			const share = async (url) => { // of the lowest in all
				const x = (await c.decodeAudioData(await (await fetch(url)).arrayBuffer())).getChannelData(0);
				let low = 0, a = 0, all = 0;
				for (const v of x) { a += 0.004 * (v - a); low += a * a; all += v * v; }
				return 10 * Math.log10(low / all);
			};
			const [a, b] = await Promise.all([share(d.first), share(d.second)]);
			window.heard = Math.abs(a - b) > 0.2 ? "2" : "1";
		})()`)
		p.until("it has heard both", "window.heard")
		if s := p.js("document.querySelector('#blind-last') ? 'told' : ''"); s != "" {
			t.Fatal("told before the end")
		}
		p.click("#answer-" + p.js("window.heard"))
		p.until(fmt.Sprintf("trial %d", n+1), next(n, 10))
	}
	if said := p.text("#blind-last"); !strings.Contains(said, "10 of 10 right") || !strings.Contains(said, "the difference is heard") {
		t.Errorf("%q", said)
	}
	p.click("#rail a[href$=log]")
	p.click("#part-takes")
	p.until("in the Log", "document.querySelectorAll('#blind-tests tbody tr').length === 3")
	p.clean()
}

// A drill: both sounds are heard by keys, an answer is given, told at once, and the next question is asked.
func TestDrills(t *testing.T) {
	t.Parallel()
	_, p := withTrack(t)
	p.js("localStorage.setItem('care-read', '1')")
	p.click("#drill-louder button")
	p.until("a question", "document.querySelector('#drill [data-pair]')")
	p.js("document.activeElement.blur()")
	p.js("document.body.dispatchEvent(new KeyboardEvent('keydown', {key: 'ArrowRight', bubbles: true}))")
	p.until("the second is heard", "document.querySelector('#drill [data-pair=\"1\"]').getAttribute('aria-pressed') === 'true'")
	p.click("#drill [data-pair='0']")
	p.until(
		"the first is heard",
		"document.querySelector('#drill [data-pair=\"0\"]').getAttribute('aria-pressed') === 'true' && document.querySelector('#drill "+
			"[data-pair=\"1\"]').getAttribute('aria-pressed') === 'false'",
	)
	p.click("#drill-answer-0")
	p.until("what it was", "document.querySelector('#drill-said') && document.querySelector('#score-louder')")
	p.click("#drill-band button")
	p.until("five answers", "document.querySelectorAll('#drill button[name=answer]').length === 5")
	p.click("#drill-answer-3")
	p.until("what it was", "document.querySelector('#drill-said') && document.querySelector('#score-band')")
	p.clean()
}
