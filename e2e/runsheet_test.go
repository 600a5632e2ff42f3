package e2e

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
	"mellowthump/internal/songs"
)

// From a folder to a better take by keys and clicks: the stems of the demo song are dropped on a new song, the run sheet is
// made, what it proposes is applied in one step, and saved; the figures of the take are those that the sheet promised.
func TestRunSheet(t *testing.T) {
	t.Parallel()
	outside.Slow(t)
	var paths []string
	for _, st := range songs.FirstHalf(songs.SlowFerry()).Stems {
		paths = append(paths, write(t, st.Name+".wav", st.Sound, wav.Int24))
	}
	a := start(t, t.TempDir())
	p := a.open("/")
	p.newSong("River Song", "142")
	began := time.Now()
	p.choose(paths...)
	p.until("the way to the run sheet", "document.querySelector('#to-sheet') && document.querySelectorAll('.stems tbody tr[data-name]').length === 12")
	in := time.Since(began)
	song := a.song(p)
	p.click("#to-sheet")
	p.until("the first rows", "document.querySelector('.run-row')")
	first := time.Since(began) - in
	p.untilWithin(longPatience, "the sheet", "document.querySelector('#run-apply') && !document.querySelector('#run-apply').disabled")
	made := time.Since(began) - in
	promised := p.text(".won-row .won-name .n") // what is hidden of the kick, the first of them
	tenth := p.js("[...document.querySelectorAll('.won-name')].find(e => e.textContent.includes('worst tenth')).querySelector('.n').textContent")
	rows := p.js("document.querySelectorAll('.run-row').length")
	ticked := p.text("#run-ticked")
	p.click("#run-apply")
	p.untilWithin(longPatience, "what was won", "document.querySelector('#run-applied')")
	if got := p.text("#run-applied b"); got != ticked+" changes made in one step." {
		t.Errorf("%s were ticked: %q", ticked, got)
	}
	if got := p.text("#run-result td.n"); got != promised {
		t.Errorf("the sheet promised %q, and %q is said to be won", promised, got)
	}
	p.click("#run-take")
	p.until("the dialog", "document.querySelector('#take-dialog').open")
	p.fill("#take-name", "first better take")
	p.click("#take-dialog .fill")
	p.until("the take is saved", "!document.querySelector('#take-dialog').open")
	all := time.Since(began)
	t.Logf(
		"in after %.1f s, first rows %.1f s after that, the sheet %.1f s after it; the take after %.1f s of all; %s rows, %s ticked",
		in.Seconds(),
		first.Seconds(),
		made.Seconds(),
		all.Seconds(),
		rows,
		ticked,
	)
	p.click("#part-takes")
	p.until("the take", "document.querySelector('.takes')?.textContent.includes('first better take')")
	_, after, _ := strings.Cut(tenth, "→")
	after = strings.Fields(after)[0]
	if got := p.text(".takes tbody td.n"); got != after {
		t.Errorf("the take's worst tenth is %s, promised was %s", got, after)
	}
	one, err := a.store.Runs(t.Context(), song, 5)
	if err != nil || len(one) != 1 {
		t.Fatalf("%d runs, %v", len(one), err)
	}
	p.click("#undo")
	p.untilWithin(longPatience, "undone", fmt.Sprintf("document.querySelector('#rev').value === '%d'", one[0].Base))
	if now, _ := a.store.Head(t.Context(), song); now != one[0].Base {
		t.Errorf("one undo leads to revision %d, the run stands on %d", now, one[0].Base)
	}
	p.clean()
}

// withSheet is the song of withFight with its run sheet made.
func withSheet(t *testing.T) (*app, *page, string) {
	a, p := withFight(t)
	id := a.song(p)
	p.visit(a.url + "/songs/" + id + "/log")
	p.until("the sheet", sheetMade)
	return a, p, id
}

const sheetMade = "document.querySelector('#run-ticked') && document.querySelector('.run-row')"

func (p *page) keysOf() string {
	return p.js("[...document.querySelectorAll('.run-row')].map(r => r.dataset.key + (r.querySelector('[name=tick]')?.checked ? '+' : '')).join(' ')")
}

