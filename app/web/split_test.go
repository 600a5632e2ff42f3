package web

import (
	"net/url"
	"strings"
	"testing"
	"time"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
	"mellowthump/internal/sampled"
)

// settled waits until no job of a song is at work.
func (b *bench) settled(id string) []store.Job {
	b.Helper()
	for deadline := time.Now().Add(3 * time.Minute); time.Now().Before(deadline); <-time.After(5 * time.Millisecond) {
		jobs, err := b.server.Store.Jobs(b.Context(), id)
		if err != nil {
			b.Fatal(err)
		}
		active := false
		for _, j := range jobs {
			active = active || j.Active()
		}
		if !active {
			return jobs
		}
	}
	b.Fatal("still at work")
	return nil
}

// A stem that was bounced as one is taken apart as a job: three parts in its place, judged as estimates, lowered by what is offered,
// shaped by hand, printed, put together again, undone. What cannot be taken apart is refused in a sentence, and a silent one fails in one.
func TestTakeApart(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	id := b.song()
	kick, bass := beat()
	both := audio.New(rate, 2, kick.Frames())
	for c := range both.Ch {
		for i := range both.Ch[c] {
			both.Ch[c][i] = kick.Ch[0][i] + 2*bass.Ch[0][i]
		}
	}
	b.send(id, file{"Break.wav", asWAV(both)}, file{"Quiet.wav", asWAV(audio.New(rate, 1, 3*rate))})
	stems := b.load(id).Stems
	whole, quiet := stems[0].ID, stems[1].ID
	if stems[0].Name != "Break" {
		whole, quiet = quiet, whole
	}
	if page := b.get("/songs/" + id + "/body/apart"); !strings.Contains(page, `id="split-form"`) {
		t.Errorf("%.300s", page)
	}
	for _, c := range []struct{ path, say string }{{"split", "Choose the stem"}, {"together", "not apart"}, {"part", "no longer there"}, {"lower",
		"is not apart"}} {
		if status, body := b.edit(id, "/body/"+c.path, url.Values{"stem": {"none"}}); status != 422 || !strings.Contains(body, c.say) {
			t.Errorf("%s: %d %.300s", c.path, status, body)
		}
	}
	if status, _ := b.edit(id, "/body/split/99/cancel", url.Values{}); status != 404 {
		t.Errorf("a job that is none: %d", status)
	}
	if status, body := b.edit(id, "/body/split", url.Values{"stem": {quiet}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if jobs := b.settled(id); len(jobs) != 1 || !strings.Contains(jobs[0].Message, "silent from start to end") ||
		!strings.Contains(b.get("/songs/"+id+"/body/apart"), "silent from start to end") {
		t.Errorf("%+v", jobs)
	}
	if status, body := b.edit(id, "/body/split", url.Values{"stem": {whole}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if jobs := b.settled(id); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	song := b.load(id)
	parts := song.Parts(whole)
	if len(parts) != 3 || !song.Stem(whole).Mute || parts[0].Role != session.Kick || parts[1].Role != session.Bass || parts[2].Role != session.Other ||
		parts[0].Name != "Break, struck" {
		t.Fatalf("%+v", parts)
	}
	if status, body := b.edit(id, "/body/split", url.Values{"stem": {whole}}); status != 422 || !strings.Contains(body, "is apart already") {
		t.Errorf("%d %.300s", status, body)
	}
	if status, body := b.edit(id, "/body/split", url.Values{"stem": {parts[0].ID}}); status != 422 || !strings.Contains(body, "is a part itself") {
		t.Errorf("%d %.300s", status, body)
	}
	page := b.get("/songs/" + id + "/body/apart")
	for _, want := range []string{"hits stand", "Estimates: no split is perfect", "between the parts:", `id="lower-in"`, `id="together-` + whole, "wav32"} {
		if !strings.Contains(page, want) {
			t.Errorf("the parts lack %q", want)
		}
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("body/lower:"+whole)); !strings.Contains(deck, "After tries:") {
		t.Errorf("%.300s", deck)
	}
	if found := b.get("/songs/" + id + "/body/steady?part=kick"); !strings.Contains(found, `id="finding-buried.`+whole) {
		t.Errorf("the finding is not told: %s", found[:200])
	}
	if status, body := b.edit(id, "/body/lower", url.Values{"stem": {whole}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if p := b.load(id).Parts(whole)[1].PartSound(); p.Shelf >= 0 {
		t.Errorf("%+v", p)
	}
	if status, body := b.edit(id, "/body/part", url.Values{"stem": {parts[0].ID}, "fader": {"-1.5"}, "bell": {"2"}, "bell_hz": {"300"}, "width": {"50"},
		"sustain": {"-6"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if p := b.load(id).Stem(parts[0].ID).PartSound(); p != (session.PartSound{Fader: -1.5, ShelfHz: 120, Bell: 2, BellHz: 300, Width: -0.5, Sustain: -6}) {
		t.Errorf("%+v", p)
	}
	for field, say := range map[string]string{"width": "out of bounds", "bell_hz": "out of bounds", "fader": "The level"} {
		text := "9e9"
		if field == "fader" {
			text = "loud"
		}
		if status, body := b.edit(id, "/body/part", url.Values{"stem": {parts[0].ID}, field: {text}}); status != 422 || !strings.Contains(body, say) {
			t.Errorf("%s: %d %.300s", field, status, body)
		}
	}
	if printed := b.get("/songs/" + id + "/duck/ducked.wav?stem=" + parts[2].ID + "&as=wav32"); !strings.HasPrefix(printed, "RIFF") {
		t.Error("the rest is not printed")
	}
	if sheet := b.get("/songs/" + id + "/body/settings.txt"); !strings.Contains(sheet, "Break, sustained") {
		t.Errorf("%s", sheet)
	}
	if status, body := b.edit(id, "/body/together", url.Values{"stem": {whole}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if s := b.load(id); len(s.Stems) != 2 || s.Stem(whole).Mute {
		t.Errorf("%d stems", len(s.Stems))
	}
	b.edit(id, "/undo", url.Values{})
	if s := b.load(id); len(s.Parts(whole)) != 3 {
		t.Error("undo brings no parts back")
	}
}

// Drums in one file, of a recorded kit, are asked about and taken apart into their kick and the rest: the kick leads then, and is judged
// by Pocket; put together, all is as before.
func TestTakeDrumsApart(t *testing.T) {
	outside.Slow(t)
	b := newBench(t)
	id := b.song()
	var notes []sampled.Note
	for n := range 64 {
		at := 0.1 + 0.125*float64(n)
		hit := func(key, velocity int) {
			notes = append(notes, sampled.Note{At: at, End: at + 0.1, Key: key, Velocity: velocity, Channel: sampled.Drums})
		}
		hit(42, 70)
		if n%8 == 0 || n%16 == 10 {
			hit(36, 110)
		}
		if n%8 == 4 {
			hit(38, 100)
		}
	}
	b.send(id, file{"Break.wav", asWAV(sampled.Play(t, map[int]int{sampled.Drums: 25}, notes, 8.5))})
	st := b.load(id).Stems[0]
	if st.Role != session.Drums {
		t.Fatalf("it is taken for %s", st.Role)
	}
	if page := b.get("/songs/" + id + "/intake"); !strings.Contains(page, "the kick is in it, with 12 hits, and no stem is a kick") ||
		!strings.Contains(page, `id="kick-in"`) {
		t.Errorf("it is not told: %.2000s", page)
	}
	if status, body := b.edit(id, "/body/split", url.Values{"stem": {st.ID}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if jobs := b.settled(id); len(jobs) != 0 {
		t.Fatalf("%+v", jobs)
	}
	song := b.load(id)
	parts := song.Parts(st.ID)
	if len(parts) != 2 || parts[0].Role != session.Kick || parts[0].Name != "Break, kick" || parts[1].Role != session.Drums || !song.Stem(st.ID).Mute ||
		song.TriggerStem() == nil || song.TriggerStem().ID != parts[0].ID || !parts[0].Said {
		t.Fatalf("%+v", parts)
	}
	for _, page := range []string{"/body/apart", "/body", "/body/steady?part=kick", "/intake", "/log"} {
		if body := b.get("/songs/" + id + page); page == "/body/apart" && !strings.Contains(body, "Its kick is a stem of its own") {
			t.Errorf("%s: %.300s", page, body)
		} else if strings.Contains(body, "no stem is a kick") {
			t.Errorf("%s still says that no stem is a kick", page)
		}
	}
	if status, body := b.edit(id, "/body/together", url.Values{"stem": {st.ID}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	if s := b.load(id); len(s.Stems) != 1 || s.Stems[0].Mute {
		t.Errorf("%d stems", len(s.Stems))
	}
}
