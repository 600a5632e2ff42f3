package e2e

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Body, as a hand uses it: a kick that steps, told; another part chosen; both schools; evened out by the finding, seen in the
// picture, off and undone; a reload keeps it.
func TestBody(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	kick, _ := fight()
	soft := audio.New(kick.Rate, 1, kick.Frames())
	for i, v := range kick.Ch[0] {
		g := float32(1)
		if int(math.Floor(2*float64(i)/float64(kick.Rate)))%2 == 1 {
			g = 0.5
		}
		soft.Ch[0][i] = v * g
	}
	id := a.song(p)
	load := func() *session.Song {
		t.Helper()
		s, err := a.store.Load(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		return &s.Song
	}
	stem := load().ByRole(session.Kick)[0].ID
	p.visit(a.url + "/songs/" + id + "/intake")
	p.edited("a kick that steps", func() {
		el, err := p.Timeout(patience).Element("form[action$='" + stem + "/replace'] input[type=file]")
		if err != nil {
			t.Fatal(err)
		}
		if err := el.SetFiles([]string{write(t, "Kick.wav", soft, wav.Int24)}); err != nil {
			t.Fatal(err)
		}
	})
	p.click("#rail a[href$=body]")
	p.until("the schools", "document.querySelector('#steady-own') && document.querySelector('#body-found')?.children.length")
	p.choice("#steady-part", "bass") // it has one note
	p.until("nothing to even out", "document.querySelector('#steady-now')?.textContent.includes('fewer than two') && !document.querySelector('#steady-own')")
	p.choice("#steady-part", "kick")
	p.until("the kick's", "document.querySelector('#steady-own') && document.querySelector('#steady-now')?.textContent.includes('hits')")
	before := p.js("document.querySelector('#spread-kick').textContent")
	p.edited("even", func() { p.click("#steady-own button[value=own]") })
	p.until("the picture", "document.querySelector('#weights .kick-before')")
	if after := p.js("document.querySelector('#spread-kick').textContent"); after == before {
		t.Errorf("the spread stays at %s", after)
	}
	if m := load().Stem(stem).Move(session.BodySteady); m == nil {
		t.Error("nothing evens it out")
	}
	p.visit(a.url + "/songs/" + id + "/body")
	p.until("what is set, after a reload", "document.querySelector('#weights .kick-before')")
	p.edited("undone", p.undo)
	if m := load().Stem(stem).Move(session.BodySteady); m != nil {
		t.Error("it is still there")
	}
	p.until("the ladders", "document.querySelector('#ladders') && document.querySelector('#on-phone.on')")
	p.click("#on-earbuds")
	p.until("another speaker", "document.querySelector('#on-earbuds.on') && document.querySelector('#speaker-says').textContent.includes('earbuds')")
	p.click("#on-phone")
	p.until("the drive", "document.querySelector('#on-phone.on') && document.querySelector('#drive-in')")
	p.edited("harmonics", func() { p.click("#drive-in") })
	p.until("a way back", "document.querySelector('#drive-out')")
	if load().ByRole(session.Bass)[0].Move(session.BodyDrive) == nil {
		t.Error("no harmonics are added")
	}
	p.typed("#body-spread", "wide")
	p.until("a sentence", "document.querySelector('#rules-wrong')")
	p.clean("422")
}

// A break that holds kick and bass in one file, as a hand takes it apart: progress, the parts, what lasts lowered, a part shaped by
// typing, put together again.
func TestBodySplit(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Low Tide", "120")
	kick, bass := fight()
	both := audio.New(kick.Rate, 2, kick.Frames())
	for c := range both.Ch {
		for i := range both.Ch[c] {
			both.Ch[c][i] = 0.9*kick.Ch[0][i] + 1.8*bass.Ch[c][i]
		}
	}
	p.choose(write(t, "Break.wav", both, wav.Int24))
	p.until("the stem", "document.querySelectorAll('.stems tbody tr[data-name]').length === 1 && !document.querySelector('#imports progress')")
	p.click("#rail a[href$=body]")
	p.until("what may be taken apart", "document.querySelector('#split-go')")
	p.until("all of Body is there", "!document.querySelector('.htmx-request') && !document.querySelector('.working')") // what comes in moves the button away
	p.click("#split-go")
	p.until("the parts", "document.querySelectorAll('.parts tbody tr').length === 3 && document.querySelector('#lower-in')")
	p.until("all of Body is there again", "!document.querySelector('.htmx-request') && !document.querySelector('.working')")
	p.edited("what lasts", func() { p.click("#lower-in") })
	p.until("the shelf in its field", "Number(document.querySelectorAll('.parts input[name=shelf]')[1]?.value.replace('−', '-')) < 0")
	p.edited("a level", func() { p.typed(".parts input[name=fader]", "-2") })
	p.until("the level", "document.querySelector('.parts input[name=fader]')?.value.replace('−', '-') === '-2'")
	s, err := a.store.Load(t.Context(), a.song(p))
	if err != nil || s.Parts(s.Stems[0].ID)[0].Fader != -2 {
		t.Errorf("%v", err)
	}
	p.until("all of Body is there once more", "!document.querySelector('.htmx-request') && !document.querySelector('.working')")
	p.edited("together", func() { p.click("[id^=together-]") })
	p.until("one stem", "document.querySelector('#split-go') && !document.querySelector('.parts')")
	p.clean()
}

// The rest of Body, as a hand uses it: layers on chosen beats, a tone put under the kick and taken out, notes that fall by
// another law, a glue on the mix, an attack in parallel, a hit taken away.
func TestBodyMore(t *testing.T) {
	t.Parallel()
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("Low Tide", "120")
	kick, bass := fight()
	late := audio.New(kick.Rate, 1, kick.Frames())
	for i := 260; i < kick.Frames(); i++ {
		late.Ch[0][i] = 0.6*kick.Ch[0][i-260] + 0.02*float32(math.Sin(float64(i)*0.3))
	}
	p.choose(write(t, "Kick low.wav", kick, wav.Int24), write(t, "Kick top.wav", late, wav.Int24), write(t, "808.wav", bass, wav.Float32))
	p.until("the stems", "document.querySelectorAll('.stems tbody tr[data-name]').length === 3 && !document.querySelector('#imports progress')")
	load := func() *session.Song {
		t.Helper()
		s, err := a.store.Load(t.Context(), a.song(p))
		if err != nil {
			t.Fatal(err)
		}
		return &s.Song
	}
	p.click("#rail a[href$=body]")
	all := "document.querySelector('#stack-kick') && document.querySelector('#tone-in, #tone-out') && document.querySelector('#bands-in, #bands-out') && " +
		"document.querySelector('#shot-go') && document.querySelector('#fall-says')"
	p.until("all of it", all)
	p.edited("a tone", func() { p.click("#tone-in") })
	p.until("a way back", "document.querySelector('#tone-out')")
	if load().TriggerStem().Move(session.BodySub) == nil {
		t.Error("there is no tone")
	}
	p.edited("no tone", func() { p.click("#tone-out") })
	p.until("all of it again", all)
	p.choice("#fall-from", "release")
	p.until("another law", "document.querySelector('#fall-says')?.textContent.includes('in their last')")
	p.edited("falling", func() { p.click("#fall-in") })
	if m, ok := load().ByRole(session.Bass)[0].Move(session.BodyFall).Params.(*move.Drop); !ok || m.From != move.DropRelease {
		t.Errorf("%+v", m)
	}
	p.until("it falls", "document.querySelector('#fall-out')")
	p.until("all of it once more", all)
	p.edited("three bands", func() { p.click("#bands-in") })
	p.until("they are in", "document.querySelector('#bands-out')")
	p.until("and the schools", "document.querySelector('#body-parallel-in')")
	p.edited("in parallel", func() { p.click("#body-parallel-in") })
	p.until("the copy's level", "document.querySelector('.ways')?.textContent.includes('under the sound')")
	p.until("the layers", "document.querySelector('[id^=beats-]')")
	p.edited("on beats", func() { p.choice("[id^=beats-]", "off") })
	p.until("what was chosen", "document.querySelector('[id^=beats-]')?.value === 'off'")
	p.js("fetch('/songs/' + document.body.dataset.song + '/body/oneshot.wav?part=kick').then(r => r.arrayBuffer()).then(b => window.shot = b.byteLength)")
	p.until("a shot", "window.shot > 20000")
	p.until("what may be under the kick", "document.querySelector('#tone-db')")
	p.typed("#tone-db", "loud")
	p.until("a sentence", "document.querySelector('#low-said')")
	p.clean("422")
}