// Order and choice are the user's: they stand in the address, a reload keeps them, what is below is measured anew. What is
// left be stays so with its reason, and comes back.
func TestRunSheetChoice(t *testing.T) {
	t.Parallel()
	a, p, id := withSheet(t)
	was := p.keysOf()
	if !strings.Contains(was, "levels/plan+") || !strings.Contains(was, "duck/fit+") {
		t.Fatalf("proposed: %s: %s", was, p.text("#run-rows"))
	}
	p.click("[data-key='levels/plan'] [name=tick]")
	p.until("another choice", "location.search.includes('off=') && "+sheetMade)
	if got := p.keysOf(); strings.Contains(got, "levels/plan+") || !strings.Contains(got, "levels/plan") {
		t.Errorf("without it: %s", got)
	}
	p.visit(p.js("location.href"))
	p.until("the sheet", sheetMade)
	if got := p.keysOf(); strings.Contains(got, "levels/plan+") {
		t.Errorf("after a reload: %s", got)
	}
	for range 2 { // over what is told of the bass, and over the plan
		if got := p.keysOf(); strings.Index(got, "duck/fit") < strings.Index(got, "levels/plan") {
			break
		}
		was := p.js("location.search")
		p.click("[data-key='duck/fit'] [name=up]")
		p.until("another order", fmt.Sprintf("location.search.includes('first=') && location.search !== %q && %s", was, sheetMade))
	}
	if got := p.keysOf(); strings.Index(got, "duck/fit") > strings.Index(got, "levels/plan") {
		t.Errorf("the duck first: %s", got)
	}
	// hear it: Before is the song with what is above, After with the row too
	p.js("localStorage.setItem('care-read', '1')")
	p.click("[data-key='duck/fit'] [data-try]")
	p.until("the deck tries it", "document.querySelector('#trying')?.textContent.includes('Fit a duck')")
	before := p.js("new URL(document.querySelector('#deck-data').dataset.before, location).searchParams.get('of')")
	if !strings.HasPrefix(before, "on:log/duck/fit") {
		t.Errorf("Before is %q", before)
	}
	for _, side := range []string{"before", "after"} {
		at := p.js("document.querySelector('#deck-data').dataset." + side)
		res, err := http.Get(a.url + at)
		if err != nil {
			t.Fatal(err)
		}
		res.Body.Close()
		if res.StatusCode != http.StatusOK {
			t.Errorf("%s plays %d: %s", side, res.StatusCode, at)
		}
	}
	p.visit(a.url + "/songs/" + id + "/log")
	p.until("the sheet", sheetMade)
	p.click("[data-key='levels/plan'] .leave summary")
	p.fill("[data-key='levels/plan'] [name=why]", "the levels are set elsewhere")
	p.edited("left be", func() { p.click("[data-key='levels/plan'] .run-leave button") })
	p.until("the sheet", sheetMade)
	if got := p.keysOf(); strings.Contains(got, "levels/plan") {
		t.Errorf("left be, and there: %s", got)
	}
	if got := p.text("#run-aside"); !strings.Contains(got, "because the levels are set elsewhere") {
		t.Errorf("aside: %s", got)
	}
	p.edited("undone", p.undo)
	p.until("the sheet", sheetMade)
	if got := p.keysOf(); got != was {
		t.Errorf("after the undo: %s, before: %s", got, was)
	}
	p.clean()
}

// Two tabs, and a stop in the middle of applying: nothing is lost, nothing is made twice, and one undo takes all of it back.
func TestRunSheetStopped(t *testing.T) {
	t.Parallel()
	a, p, id := withSheet(t)
	other := a.open("/songs/" + id + "/log")
	other.until("the sheet", sheetMade)
	revs := func() int {
		all, err := a.store.History(t.Context(), id, 100)
		if err != nil {
			t.Fatal(err)
		}
		return len(all)
	}
	was, base := revs(), p.rev()
	ticked := p.text("#run-ticked")
	// in the moment in which it is asked for, the program stops: the sheet is to be made anew after it
	p.js("document.querySelector('[data-key=\"levels/plan\"] [name=tick]').click()")
	p.until("another choice", "location.search.includes('off=')")
	p.js(
		"fetch('/songs/" + id + "/log/apply', {method: 'POST', headers: {'Content-Type': 'application/x-www-form-urlencoded', 'HX-Request': 'true'}, " +
			"body: '" + url.Values{
			"rev":    {base},
			"shown":  {"levels/plan", "duck/fit"},
			"tick":   {"levels/plan", "duck/fit"},
			"preset": {"levels/plan", "duck/fit"},
		}.Encode() + "'}).catch(() => 0)",
	)
	deadline := time.Now().Add(patience)
	for jobs := 0; jobs == 0; {
		if time.Now().After(deadline) {
			t.Fatal("the apply was never begun")
		}
		all, err := a.store.Jobs(t.Context(), id)
		if err != nil {
			t.Fatal(err)
		}
		if jobs = len(all); revs() > was {
			break
		}
	}
	a.down()
	a.up()
	q := a.open("/songs/" + id + "/log")
	q.until("it is applied", "document.querySelector('#run-applied')")
	runs, err := a.store.Runs(t.Context(), id, 10)
	if err != nil || len(runs) != 1 || revs() != was+int(runs[0].Head-runs[0].Base) {
		t.Fatalf("%d runs, %d revisions more, %v", len(runs), revs()-was, err)
	}
	if got := q.text("#run-applied b"); got != ticked+" changes made in one step." && got != "1 change made in one step." {
		t.Errorf("%s were ticked: %q", ticked, got)
	}
	// the other tab has not seen it
	other.click("#run-apply")
	other.until("the sentence", "document.querySelector('#notice').textContent.includes('changed in another tab')")
	if again, _ := a.store.Runs(t.Context(), id, 10); len(again) != 1 {
		t.Errorf("it was applied %d times", len(again))
	}
	q.edited("undone", q.undo)
	if q.rev() != base {
		t.Errorf("one undo leads to %s, not %s", q.rev(), base)
	}
	q.edited("redone", func() { q.click("#redo") })
	if q.rev() != fmt.Sprint(runs[0].Head) {
		t.Errorf("one redo leads to %s, not %d", q.rev(), runs[0].Head)
	}
	q.clean()
}
