package web

import (
	"math/rand/v2"
	"net/url"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// crowded is a beat with a bell and an organ that covers it.
func crowded(t *testing.T) (b *bench, id, bell, organ string) {
	t.Helper()
	b, id = ready(t)
	x, _ := rumbling()
	over := audio.New(rate, 1, x.Frames()) // plays what the bell plays, a little louder
	for i, v := range x.Ch[0] {
		over.Ch[0][i] = 1.35 * v
	}
	b.send(id, file{"Bell.wav", asWAV(x)}, file{"Organ.wav", asWAV(over)})
	song := b.load(id)
	return b, id, song.Named("Bell").ID, song.Named("Organ").ID
}

// A dip that works while the other sounds, or in what is held, from the page into the chain and the settings sheet, off, on,
// edited and out from the stage itself.
func TestRoomWays(t *testing.T) {
	outside.Slow(t)
	b, id, bell, organ := crowded(t)
	for way, want := range map[string]string{"keyed": "while Bell sounds", "held": "in what it holds"} {
		if page := b.get("/songs/" + id + "/room/pair?by=" + organ + "&of=" + bell + "&way=" + way); !strings.Contains(page, want) {
			t.Errorf("%s: %.500s", way, page)
		}
	}
	if deck := b.get("/songs/" + id + "/deck/data?solo=all&try=" + url.QueryEscape("room/dip:"+organ+":"+bell+":keyed:mid")); !strings.Contains(
		deck,
		"After tries: Keyed bell on Organ",
	) {
		t.Errorf("%.300s", deck)
	}
	if status, body := b.edit(id, "/room/dip", url.Values{"by": {organ}, "of": {bell}, "way": {"keyed"}, "mid": {"1"}}); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	song := b.load(id)
	m := song.Stem(organ).Move(session.RoomFor + bell)
	k, ok := m.Params.(*move.KeyedBell)
	if !ok || k.Channels != "mid" || song.Trigger(k.Trigger).Stem != bell {
		t.Fatalf("%+v", m)
	}
	page := b.get("/songs/" + id + "/room")
	for _, want := range []string{`id="move-` + organ + `-room-for-` + bell + `"`, `id="room-settings"`, `id="room-others"`} {
		if !strings.Contains(page, want) {
			t.Errorf("the stage lacks %q", want)
		}
	}
	sheet := b.get("/songs/" + id + "/room/settings.txt")
	for _, want := range []string{"Organ\n", "so that Bell is heard", "Bell sounds; its key is taken before the fader", "threshold",
		"the rest under kick and bass", "peak of the mix"} {
		if !strings.Contains(sheet, want) {
			t.Errorf("the sheet lacks %q:\n%s", want, sheet)
		}
	}
	// the other way round each would listen to the other: that is said, on the page and where it is asked for
	if page := b.get("/songs/" + id + "/room/pair?by=" + bell + "&of=" + organ + "&way=keyed"); !strings.Contains(page, `id="pair-none"`) &&
		!strings.Contains(page, "takes nothing") {
		t.Errorf("a ring: %.400s", page)
	}
	if status, _ := b.edit(id, "/room/dip", url.Values{"by": {bell}, "of": {organ}, "way": {"keyed"}}); status != 422 {
		t.Errorf("a ring: %d", status)
	}
	// on the matrix its trigger is in use: it cannot be taken from under it
	if status, body := b.edit(id, "/duck/trigger/"+k.Trigger+"/remove", url.Values{}); status == 200 && b.load(id).Trigger(k.Trigger) == nil {
		t.Errorf("its trigger is gone: %.200s", body)
	}
	at := url.Values{"at": {organ}, "move": {m.ID}}
	if status, _ := b.edit(id, "/moves/switch", at); status != 200 || !b.load(id).Stem(organ).Move(m.ID).Off {
		t.Error("it is not off")
	}
	if status, _ := b.do("GET", "/songs/"+id+"/room/settings.txt", nil); status != 404 {
		t.Errorf("a sheet of nothing: %d", status)
	}
	b.edit(id, "/moves/switch", at)
	set := url.Values{"at": {organ}, "move": {m.ID}}
	song = b.load(id)
	for _, f := range song.Stem(organ).Move(m.ID).Params.Fields() {
		set.Set(f.Name, f.String())
	}
	set.Set("hz", "190")
	if status, body := b.edit(id, "/moves/set", set); status != 200 || b.load(id).Stem(organ).Move(m.ID).Params.(*move.KeyedBell).Hz != 190 {
		t.Errorf("an edit: %d %.300s", status, body)
	}
	if page := b.get("/songs/" + id + "/room"); strings.Contains(page, "Over 6 dB something earlier") {
		t.Error("a range of 6 dB is warned of")
	}
	set.Set("range_db", "6.5")
	if status, _ := b.edit(id, "/moves/set", set); status != 200 {
		t.Error("6.5 dB are not taken")
	}
	if page := b.get("/songs/" + id + "/room"); !strings.Contains(page, "Over 6 dB something earlier is probably wrong") {
		t.Error("over 6 dB there is no warning")
	}
	set.Set("range_db", "lots")
	if status, _ := b.edit(id, "/moves/set", set); status != 422 {
		t.Errorf("a bad edit: %d", status)
	}
	if page := b.get("/songs/" + id + "/room/pair?by=" + organ + "&of=" + bell); !strings.Contains(page, `id="pair-on"`) ||
		!strings.Contains(page, `id="pair-out"`) {
		t.Errorf("the dip that is in is not said: %.300s", page)
	}
	if status, _ := b.edit(id, "/moves/drop", at); status != 200 || b.load(id).Stem(organ).Move(m.ID) != nil {
		t.Error("it is still there")
	}
}

// A bounce that comes back is compared with what Room planned for it.
func TestRoomComesBack(t *testing.T) {
	outside.Slow(t)
	b, id, bell, _ := crowded(t)
	if status, _ := b.edit(id, "/room/cut", url.Values{"stem": {bell}, "side": {"low"}, "hz": {"200"}}); status != 200 {
		t.Fatal("not cut")
	}
	x, _ := rumbling()
	s, err := dsp.ButterworthHighpass(4, 200, rate)
	if err != nil {
		t.Fatal(err)
	}
	cut := audio.New(rate, 1, x.Frames())
	dsp.NewFilter(s).Process(cut.Ch[0], x.Ch[0])
	comes := func(x audio.Buffer) string {
		t.Helper()
		body, kind := multipartOf(file{"Bell.wav", asWAV(x)})
		b.postTo(id, "/stems/"+bell+"/replace", body, kind)
		if page := b.get("/songs/" + id + "/room"); !strings.Contains(page, `id="room-back"`) {
			t.Fatalf("%.300s", page)
		}
		return b.get("/songs/" + id + "/room/back")
	}
	if page := comes(cut); !strings.Contains(page, "Bell came back as planned.") {
		t.Errorf("as planned: %s", page)
	}
	for i := range x.Ch[0] {
		cut.Ch[0][i] = x.Ch[0][i] * 0.999
	}
	b.edit(id, "/undo", url.Values{})
	if page := comes(cut); !strings.Contains(page, "dB more at 40 Hz than was planned") {
		t.Errorf("not cut: %s", page)
	}
}

// A voice file of the user's own: judged, no part of the mix, taken out and undone; one that is no sound is refused.
func TestRoomVoiceFile(t *testing.T) {
	outside.Slow(t)
	b, id, _, _ := crowded(t)
	r := rand.New(rand.NewPCG(3, 9))
	voice := audio.New(rate, 1, 8*rate)
	for i := range voice.Ch[0] {
		voice.Ch[0][i] = float32(0.1 * r.NormFloat64())
	}
	page := b.get("/songs/" + id + "/room")
	loud := func(page string) string {
		_, after, _ := strings.Cut(page, `id="premaster-peak">`)
		return after[:strings.Index(after, "<")]
	}
	before := loud(page)
	for name, body := range map[string][]byte{"Lead.wav": asWAV(voice), "notes.txt": []byte("no sound at all")} {
		body, kind := multipartOf(file{name, body})
		b.postTo(id, "/room/voice-file", body, kind)
	}
	song := b.load(id)
	if song.Voice == nil || song.Voice.Name != "Lead" || len(song.Stems) != 4 {
		t.Fatalf("%+v", song.Voice)
	}
	page = b.get("/songs/" + id + "/room/voice")
	for _, want := range []string{`id="voice-name">Lead`, `id="voice-says"`, "is not a sound file", `placeholder="−2`} {
		if !strings.Contains(page, want) {
			t.Errorf("the page lacks %q: %.1500s", want, page)
		}
	}
	if now := loud(b.get("/songs/" + id + "/room")); now != before {
		t.Errorf("the mix peaks at %s, %s without the voice", now, before)
	}
	if status, _ := b.do("GET", "/songs/"+id+"/room/voice?level=9", nil); status != 422 {
		t.Errorf("a bad level: %d", status)
	}
	if status, _ := b.edit(id, "/room/voice-file/remove", url.Values{}); status != 200 || b.load(id).Voice != nil {
		t.Errorf("out: %d", status)
	}
	b.edit(id, "/undo", url.Values{})
	if b.load(id).Voice == nil {
		t.Error("undo does not bring it back")
	}
	jobs, err := b.server.Store.Jobs(t.Context(), id)
	if err != nil || len(jobs) == 0 || jobs[0].State != store.Failed {
		t.Errorf("%+v %v", jobs, err)
	}
}
