package web

import (
	"math"
	"net/url"
	"strconv"
	"strings"
	"testing"

	"mellowthump/core/session"
)

// longKicks is a song whose kick rings on under a bass of its own pitch.
func longKicks(t *testing.T) (*bench, string) {
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	for i := range kick.Ch[0] {
		kick.Ch[0][i] = 0
	}
	for h := 0.25; h < 7.7; h += 0.5 {
		from := int(h * rate)
		for i := range rate / 2 {
			if s := float64(i) / rate; from+i < kick.Frames() {
				kick.Ch[0][from+i] += float32(0.7 * math.Sin(2*math.Pi*(48*s+1.2*(1-math.Exp(-s/0.01)))) * math.Exp(-s/0.25))
			}
		}
	}
	for i := range bass.Ch[0] {
		bass.Ch[0][i] *= 1.6
	}
	if jobs := b.send(id, file{"Kick.wav", asWAV(kick)}, file{"808.wav", asWAV(bass)}); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	return b, id
}

// Where the bass leads the duck is the kick's: the fit, the readouts, what is taken away; a change of the
// leader takes it out, an undo gives it back.
func TestDuckWhereTheBassLeads(t *testing.T) {
	b, id := longKicks(t)
	b.edit(id, "/duck/fit", url.Values{})
	if song := b.load(id); song.ByRole("bass")[0].Moves == nil {
		t.Fatal("the bass has no duck to begin with")
	}
	if status, body := b.edit(id, "/pocket/leader", url.Values{"leader": {"bass"}}); status != 200 {
		t.Fatalf("%d %.200s", status, body)
	}
	song := b.load(id)
	if d, _ := song.Duck(); d != nil || song.ByRole("bass")[0].Moves != nil {
		t.Error("the duck of the bass stays where it leads")
	}
	page := b.get("/songs/" + id + "/duck")
	for _, want := range []string{"The bass leads, so the kick makes room", "gain of the kick", "Bass over kick"} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q", want)
		}
	}
	if strings.Contains(page, `id="school-band"`) || strings.Contains(page, "The three schools") {
		t.Error("the keyed schools are offered")
	}
	if status, body := b.edit(id, "/duck/fit", url.Values{}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song = b.load(id)
	d, _ := song.Duck()
	if d == nil || song.TriggerStem().Moves == nil || song.ByRole("bass")[0].Moves != nil || d.Points[0].MS < 0 {
		t.Fatalf("the duck is %+v", d)
	}
	page = b.get("/songs/" + id + "/duck")
	if !strings.Contains(page, "Kick loss") || !strings.Contains(page, "Kick, WAV") || strings.Contains(page, "handover-grip") {
		t.Error("the page does not tell of the kick")
	}
	cost := b.get("/songs/" + id + "/duck/cost")
	if !strings.Contains(cost, "dB of kick lost") || !strings.Contains(cost, `id="whole-under"`) || strings.Contains(cost, `id="per-note"`) {
		t.Errorf("what it costs: %.400s", cost)
	}
	kick := b.sound("/songs/" + id + "/duck/ducked.wav")
	plain := b.sound("/songs/" + id + "/deck/before.wav?solo=kick&from=0&to=44100&rev=" + strconv.FormatInt(song.Rev, 10))
	at := int(0.25 * rate)
	if kick.Ch[0][at+100] != plain.Ch[0][at+100] || math.Abs(float64(kick.Ch[0][at+int(0.2*rate)])) > 0.9*math.Abs(float64(plain.Ch[0][at+int(0.2*rate)])) {
		t.Error("the kick that is taken away keeps its tail, or loses its attack")
	}
	if _, sheet := b.do("GET", "/songs/"+id+"/duck/settings.txt", nil); !strings.Contains(sheet, "kick loss") || strings.Contains(sheet, "keyed compressor") {
		t.Errorf("the sheet:\n%s", sheet)
	}
	for path, form := range map[string]url.Values{"/duck/handover": {"ms": {"80"}}, "/duck/per-note": {}} {
		if status, _ := b.edit(id, path, form); status != 422 {
			t.Errorf("%s answers %d", path, status)
		}
	}
	if status, _ := b.edit(id, "/pocket/leader", url.Values{"leader": {"kick"}}); status != 200 || b.load(id).TriggerStem().Moves != nil {
		t.Error("the kick leads and is still ducked")
	}
	b.edit(id, "/undo", url.Values{})
	if song = b.load(id); song.Leader != session.BassLeads || song.TriggerStem().Moves == nil {
		t.Error("the undo does not give the kick's duck back")
	}
	// Intake says who leads, too
	set := url.Values{"name": {song.Name}, "bpm": {"120"}, "leader": {"kick"}}
	if status, body := b.edit(id, "/settings", set); status != 200 || b.load(id).TriggerStem().Moves != nil {
		t.Errorf("by Intake the kick leads and is still ducked: %d %.200s", status, body)
	}
	b.edit(id, "/undo", url.Values{})
	if status, _ := b.edit(id, "/duck/drop", url.Values{}); status != 200 || b.load(id).TriggerStem().Moves != nil {
		t.Error("the kick's duck cannot be taken away")
	}
	if status, _ := b.edit(id, "/duck/add", url.Values{}); status != 200 {
		t.Error("no duck can be drawn")
	}
	song = b.load(id)
	if d, _ := song.Duck(); d == nil || d.Points[0].MS <= 0 {
		t.Errorf("what is drawn by hand lowers the attack: %+v", d)
	}
}
