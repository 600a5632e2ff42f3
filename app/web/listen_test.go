package web

import (
	"encoding/json"
	"fmt"
	"html"
	"math"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"mellowthump/core/audio"
)

// deck asks for the deck as it is listened to from a stage's page.
func (b *bench) deck(id, stage string, choices url.Values) string {
	b.Helper()
	status, body := b.do("GET", "/songs/"+id+"/deck/data?"+choices.Encode(), nil, "HX-Request", "true", "HX-Current-URL", b.url+"/songs/"+id+"/"+stage)
	if status != 200 {
		b.Fatalf("%v on %s: %d %.300s", choices, stage, status, body)
	}
	return body
}

func differ(a, b audio.Buffer) bool {
	for c := range a.Ch {
		for i, v := range a.Ch[c] {
			if v != b.Ch[c][i] {
				return true
			}
		}
	}
	return len(a.Ch) != len(b.Ch)
}

// Whatever is chosen to be listened to changes no song, no figure, no undo and no log; the next page listens likewise.
func TestListeningIsNoEdit(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	was, page, log := b.load(id), b.get("/songs/"+id+"/pocket"), b.get("/songs/"+id+"/log?view=changes")
	deck := b.deck(id, "pocket", url.Values{"loop": {"1-3.5"}, "solo": {"bass"}, "against": {"stage"}})
	if !strings.Contains(deck, `data-from="1" data-to="3.5"`) || !strings.Contains(deck, `data-solo="bass"`) || !strings.Contains(deck, "judge-it") {
		t.Errorf("%.900s", deck)
	}
	now := b.load(id)
	if now.Rev != was.Rev || now.Undo != was.Undo || now.Loop != nil {
		t.Errorf("revision %d after %d, undo %q, loop %v", now.Rev, was.Rev, now.Undo, now.Loop)
	}
	after := b.get("/songs/" + id + "/pocket")
	if !strings.Contains(after, `data-from="1" data-to="3.5"`) || !strings.Contains(after, `value="stage" selected`) {
		t.Error("the next page forgot what is listened to")
	}
	figures := regexp.MustCompile(`(?s)<table class="figures" id="pocket-figures">.*?</table>`)
	if f := figures.FindString(page); f == "" || f != figures.FindString(after) {
		t.Error("the figures are not those of the judged stretch")
	}
	history := regexp.MustCompile(`(?s)<main.*</main>`)
	if h := history.FindString(log); !strings.Contains(h, "Fit a duck") || history.FindString(b.get("/songs/"+id+"/log?view=changes")) != h {
		t.Error("the log changed")
	}
	// judged, it is the judged stretch, and the deck follows it again
	if status, _ := b.edit(id, "/loop", url.Values{"from": {"1"}, "to": {"3.5"}}); status != 200 || b.load(id).Loop == nil {
		t.Errorf("judging: %d", status)
	}
	if deck := b.deck(id, "pocket", nil); strings.Contains(deck, "judge-it") || !strings.Contains(deck, "loop-find") {
		t.Errorf("%.900s", deck)
	}
	for typed, want := range map[string]string{"nowhere": "loop-wrong", "2.9": "loop-wrong"} {
		status, body := b.do("GET", "/songs/"+id+"/deck/data?first="+typed+"&last=1", nil)
		if status != 422 || !strings.Contains(body, want) || !strings.Contains(body, `value="`+typed+`"`) {
			t.Errorf("from %s: %d %.300s", typed, status, body)
		}
	}
	if deck := b.deck(id, "pocket", url.Values{"loop": {"0-200"}, "solo": {"bus:none"}}); !strings.Contains(deck, `data-solo="both"`) {
		t.Errorf("a bus that is not there: %.500s", deck)
	}
}

// What is proposed is heard as After before it is made, to the bit; Before is the song as it is now.
func TestTriesAreWhatTheyMake(t *testing.T) {
	b, id := ready(t)
	for _, try := range []struct {
		stage, what string
		do          func() (int, string)
	}{
		{"pocket", "pocket/kick:2", func() (int, string) { return b.apply(id, "kick:2") }},
		{"levels", "finding/levels/", nil},
		{"levels", "levels/plan?anchor=kick", func() (int, string) { return b.edit(id, "/levels/plan?anchor=kick", url.Values{}) }},
		{"duck", "duck/compressor", func() (int, string) { return b.edit(id, "/duck/fit", url.Values{"school": {"compressor"}}) }},
	} {
		what, do := try.what, try.do
		if do == nil { // the first finding that is mended by a button
			page := b.get("/songs/" + id + "/" + try.stage)
			m := regexp.MustCompile(`data-try="(` + what + `[^"]+)"`).FindStringSubmatch(page)
			if m == nil {
				t.Errorf("%s proposes nothing to hear", try.stage)
				continue
			}
			what = html.UnescapeString(m[1])
			do = func() (int, string) { return b.mend(id, try.stage, strings.TrimPrefix(what, try.what)) }
		}
		rev := b.load(id).Rev
		now := b.sound(address(b.deck(id, try.stage, url.Values{"solo": {"all"}}), "after"))
		deck := b.deck(id, try.stage, url.Values{"solo": {"all"}, "try": {what}})
		if !strings.Contains(deck, "After tries: ") || !strings.Contains(deck, "as it is now") || b.load(id).Rev != rev {
			t.Errorf("%s: %.700s", what, deck)
		}
		tried, before := b.sound(address(deck, "after")), b.sound(address(deck, "before"))
		if differ(before, now) {
			t.Errorf("%s: Before is not the song as it is", what)
		}
		if !differ(tried, now) {
			t.Errorf("%s: After is the song as it is", what)
		}
		if status, body := do(); status != 200 || b.load(id).Rev == rev {
			t.Fatalf("%s is not made: %d %.300s", what, status, body)
		}
		if made := b.sound(address(b.deck(id, try.stage, url.Values{"solo": {"all"}}), "after")); differ(made, tried) {
			t.Errorf("%s: what is made is not what was heard", what)
		}
	}
}

