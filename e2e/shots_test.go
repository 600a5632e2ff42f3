package e2e

import (
	"context"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"mellowthump/app/demodata"
	"mellowthump/app/store"
	"mellowthump/app/web/intake"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/demo"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// Every view comes whole by night, with a clean console; by day all other tests look.
func TestViews(t *testing.T) {
	t.Parallel()
	a, p := withFight(t)
	p.js("document.cookie = 'theme=night; path=/'")
	song := a.url + "/songs/" + a.song(p) + "/"
	for _, view := range []string{"intake", "levels", "pocket", "duck", "room", "body", "width", "compare", "print"} {
		p.visit(song + view)
		p.untilWithin(
			longPatience,
			"all of "+view,
			"document.documentElement.dataset.theme === 'night' && document.querySelector('#marks-later') === null && !document.querySelector('.htmx-request') && "+
				"!document.querySelector('.working')",
		)
	}
	p.clean()
}

// TestShots remakes the pictures of the main views from the demo songs, where SHOTS says where to (make shots). It tests nothing.
func TestShots(t *testing.T) {
	t.Parallel()
	if os.Getenv("SHOTS") == "" {
		return
	}
	dir := t.TempDir()
	st, err := store.Open(context.Background(), dir)
	if err != nil {
		t.Fatal(err)
	}
	if err := demodata.Song(context.Background(), st, demo.TidalGlass()); err != nil {
		t.Fatal(err)
	}
	if err := demodata.Song(context.Background(), st, demo.CopperKettle()); err != nil {
		t.Fatal(err)
	}
	if err := demodata.Load(context.Background(), st); err != nil {
		t.Fatal(err)
	}
	st.Close()
	to := filepath.Join("..", os.Getenv("SHOTS"))
	a := start(t, dir)
	p := a.open("/")
	p.click(".songs a.songname") // which opens on the run sheet
	p.untilWithin(longPatience, "the run sheet", "document.querySelector('#run-ticked')")
	song := a.url + "/songs/" + a.song(p) + "/"
	p.js("document.cookie = 'theme=day; path=/'")
	p.visit(song + "log")
	p.untilWithin(longPatience, "the run sheet", "document.querySelector('#run-ticked')")
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.shot(filepath.Join(to, "runsheet-day.png"))
	take := func(name, note string) {
		p.click("#save-take")
		p.fill("#take-name", name)
		p.fill("#take-note", note)
		p.click("#take-dialog .fill")
		p.until("the take", "!document.querySelector('#take-dialog').open")
	}
	p.visit(song + "levels")
	take("as it came", "")
	for _, theme := range []string{"day", "night"} {
		p.js("document.cookie = 'theme=" + theme + "; path=/'")
		if theme == "day" {
			p.until("the marks", "document.querySelector('#marks-later') === null")
			p.visit(a.url + "/")
			p.shot(filepath.Join(to, "songs-day.png"))
		}
		for _, view := range []string{"intake", "levels", "pocket", "duck", "room", "body", "width"} {
			if theme == "night" && (view == "intake" || view == "levels" || view == "width") { // by day alone: a picture a view
				continue
			}
			p.visit(song + view)
			if view == "duck" {
				if p.js("document.querySelector('#points') === null") == "true" {
					p.edited("the fit", func() { p.click("#fit") })
					p.visit(song + view)
				}
				p.until("what it costs", "document.querySelector('#trade')")
			}
			if view == "pocket" || view == "duck" {
				p.until("the line of hits", "document.querySelector('#hitline')")
			}
			if view == "pocket" {
				p.until("the kick's options", "document.querySelector('#kick-options')")
			}
			if view == "room" {
				p.until("what may go", "document.querySelector('#room-rows .edge') && document.querySelector('#room-found .finding') && document.querySelector('#rolls')")
			}
			if view == "body" {
				p.until("the notes and the schools", "document.querySelector('#ladders') && document.querySelector('#steady-table')")
			}
			if view == "width" {
				p.until("who stands how wide", "document.querySelector('#width-all') && document.querySelector('#pair-says')")
				p.click("#width-all a[href*='at=pad']")
				p.until(
					"the pad",
					"document.querySelector('.lead')?.textContent.startsWith('Pad') && document.querySelector('#width-all') && document.querySelector('#pair-says')",
				)
			}
			if view == "levels" {
				p.until("the running sum", "document.querySelector('#sum-table') && document.querySelector('#whole-peak')")
				p.click("#preview")
				p.until("the plan", "document.querySelector('#plan-trims')")
			}
			p.until("the marks", "document.querySelector('#marks-later') === null")
			if view == "body" && theme == "day" { // by night alone
				continue
			}
			p.shot(filepath.Join(to, view+"-"+theme+".png"))
		}
		if theme == "day" { // the Pocket is shown as it was found: before the fit
			p.visit(song + "duck")
			p.edited("taking the duck away", func() { p.click("#duck-drop") })
		}
	}
	take("least duck", "kick speaks on F1 now; check on the small speaker")
	p.visit(song + "log?view=takes")
	for _, box := range []string{"[data-take]:nth-child(1) input", "[data-take]:nth-child(2) input"} {
		p.click(box)
	}
	p.click("#beside-go")
	p.untilWithin(longPatience, "side by side", "document.querySelector('#beside-table')")
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.shot(filepath.Join(to, "takes-night.png"))
	p.js("document.cookie = 'theme=day; path=/'")
	p.visit(song + "log?view=sections")
	p.edited("the sections", func() { p.click("#sections-take") })
	for _, cut := range [][2]string{{"17", "Bridge"}, {"25", "Hook"}} {
		p.until("the figures", "document.querySelector('#section-figures')")
		p.fill("#section-cut-at", cut[0])
		p.edited("a cut", func() { p.typed("#section-cut-name", cut[1]) })
	}
	p.until("the figures", "document.querySelectorAll('#section-figures tbody tr').length === 4")
	p.edited("resting", func() { p.typed("#section-depth-2", "0") })
	p.until("it says so", "document.querySelector('#section-figures')?.textContent.includes('rest')")
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.shot(filepath.Join(to, "sections-day.png"))
	p.visit(a.url + "/")
	p.click(".songs tr:nth-child(2) a.songname, .songs li:nth-child(2) a.songname")
	p.until("the other song", "document.querySelector('#run-form')")
	p.click("#rail a[href$=body]")
	p.until("what may be taken apart", "document.querySelector('#split-go')")
	p.click("#split-go")
	p.until("the parts", "document.querySelectorAll('.parts tbody tr').length === 3 && document.querySelector('#lower-in')")
	p.until("all of Body is there", "!document.querySelector('.htmx-request') && !document.querySelector('.working')") // what comes in moves the button away
	p.edited("what lasts", func() { p.js("document.querySelector('#lower-in').click()") })
	p.until(
		"the parts, lowered",
		"document.querySelector('.parts') && document.querySelector('#shot-go') && document.querySelector('#bands-in') && document.querySelector('#ladders')",
	)
	p.js("document.querySelector('#body-apart').scrollIntoView()")
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.shot(filepath.Join(to, "parts-day.png"))
	p.visit(a.url + "/")
	p.click(".songs tr:nth-child(3) a.songname, .songs li:nth-child(3) a.songname")
	p.until("the third song", "document.querySelector('#run-form')")
	compare := a.url + "/songs/" + a.song(p) + "/compare"
	for _, theme := range []string{"day", "night"} {
		p.js("document.cookie = 'theme=" + theme + "; path=/'")
		p.visit(compare)
		p.until(
			"all of Compare",
			"document.querySelector('#song-over') && document.querySelector('#devices-table') && document.querySelector('.keep-ref, #inset') && "+
				"document.querySelector('#blind-go') && document.querySelector('#drill-band') && document.querySelector('#compare-found .finding')",
		)
		if theme == "night" {
			p.click(".keep-ref")
			p.until("the set", "document.querySelector('#inset')")
			p.js("document.querySelector('#compare-devices').scrollIntoView()")
		}
		p.until("the marks", "document.querySelector('#marks-later') === null")
		p.shot(filepath.Join(to, "compare-"+theme+".png"))
	}
	p.js("document.cookie = 'theme=day; path=/'")
	p.visit(a.url + "/songs/" + a.song(p) + "/print")
	p.until("the premaster", "document.querySelector('#printhits') && document.querySelector('#goes-go')")
	p.js("document.querySelector('#school-clip').click()")
	p.fill("#print-lufs", "-8.5")
	p.edited("the print", func() { p.click("#print-solve") })
	p.until("who and what it costs", "document.querySelector('#who-table') && document.querySelector('#cost-knob') && document.querySelector('#goes-go')")
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.shot(filepath.Join(to, "print-day.png"))
	bounced(a, a.song(p))
	p.js("document.cookie = 'theme=night; path=/'")
	p.visit(a.url + "/songs/" + a.song(p) + "/print")
	p.until(
		"what landed",
		"document.querySelectorAll('#bounces-table .bounce-row').length === 3 && document.querySelector('#who-table') && document.querySelector('#cost-knob')",
	)
	p.until("the marks", "document.querySelector('#marks-later') === null")
	p.js("document.querySelector('#bounces').scrollIntoView()")
	p.shot(filepath.Join(to, "bounces-night.png"))
	p.clean()
}

// bounced plans something for three stems, and bounces them into a folder as another program might: as planned, in part, not yet.
func bounced(a *app, id string) {
	a.t.Helper()
	ctx, dir := a.t.Context(), a.t.TempDir()
	fail := func(err error) {
		a.t.Helper()
		if err != nil {
			a.t.Fatal(err)
		}
	}
	song, err := a.store.Load(ctx, id)
	fail(err)
	fail(intake.NameBounces(ctx, a.store, id, dir))
	for i, did := range []float64{-3, -1.5, 0} { // dB of the bell, of -3 that are planned
		st := song.Stems[len(song.Stems)-1-i]
		at := session.At{Stem: st.ID}
		_, err := a.store.Edit(ctx, id, store.AnyRevision, session.AddMove{At: at, Kind: "filter"})
		fail(err)
		now, err := a.store.Load(ctx, id)
		fail(err)
		moves := now.Stem(st.ID).Moves
		m := moves[slices.IndexFunc(moves, func(m move.Move) bool { _, is := m.Params.(*move.Filter); return is })]
		m.Params = &move.Filter{Shape: dsp.Bell, Hz: 400, Q: 1, Slope: 24, DB: -3}
		_, err = a.store.Edit(ctx, id, store.AnyRevision, session.SetMove{At: at, Move: m})
		fail(err)
		_, err = a.store.Edit(ctx, id, store.AnyRevision, session.Gain{At: at, Step: session.ClipStep, DB: -2})
		fail(err)
		src, closeFile, err := a.store.Open(st.Audio)
		fail(err)
		f := src.Format()
		x := audio.New(f.Rate, f.Channels, int(f.Frames))
		fail(src.ReadAt(x, 0))
		fail(closeFile())
		bell, err := dsp.RBJ(dsp.Bell, 400, 1, did, float64(f.Rate))
		fail(err)
		for _, ch := range x.Ch {
			dsp.NewFilter([]dsp.Biquad{bell}).Process(ch, ch)
			for k := range ch {
				ch[k] *= float32(dsp.Gain(-2))
			}
		}
		out, err := os.Create(filepath.Join(dir, st.Name+".wav"))
		fail(err)
		fail(wav.Write(out, x, wav.Int24))
		fail(out.Close())
	}
	for end := time.Now().Add(time.Minute); ; <-time.After(100 * time.Millisecond) {
		all, err := a.store.Bounces(ctx, id)
		fail(err)
		in := 0
		for _, b := range all {
			if b.State == store.BounceTaken {
				in++
			}
		}
		if in == 3 {
			return
		}
		if time.Now().After(end) {
			a.t.Fatalf("the bounces are not in: %+v", all)
		}
	}
}
