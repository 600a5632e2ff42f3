package web

import (
	"context"
	"math"
	"net/url"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

func (b *bench) apply(id, action string, more ...string) (int, string) {
	b.Helper()
	form := url.Values{"action": {action}}
	for i := 0; i+1 < len(more); i += 2 {
		form.Set(more[i], more[i+1])
	}
	return b.edit(id, "/pocket/apply", form)
}

// What the Pocket finds is applied by a click, shows in the chain, and can be taken out again.
func TestPocketApplies(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	for i := range bass.Ch[0] { // 14 cents sharp of F1
		bass.Ch[0][i] = float32(0.22 * math.Sin(2*math.Pi*44.0*float64(i)/rate))
	}
	layer := audio.New(rate, 1, kick.Frames())
	for i, v := range kick.Ch[0] {
		layer.Ch[0][i] = -0.5 * v
	}
	if jobs := b.send(id, file{"Kick.wav", asWAV(kick)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	if jobs := b.send(id, file{"Kick top.wav", asWAV(layer)}, file{"808.wav", asWAV(bass)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	page := b.get("/songs/" + id + "/pocket")
	for _, want := range []string{"The 808 is 14 cents sharp", "Kick top is upside down against the other kick layer", `id="mirror"`, `id="nudge"`} {
		if !strings.Contains(page, want) {
			t.Errorf("the Pocket does not say %q", want)
		}
	}
	song := b.load(id)
	var top, low string
	for _, st := range song.Stems {
		if st.Name == "Kick top" {
			top = st.ID
		} else if st.Role == session.Bass {
			low = st.ID
		}
	}
	if status, _ := b.mend(id, "pocket", "layer-upside-down."+top); status != 200 || !b.load(id).Stem(top).Flipped() {
		t.Errorf("turning it over: %d", status)
	}
	if page = b.get("/songs/" + id + "/pocket"); strings.Contains(page, "finding-layer-upside-down") || !strings.Contains(page, "polarity turned over") {
		t.Error("once turned over it is still found, or not listed")
	}
	if status, _ := b.apply(id, "detune"); status != 200 || math.Abs(b.load(id).Stem(low).Tuned()+14) > 0.5 {
		t.Errorf("the detune: %d, %g cents", status, b.load(id).Stem(low).Tuned())
	}
	if page = b.get("/songs/" + id + "/pocket"); strings.Contains(page, "finding-bass-off-tune") {
		t.Error("once detuned it is still found")
	}
	b.apply(id, "detune", "cents", "-20")
	if got := b.load(id).Stem(low).Tuned(); got != -20 {
		t.Errorf("-20 typed gives %g", got)
	}
	b.apply(id, "nudge", "ms", "2.5")
	if got := b.load(id).Stem(low).Nudged(); got != 2.5 {
		t.Errorf("2.5 ms typed gives %g", got)
	}
	if status, _ := b.apply(id, "kick:3"); status != 200 || b.load(id).TriggerStem().Tuned() != 300 {
		t.Errorf("the kick is tuned by %g cents", b.load(id).TriggerStem().Tuned())
	}
	if page = b.get("/songs/" + id + "/pocket/options"); strings.Count(page, "data-semitones") != 22 {
		t.Errorf("%d options in picture and table", strings.Count(page, "data-semitones"))
	}
	if page = b.get("/songs/" + id + "/pocket/places"); !strings.Contains(page, `id="place-bass-dip"`) || !strings.Contains(page, `id="place-kick-pass"`) {
		t.Errorf("what would place them: %.300s", page)
	}
	if status, _ := b.apply(id, "place:bass-dip"); status != 200 || b.load(id).Stem(low).Move("bass-dip") == nil {
		t.Error("the dip is not there")
	}
	b.edit(id, "/moves/switch", url.Values{"at": {low}, "move": {"bass-dip"}})
	if !b.load(id).Stem(low).Move("bass-dip").Off {
		t.Error("the dip is not off")
	}
	b.edit(id, "/moves/drop", url.Values{"at": {low}, "move": {"bass-dip"}})
	if b.load(id).Stem(low).Move("bass-dip") != nil {
		t.Error("the dip is still there")
	}
	for action, more := range map[string][2]string{"nudge": {"ms", "soon"}, "detune": {"cents", "5000"}, "kick:9": {}, "place:else": {}, "else": {}} {
		rev := b.load(id).Rev
		status, body := b.apply(id, action, more[0], more[1])
		if status != 422 || !strings.Contains(body, "Nothing was changed") || b.load(id).Rev != rev {
			t.Errorf("%s: %d", action, status)
		}
	}
}

// Who leads is said on the Pocket; the figures and the advice follow.
func TestLeader(t *testing.T) {
	b, id := ready(t)
	if status, _ := b.edit(id, "/pocket/leader", url.Values{"leader": {"bass"}}); status != 200 || b.load(id).Leader != session.BassLeads {
		t.Fatalf("%d", status)
	}
	page := b.get("/songs/" + id + "/pocket")
	if !strings.Contains(page, "in its own octave, from 60 ms after") || !strings.Contains(page, `id="f-lead"`) || strings.Contains(page, "hits under 8 dB</h3>") {
		t.Errorf("with the bass leading: %.600s", page[strings.Index(page, "pocket-sentence"):])
	}
	if status, _ := b.edit(id, "/pocket/leader", url.Values{"leader": {"drums"}}); status != 422 {
		t.Errorf("drums lead: %d", status)
	}
}

// A sample that holds kick and bass is split: head and tail are stems of their own, together the sound as
// it was; the tail can be tuned and ducked alone.
func TestSplit(t *testing.T) {
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	both := audio.New(rate, 1, kick.Frames())
	for i := range both.Ch[0] {
		both.Ch[0][i] = 0.8*kick.Ch[0][i] + 0.5*bass.Ch[0][i]
	}
	if jobs := b.send(id, file{"Kick 808.wav", asWAV(both)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	song := b.load(id)
	stem := song.Stems[0].ID
	if status, _ := b.edit(id, "/stems/"+stem+"/role", url.Values{"role": {"kick"}}); status != 200 {
		t.Fatal("no kick")
	}
	w := mix.Window{To: 8 * rate}
	render := func() audio.Buffer {
		t.Helper()
		s := b.load(id)
		x, _, err := b.server.Renderer.Solo(context.Background(), &s.Song, mix.SoloAll, w)
		if err != nil {
			t.Fatal(err)
		}
		return x
	}
	was := render()
	form := url.Values{"action": {"split"}, "stem": {stem}, "at": {"80"}, "fade": {"20"}}
	if status, body := b.edit(id, "/pocket/apply", form); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song = b.load(id)
	if len(song.Stems) != 2 || song.Stems[1].Role != session.Bass || song.Stems[1].Name != "Kick 808 tail" {
		t.Fatalf("%+v", song.Stems)
	}
	now, worst := render(), 0.0
	for i, v := range was.Ch[0] {
		worst = max(worst, math.Abs(float64(v-now.Ch[0][i])))
	}
	if db := 20 * math.Log10(worst+1e-12); db > -90 {
		t.Errorf("head and tail miss the sample by %.1f dB", db)
	}
	if page := b.get("/songs/" + id + "/pocket"); !strings.Contains(page, "tail kept, crossfade of 20 ms around 80 ms") {
		t.Error("the split is not in the chain's list")
	}
	if status, body := b.edit(id, "/pocket/apply", form); status != 422 || !strings.Contains(body, "split already") {
		t.Errorf("split twice: %d", status)
	}
	form.Set("at", "soon")
	if status, _ := b.edit(id, "/pocket/apply", form); status != 422 {
		t.Errorf("at %q: %d", "soon", status)
	}
}