// Before is what its name says: as it was brought, before the stage, without one move.
func TestBefore(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	bass := bassID(b, id)
	b.level(id, "/gain", url.Values{"of": {bass}, "step": {"clip"}, "db": {"-3"}})
	b.edit(id, "/moves/add", url.Values{"at": {bass}, "kind": {"softclip"}})
	b.edit(id, "/moves/set", url.Values{"at": {bass}, "move": {"softclip1"}, "threshold_db": {"-30"}, "knee_db": {"3"}})
	song := b.load(id).Song
	if song.Stem(bass).Clip != -3 || song.Stem(bass).Move("softclip1") == nil {
		t.Fatalf("%+v", song.Stem(bass))
	}
	before := func(stage string, choices url.Values) (string, audio.Buffer) {
		choices.Set("solo", "bass")
		deck := b.deck(id, stage, choices)
		return deck, b.sound(address(deck, "before"))
	}
	_, brought := before("duck", url.Values{"against": {"brought"}})
	_, unducked := before("duck", url.Values{"against": {"stage"}})
	_, ungained := before("levels", url.Values{"against": {"stage"}})
	deck, unclipped := before("duck", url.Values{"against": {"move"}, "without": {bass + "/softclip1"}})
	if !strings.Contains(deck, "without soft clip, ") {
		t.Errorf("%.900s", deck)
	}
	sounds := map[string]audio.Buffer{"brought": brought, "unducked": unducked, "ungained": ungained, "unclipped": unclipped}
	for a, x := range sounds {
		for c, y := range sounds {
			if a != c && !differ(x, y) {
				t.Errorf("%s is %s", a, c)
			}
		}
	}
	_, stem := beat()
	for i := range 20000 {
		if math.Abs(float64(brought.Ch[0][i]-stem.Ch[0][i])) > 2e-7 {
			t.Fatalf("frame %d: as it was brought it plays %g, the file holds %g", i, brought.Ch[0][i], stem.Ch[0][i])
		}
	}
	if status, _ := b.do("GET", strings.Replace(html.UnescapeString(regexp.MustCompile(`data-before="([^"]+)"`).FindStringSubmatch(deck)[1]), "softclip1",
		"none", 1), nil); status != 400 {
		t.Errorf("without a move that is not there: %d", status)
	}
}

// While a curve is drawn, its gain comes as fast as the hand asks for it; with the parts it is what is rendered then.
func TestFollow(t *testing.T) {
	b, id := ready(t)
	b.edit(id, "/duck/fit", url.Values{})
	points := url.Values{}
	for i, p := range [][2]float64{{-4, 0}, {2, -16}, {120, -12}, {260, 0}} {
		points.Set(fmt.Sprintf("at-%d", i), fmt.Sprint(p[0]))
		points.Set(fmt.Sprintf("db-%d", i), fmt.Sprint(p[1]))
	}
	deck := b.deck(id, "duck", url.Values{"solo": {"both"}})
	names := strings.Split(regexp.MustCompile(`data-parts="([^"]+)"`).FindStringSubmatch(deck)[1], " ")
	_, query, _ := strings.Cut(address(deck, "after"), "?")
	status, body := b.do("POST", "/songs/"+id+"/duck/follow", points, "HX-Current-URL", b.url+"/songs/"+id+"/duck")
	gains := map[string][]float64{}
	if err := json.Unmarshal([]byte(body), &gains); status != 200 || err != nil {
		t.Fatalf("%d %v %.300s", status, err, body)
	}
	var sum []float64
	for _, name := range names {
		x := b.sound("/songs/" + id + "/deck/part/" + name + ".wav?" + query)
		if sum == nil {
			sum = make([]float64, x.Frames())
		}
		for i, v := range x.Mono() {
			g := 1.0
			if list := gains[name]; list != nil {
				g = list[min(i*1000/x.Rate, len(list)-1)]
			}
			sum[i] += g * float64(v)
		}
	}
	if status, body := b.edit(id, "/duck/points", points); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	want := b.sound(address(b.deck(id, "duck", url.Values{"solo": {"both"}}), "after")).Mono()
	var off, all float64
	for i, v := range want[:len(want)-500] {
		off += (sum[i] - float64(v)) * (sum[i] - float64(v))
		all += float64(v) * float64(v)
	}
	if db := 10 * math.Log10(off/all); !(db < -35) { // steps of a millisecond
		t.Errorf("what follows the hand misses the render by %.1f dB", db)
	}
	points.Set("at-1", "-9") // before its neighbour
	if status, _ := b.do("POST", "/songs/"+id+"/duck/follow", points); status != 204 {
		t.Errorf("a point out of order: %d", status)
	}
	if status, body := b.do("POST", "/songs/"+id+"/duck/follow", url.Values{"ms": {"150"}}); status != 200 || !strings.Contains(body, "0.") {
		t.Errorf("the handover: %d %.200s", status, body)
	}
}
