package web

import (
	"encoding/json"
	"fmt"
	"math"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/compare"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// sound reads a WAV that the server sent.
func sound(t *testing.T, file string) audio.Buffer {
	t.Helper()
	r, err := wav.NewReader(strings.NewReader(file), int64(len(file)))
	if err != nil {
		t.Fatal(err)
	}
	x, err := audio.ReadAll(r)
	if err != nil {
		t.Fatal(err)
	}
	return x
}

// sides are the addresses of the deck's two sides.
func sides(t *testing.T, deck string) (before, after string) {
	t.Helper()
	m := regexp.MustCompile(`data-before="([^"]*)" data-after="([^"]*)"`).FindStringSubmatch(deck)
	if m == nil {
		t.Fatalf("%.300s", deck)
	}
	return strings.ReplaceAll(m[1], "&amp;", "&"), strings.ReplaceAll(m[2], "&amp;", "&")
}

// The deck plays a finished track as Before: at the song's rate and length, as loud as the song or 10 dB down, and both
// through a band or a stand-in. What is asked for and not there is as it is.
func TestReferenceOnTheDeck(t *testing.T) {
	b, id := ready(t)
	ref := outside.Sine(22050, 1, 440, 0.05, 3, 0) // another rate, one channel, shorter than the loop
	body, kind := multipartOf(file{"Other.wav", asWAV(ref)})
	b.postTo(id, "/references", body, kind)
	r := b.load(id).References[0].ID
	choices := func(more string) string { return "/songs/" + id + "/deck/data?solo=all&against=reference:" + r + more }
	page := b.get(choices(""))
	if !strings.Contains(page, `id="down"`) || !strings.Contains(page, "the track Other") {
		t.Errorf("%.600s", page)
	}
	before, after := sides(t, page)
	x, y := sound(t, b.get(before)), sound(t, b.get(after))
	if x.Rate != y.Rate || x.Frames() != y.Frames() {
		t.Errorf("%d Hz, %d frames beside %d Hz, %d frames", x.Rate, x.Frames(), y.Rate, y.Frames())
	}
	loud := func(x audio.Buffer) float64 {
		l := float64(meter.IntegratedLoudness(x))
		if len(x.Ch) == 1 {
			l += dsp.PowerDB(2)
		}
		return l
	}
	if d := loud(x) - loud(y); math.Abs(d) > 0.1 {
		t.Errorf("the track is %.2f LU louder", d)
	}
	before, _ = sides(t, b.get(choices("&down=1")))
	if p := float64(meter.PeakDB(sound(t, b.get(before)).Ch...)); math.Abs(p-dsp.DB(0.05)+10) > 0.1 {
		t.Errorf("10 dB down its peak is %.2f dBFS", p)
	}
	before, after = sides(t, b.get(choices("&down=&ear=phone")))
	if z := sound(t, b.get(after)); len(z.Ch) != 1 || loud(z) > loud(y)-6 || !strings.Contains(before, "ear=phone") {
		t.Errorf("on the phone the song has %.1f LUFS, %.1f in the room", loud(z), loud(y))
	}
	before, after = sides(t, b.get(choices("&ear=nonsense")))
	if strings.Contains(before+after, "ear=") {
		t.Errorf("%s %s", before, after)
	}
	if status, _ := b.do("GET", strings.Replace(before, r, "none", 1), nil); status != 400 {
		t.Errorf("a track that is not there: %d", status)
	}
}

// Finished tracks of all kinds work, or say why not: silent, clipped, mono, of another rate and key, and long; a stretch is
// chosen by its loudest, by typing, and given up; what is no stretch is refused.
func TestReferencesOfAllKinds(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	kick, bass := beat()
	clipped := audio.New(rate, 2, kick.Frames())
	for c := range clipped.Ch {
		for i := range clipped.Ch[c] {
			clipped.Ch[c][i] = float32(math.Max(-1, math.Min(1, 20*float64(kick.Ch[0][i]+bass.Ch[0][i]))))
		}
	}
	long := audio.New(8000, 1, 20*60*8000)
	for i := range long.Ch[0] {
		long.Ch[0][i] = float32(0.1 * math.Sin(2*math.Pi*98*float64(i)/8000) * (1 + math.Sin(float64(i)/80000)))
	}
	for i := 600 * 8000; i < 640*8000; i++ {
		long.Ch[0][i] *= 4
	}
	body, kind := multipartOf(file{"Silent.wav", asWAV(audio.New(rate, 2, 3*rate))}, file{"Clipped.wav", asWAV(clipped)}, file{"Long.wav", asWAV(long)})
	b.postTo(id, "/references", body, kind)
	refs := map[string]session.Reference{}
	for _, r := range b.load(id).References {
		refs[r.Name] = r
	}
	with := func(name string) string { return b.get("/songs/" + id + "/compare/with?ref=" + refs[name].ID) }
	if page := with("Silent"); !strings.Contains(page, `id="compare-trouble"`) || strings.Contains(page, "NaN") {
		t.Errorf("silent: %.400s", page)
	}
	for _, name := range []string{"Clipped", "Long"} {
		if page := with(name); !strings.Contains(page, `id="song-over"`) || strings.Contains(page, "NaN") || strings.Contains(page, "Inf") ||
			!strings.Contains(page, `id="stretch"`) {
			t.Errorf("%s: %.400s", name, page)
		}
	}
	ref := refs["Long"].ID
	set := func(form url.Values) (int, string) {
		form.Set("ref", ref)
		return b.edit(id, "/compare/stretch", form)
	}
	stretch := func() *session.Span {
		for _, r := range b.load(id).References {
			if r.ID == ref {
				return r.Stretch
			}
		}
		return nil
	}
	if status, _ := set(url.Values{"as": {"loudest"}}); status != 200 || stretch() == nil || stretch().From < 599 || stretch().To > 641 {
		t.Errorf("%d %+v", status, stretch())
	}
	if page := with("Long"); !strings.Contains(page, `id="stretch-all"`) {
		t.Error("it cannot be given up")
	}
	if status, _ := set(url.Values{"from": {"10"}, "to": {"22,5"}}); status != 200 || *stretch() != (session.Span{From: 10, To: 22.5}) {
		t.Errorf("%d %+v", status, stretch())
	}
	for _, form := range []url.Values{{"from": {"10"}, "to": {"10.5"}}, {"from": {"5000"}, "to": {"6000"}}, {"from": {"a"}, "to": {"b"}}, {"from": {"30"},
		"to": {"20"}}} {
		if status, page := set(form); status != 422 || !strings.Contains(page, `id="stretch-wrong"`) || *stretch() != (session.Span{From: 10, To: 22.5}) {
			t.Errorf("%v: %d", form, status)
		}
	}
	if status, _ := set(url.Values{"as": {"all"}}); status != 200 || stretch() != nil {
		t.Errorf("%d %+v", status, stretch())
	}
	if status, _ := b.edit(id, "/compare/judge", url.Values{"ref": {ref}}); status != 200 || b.load(id).References[0].ID != ref {
		t.Errorf("%d %+v", status, b.load(id).References)
	}
	if status, _ := b.edit(id, "/compare/rules", url.Values{"tolerance": {"5"}}); status != 200 || b.load(id).CompareRules().Tolerance != 5 {
		t.Errorf("%d %+v", status, b.load(id).Compare)
	}
	for _, bad := range []string{"", "wide", "0", "13"} {
		if status, page := b.edit(id, "/compare/rules", url.Values{"tolerance": {bad}}); status != 422 || !strings.Contains(page, `id="rules-wrong"`) ||
			b.load(id).CompareRules().Tolerance != 5 {
			t.Errorf("a tolerance of %q: %d", bad, status)
		}
	}
	if status, _ := b.edit(id, "/compare/judge", url.Values{"ref": {"none"}}); status != 422 {
		t.Errorf("judged by none: %d", status)
	}
}

// Favourites live across songs: kept in one, seen in another, brought there, taken out; their audio stays when the song that
// brought it is removed. Thirty are quick.
func TestFavourites(t *testing.T) {
	b, id := ready(t)
	kick, bass := beat()
	ref := audio.New(rate, 1, kick.Frames())
	for i := range ref.Ch[0] {
		ref.Ch[0][i] = 0.5*kick.Ch[0][i] + bass.Ch[0][i]
	}
	body, kind := multipartOf(file{"Liked.wav", asWAV(ref)}, file{"Nothing.wav", asWAV(audio.New(rate, 1, rate))})
	b.postTo(id, "/references", body, kind)
	byName := map[string]string{}
	for _, r := range b.load(id).References {
		byName[r.Name] = r.ID
	}
	if page := b.get("/songs/" + id + "/compare/set"); !strings.Contains(page, `id="set-empty"`) || !strings.Contains(page, "Keep Liked") {
		t.Errorf("%.400s", page)
	}
	if status, page := b.edit(id, "/compare/set/in", url.Values{"ref": {byName["Liked"]}}); status != 200 || !strings.Contains(page, `id="inset"`) ||
		strings.Contains(page, "Keep Liked") {
		t.Errorf("%d %.400s", status, page)
	}
	for _, form := range []url.Values{{"ref": {byName["Nothing"]}}, {"ref": {"none"}}} {
		if status, _ := b.edit(id, "/compare/set/in", form); status != 422 {
			t.Errorf("%v: %d", form, status)
		}
	}
	all, err := b.server.Store.Favourites(t.Context())
	if err != nil || len(all) != 1 || !all[0].Sound.Loudness.Valid() {
		t.Fatalf("%+v %v", all, err)
	}
	other := b.song()
	b.send(other, file{"Kick.wav", asWAV(kick)})
	fav := url.Values{"favourite": {fmt.Sprint(all[0].ID)}}
	if status, _ := b.edit(other, "/compare/set/here", fav); status != 200 || len(b.load(other).References) != 1 || b.load(other).References[0].Name != "Liked" {
		t.Errorf("%d %+v", status, b.load(other).References)
	}
	if status, _ := b.edit(other, "/compare/set/here", fav); status != 422 {
		t.Errorf("brought twice: %d", status)
	}
	b.edit(other, "/undo", url.Values{})
	for _, do := range []string{"/delete", "/remove"} { // the song that brought it goes, for good
		if status, page := b.do("POST", "/songs/"+id+do, url.Values{}); status >= 400 {
			t.Fatalf("%s: %d %.200s", do, status, page)
		}
	}
	if status, _ := b.edit(other, "/redo", url.Values{}); status != 200 {
		t.Error("its audio is gone")
	}
	if page := b.get("/songs/" + other + "/compare/with"); !strings.Contains(page, `id="song-over"`) {
		t.Errorf("it cannot be compared with any more: %.300s", page)
	}
	for i := range 30 {
		s := all[0].Sound
		s.Loudness += meter.Figure(i) / 10
		if err := b.server.Store.AddFavourite(t.Context(), fmt.Sprintf("%064x", i), fmt.Sprintf("No %d", i), s); err != nil {
			t.Fatal(err)
		}
	}
	if page := b.get("/songs/" + other + "/compare/set"); !strings.Contains(page, "of 31") || strings.Contains(page, "NaN") {
		t.Errorf("%.300s", page)
	}
	if status, _ := b.edit(other, "/compare/set/out", fav); status != 200 {
		t.Errorf("%d", status)
	}
	if status, _ := b.edit(other, "/compare/set/out", fav); status != 422 {
		t.Errorf("taken out twice: %d", status)
	}
	if status, _ := b.edit(other, "/compare/set/sideways", fav); status != 404 {
		t.Errorf("%d", status)
	}
}

// What vanishes on the stand-ins, on the page; Body's small speakers are the same.
func TestStandIns(t *testing.T) {
	b, id := ready(t)
	page := b.get("/songs/" + id + "/compare/devices")
	for _, d := range device.All {
		if !strings.Contains(page, `id="response-`+d.ID+`"`) || !strings.Contains(page, `data-ear="`+d.ID+`"`) {
			t.Errorf("no %s", d.Name)
		}
		if speaker := b.get("/songs/" + id + "/body/speaker?on=" + d.ID); !strings.Contains(speaker, `id="on-`+d.ID+`" class="on"`) {
			t.Errorf("Body has no %s", d.Name)
		}
	}
	if strings.Contains(page, "NaN") || !strings.Contains(page, `id="devices-say"`) {
		t.Errorf("%.400s", page)
	}
	// the worst first: the pure bass, all of which is gone on the phone, before the kick
	if _, rows, _ := strings.Cut(page, "bass notes unheard"); strings.Index(rows, "808") > strings.Index(rows, "Kick") {
		t.Error("the bass, which is gone on the phone, does not come first")
	}
	if page := b.get("/songs/" + b.song() + "/compare/devices"); strings.Contains(page, "NaN") {
		t.Errorf("an empty song: %.400s", page)
	}
}

var token = regexp.MustCompile(`data-first="([^"]*/([a-z0-9]{20,})/)([0-9]+/)?1\.wav"`)

// begin starts a blind test between the song as it is and without its match.
func (b *bench) begin(id string, form url.Values) (string, string) {
	b.Helper()
	status, page := b.edit(id, "/compare/ears", form)
	m := token.FindStringSubmatch(page)
	if status != 200 || m == nil {
		b.Fatalf("%d %.600s", status, page)
	}
	return m[2], page
}

// A test that tries to cheat: by lengths, headers, loudness, bytes, addresses, the page, and the time that an answer takes;
// nothing of it tells which sound it is.
func TestBlindTellsNothing(t *testing.T) {
	outside.Slow(t)
	b, id := ready(t)
	b.edit(id, "/moves/add", url.Values{"at": {"master"}, "kind": {"filter"}})
	song := b.load(id)
	if len(song.Master.Moves) != 1 {
		t.Fatalf("%+v", song.Master)
	}
	m := song.Master.Moves[0]
	m.Params = &move.Filter{Shape: dsp.LowShelf, Hz: 200, Q: 0.7, DB: 6}
	if _, err := b.server.Store.Edit(t.Context(), id, song.Rev, session.SetMove{Move: m}); err != nil {
		t.Fatal(err)
	}
	rev := b.load(id).Rev
	now := fmt.Sprintf("%d|now", rev)
	without := fmt.Sprintf("%d|move:%s/%s", rev, session.At{}.String(), m.ID)
	tok, page := b.begin(id, url.Values{"a": {now}, "b": {without}, "solo": {"all"}, "kind": {"same"}, "trials": {"12"}})
	for _, word := range []string{"order", "truth", "without filter", m.ID} {
		_, panel, _ := strings.Cut(page, `id="blind"`)
		if strings.Contains(strings.ToLower(panel), word) {
			t.Errorf("the page says %q", word)
		}
	}
	lengths, seen := map[int]bool{}, map[string]bool{}
	for n := 1; n <= 12; n++ {
		var files [2]string
		e, err := b.server.Store.EarsOf(t.Context(), tok)
		if err != nil {
			t.Fatal(err)
		}
		test, err := shell.ReadBlind(e)
		if err != nil {
			t.Fatal(err)
		}
		for k := range 2 {
			made := b.server.Renderer.Cache.Made()
			files[k] = b.get(fmt.Sprintf("/songs/%s/compare/ears/%s/%d/%d.wav", id, tok, n, k+1))
			if now := b.server.Renderer.Cache.Made(); now != made && (n > 1 || k > 0) { // both are rendered before the first goes out
				t.Errorf("trial %d, %d: something is rendered for one alone, which takes its time", n, k+1)
			}
			lengths[len(files[k])] = true
			if seen[files[k]] {
				t.Error("the same bytes went out twice")
			}
			seen[files[k]] = true
		}
		x, y := sound(t, files[0]), sound(t, files[1])
		if d := float64(meter.IntegratedLoudness(x) - meter.IntegratedLoudness(y)); math.Abs(d) > 0.1 {
			t.Errorf("trial %d: %.2f LU apart", n, d)
		}
		// what is to be heard is there, and only that: the sounds differ where they should
		most := 0.0
		for i := range x.Ch[0] {
			most = math.Max(most, math.Abs(float64(x.Ch[0][i]-y.Ch[0][i])))
		}
		differ := test.Order[n-1][0] != test.Order[n-1][1]
		if differ != (most > 0.01) {
			t.Errorf("trial %d: the two differ by %g, drawn as different: %v", n, most, differ)
		}
		for _, path := range []string{fmt.Sprintf("%d/1.wav", n+1), fmt.Sprintf("%d/3.wav", n), "0/1.wav"} {
			if status, _ := b.do("GET", "/songs/"+id+"/compare/ears/"+tok+"/"+path, nil); status != 404 {
				t.Errorf("%s: %d", path, status)
			}
		}
		_, page = b.edit(id, "/compare/ears/answer", url.Values{"token": {tok}, "trial": {fmt.Sprint(n)}, "answer": {map[bool]string{true: "2", false: "1"}[differ]}})
		if n < 12 && (strings.Contains(page, "right") || !strings.Contains(page, fmt.Sprintf("Trial %d of 12", n+1))) {
			t.Errorf("after trial %d: %.400s", n, page)
		}
		if n == 3 { // pressed twice: what was said first stands
			if _, page := b.edit(id, "/compare/ears/answer", url.Values{"token": {tok}, "trial": {"3"}, "answer": {"1"}}); !strings.Contains(page, "Trial 4 of 12") {
				t.Errorf("%.300s", page)
			}
		}
	}
	if len(lengths) != 1 {
		t.Errorf("%d lengths went out", len(lengths))
	}
	if !strings.Contains(page, "12 of 12 right. Guessing does as well in under 0.1 % of tests: the difference is heard.") {
		t.Errorf("%.600s", page)
	}
	if log := b.get("/songs/" + id + "/log?view=takes"); !strings.Contains(log, `id="blind-tests"`) || !strings.Contains(log, "12 of 12 right") {
		t.Error("it is not in the Log")
	}
	if status, _ := b.do("GET", fmt.Sprintf("/songs/%s/compare/ears/%s/12/1.wav", id, tok), nil); status != 404 {
		t.Error("a test that is over still plays")
	}
}

// A preference, a test that is left, one begun over another, and input that is none.
func TestBlindTests(t *testing.T) {
	b, id := ready(t)
	same := url.Values{
		"a":      {fmt.Sprintf("%d|now", b.load(id).Rev)},
		"b":      {fmt.Sprintf("%d|brought", b.load(id).Rev)},
		"solo":   {"both"},
		"kind":   {"same"},
		"trials": {"5"},
	}
	if status, page := b.edit(id, "/compare/ears", same); status != 422 || !strings.Contains(page, "there is nothing to hear between them") {
		t.Errorf("a test between one sound and itself: %d %.300s", status, page)
	}
	b.edit(id, "/duck/fit", url.Values{})
	b.edit(id, "/takes", url.Values{"name": {"First"}})
	rev := b.load(id).Rev
	take, brought := fmt.Sprintf("%d|", rev), fmt.Sprintf("%d|brought", rev)
	tok, _ := b.begin(id, url.Values{"a": {take}, "b": {brought}, "solo": {"both"}, "kind": {"prefer"}, "trials": {"5"}})
	if page := b.get("/songs/" + id + "/compare/ears"); !strings.Contains(page, "Trial 1 of 5") ||
		!strings.Contains(page, "Which of the two is better?") { // after a reload it is still there
		t.Errorf("%.300s", page)
	}
	if _, page := b.edit(id, "/compare/ears/answer", url.Values{"token": {tok}, "trial": {"1"}, "leave": {"1"}}); !strings.Contains(
		page,
		"Left after 0 of 5 trials: no result.",
	) {
		t.Errorf("%.400s", page)
	}
	tok, _ = b.begin(id, url.Values{"a": {take}, "b": {brought}, "solo": {"both"}, "kind": {"prefer"}, "trials": {"6"}})
	page := ""
	for n := 1; n <= 6; n++ {
		_, page = b.edit(id, "/compare/ears/answer", url.Values{"token": {tok}, "trial": {fmt.Sprint(n)}, "answer": {fmt.Sprint(1 + n%2)}})
	}
	if !strings.Contains(page, "of 6") || strings.Contains(page, "Trial") {
		t.Errorf("%.400s", page)
	}
	for _, c := range []struct {
		change url.Values
		say    string
	}{{url.Values{"a": {"9|now"}}, "choose two sounds"}, {url.Values{"b": {take}}, "both are the same"}, {url.Values{"trials": {"many"}},
		"no number"}, {url.Values{"trials": {"3"}}, "5 to 100"}, {url.Values{"kind": {"guess"}}, "same or different"}, {url.Values{"solo": {"key"}},
		"choose what is heard"}} {
		form := url.Values{"a": {take}, "b": {brought}, "solo": {"both"}, "kind": {"same"}, "trials": {"10"}}
		for k, v := range c.change {
			form[k] = v
		}
		if status, page := b.edit(id, "/compare/ears", form); status != 422 || !strings.Contains(strings.ToLower(page), c.say) {
			t.Errorf("%v: %d, no %q", c.change, status, c.say)
		}
	}
	if status, _ := b.edit(id, "/compare/ears/answer", url.Values{"token": {"none"}, "trial": {"1"}, "answer": {"1"}}); status != 404 {
		t.Errorf("%d", status)
	}
	other := b.song()
	if status, _ := b.do("GET", "/songs/"+other+"/compare/ears/"+tok+"/1/1.wav", nil); status != 404 {
		t.Error("another song plays it")
	}
}

// Every drill plays what it asks about, is answered, says at once what was right, and gets harder; the score is of all songs.
func TestDrills(t *testing.T) {
	b, id := ready(t)
	truth := func(tok string) compare.Question {
		e, err := b.server.Store.EarsOf(t.Context(), tok)
		if err != nil {
			t.Fatal(err)
		}
		var q struct{ compare.Question }
		if err := json.Unmarshal([]byte(e.Body), &q); err != nil {
			t.Fatal(err)
		}
		return q.Question
	}
	ask := func(drill string) (string, compare.Question, [2]audio.Buffer) {
		status, page := b.edit(id, "/compare/drills", url.Values{"drill": {drill}})
		m := token.FindStringSubmatch(page)
		if status != 200 || m == nil {
			t.Fatalf("%s: %d %.400s", drill, status, page)
		}
		var x [2]audio.Buffer
		for k := range x {
			x[k] = sound(t, b.get(fmt.Sprintf("/songs/%s/compare/drill/%s/%d.wav", id, m[2], k+1)))
		}
		return m[2], truth(m[2]), x
	}
	answer := func(tok string, n int) string {
		_, page := b.edit(id, "/compare/drills/answer", url.Values{"token": {tok}, "answer": {fmt.Sprint(n)}})
		return page
	}
	loud := func(x audio.Buffer) float64 { return float64(meter.IntegratedLoudness(x)) }
	for range 3 {
		tok, q, x := ask("louder")
		want := 3.0
		if q.Level == 1 {
			want = 2
		}
		if d := loud(x[q.Truth]) - loud(x[1-q.Truth]); math.Abs(d-want) > 0.05 {
			t.Errorf("louder by %.2f LU, %.0f asked", d, want)
		}
		if page := answer(tok, q.Truth); !strings.Contains(page, "Right:") {
			t.Errorf("%.300s", page)
		}
		if page := answer(tok, 1-q.Truth); !strings.Contains(page, "Right:") {
			t.Error("an answer that was given is changed")
		}
	}
	if page := b.get("/songs/" + id + "/compare/drills"); !strings.Contains(page, "at 2 dB, 3 of 3 right") || !strings.Contains(page, `id="score-louder"`) {
		t.Errorf("%.600s", page)
	}
	tok, q, x := ask("band")
	if d := loud(x[0]) - loud(x[1]); math.Abs(d) > 0.1 {
		t.Errorf("the bands give themselves away by %.2f LU", d)
	}
	level := func(x audio.Buffer, hz float64) float64 {
		s, err := dsp.Bandpass(hz*0.8, hz*1.25, float64(x.Rate))
		if err != nil {
			t.Fatal(err)
		}
		y := make([]float32, x.Frames())
		dsp.NewFilter(s).Process(y, x.Ch[0])
		return dsp.PowerDB(meter.Energy(y) + 1e-12)
	}
	best, most := -1, -99.0
	for i, hz := range compare.DrillBands {
		if d := level(x[1], hz) - level(x[0], hz); d > most {
			best, most = i, d
		}
	}
	if best != q.Truth {
		t.Errorf("band %d was raised, it sounds as %d", q.Truth, best)
	}
	if page := answer(tok, (q.Truth+1)%5); !strings.Contains(page, "Not so: it was "+compare.Drills[0].Options[q.Truth]) {
		t.Errorf("%.300s", page)
	}
	if status, page := b.edit(id, "/compare/drills", url.Values{"drill": {"duck"}}); status != 422 || !strings.Contains(page, "make one on Duck first") {
		t.Errorf("%d %.300s", status, page)
	}
	if status, _ := b.edit(id, "/duck/fit", url.Values{}); status != 200 {
		t.Fatal("no duck")
	}
	// more duck: under the bass's hits less is left beside what is left between them
	for range 4 {
		_, q, x := ask("duck")
		left := func(x audio.Buffer) float64 {
			in, out := 0.0, 0.0
			for h := 0.25; h < 7; h += 0.5 { // the hits of the beat
				at := int(h * rate)
				in += meter.Energy(x.Ch[0][at+rate/25 : at+rate/8])
				out += meter.Energy(x.Ch[0][at+rate*3/8 : at+rate*7/16])
			}
			return dsp.PowerDB(in / out)
		}
		if more := left(x[1]) < left(x[0]); more != (q.Truth == 0) {
			t.Errorf("%s duck: %.2f dB left at the hits, %.2f before", compare.Drills[1].Options[q.Truth], left(x[1]), left(x[0]))
		}
	}
	// cents: where the bass's tone of 46.25 Hz lies, by its own spectrum
	for range 4 {
		_, q, x := ask("cents")
		tone := func(x audio.Buffer) float64 {
			best, most := 0.0, 0.0
			for hz := 44.0; hz < 49; hz += 0.05 {
				re, im := 0.0, 0.0
				for i := 0; i < x.Frames(); i += 16 { // nothing of the beat is high
					v := x.Ch[0][i]
					w := 1 - math.Cos(2*math.Pi*float64(i)/float64(x.Frames()))
					s, c := math.Sincos(2 * math.Pi * hz * float64(i) / rate)
					re, im = re+w*c*float64(v), im+w*s*float64(v)
				}
				if p := re*re + im*im; p > most {
					best, most = hz, p
				}
			}
			return best
		}
		if cents, want := 1200*math.Log2(tone(x[1])/tone(x[0])), 50*float64(q.Truth-1); math.Abs(cents-want) > 6 {
			t.Errorf("the bass moves by %.1f cents, %.0f asked", cents, want)
		}
	}
	for _, form := range []url.Values{{"drill": {"names"}}, {}} {
		if status, _ := b.edit(id, "/compare/drills", form); status != 400 {
			t.Errorf("%v: %d", form, status)
		}
	}
	if status, _ := b.edit(id, "/compare/drills/answer", url.Values{"token": {tok}, "answer": {"9"}}); status != 400 {
		t.Errorf("%d", status)
	}
	if page := b.get("/songs/" + b.song() + "/compare/drills"); !strings.Contains(page, "3 of 3 right") {
		t.Error("the score is of one song alone")
	}
	all, err := b.server.Store.EarsOfKind(t.Context(), "drill-louder")
	if err != nil || len(all) != 3 || all[0].State != store.EarsDone {
		t.Errorf("%d %v", len(all), err)
	}
}
