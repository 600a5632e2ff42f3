package web

import (
	"archive/zip"
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"math"
	"net/http"
	"net/url"
	"strings"
	"testing"

	"mellowthump/app/store"
	"mellowthump/core/audio"
)

// taken takes in what was brought as it is proposed.
func (b *bench) taken(id string) (proposal string) {
	b.Helper()
	proposal = b.get("/songs/" + id + "/intake")
	form := url.Values{}
	jobs, _ := b.server.Store.Jobs(b.Context(), id)
	for _, j := range jobs {
		if j.State != store.Ready {
			continue
		}
		name := fmt.Sprintf("to-%d", j.ID)
		from := proposal[strings.Index(proposal, `name="`+name+`"`):]
		from = from[:strings.Index(from, "</select>")]
		sel := from[:strings.Index(from, `" selected`)]
		form.Set(name, sel[strings.LastIndex(sel, `"`)+1:])
	}
	if len(form) == 0 {
		b.Fatalf("nothing is proposed: %+v", jobs)
	}
	if status, body := b.edit(id, "/brought", form); status != 200 {
		b.Fatalf("%d %.400s", status, body)
	}
	return proposal
}

// What was exported comes back and sounds as it did, to the last bit but one: what it holds is not applied twice, however
// it comes back.
func TestExportsAreNotAppliedTwice(t *testing.T) {
	for what, come := range map[string]func(b *bench, id, stem string){
		"dropped": func(b *bench, id, stem string) {
			b.bring(id, file{"any name.wav", []byte(b.get("/songs/" + id + "/duck/ducked.wav?stem=" + stem))})
			if page := b.taken(id); !strings.Contains(page, "exported from here; it holds its moves and gains, which are then off here") {
				t.Errorf("the proposal does not say what it is")
			}
		},
		"as FLAC, out of an archive's sibling": func(b *bench, id, stem string) {
			b.bring(id, file{"808.flac", []byte(b.get("/songs/" + id + "/duck/ducked.wav?as=flac&stem=" + stem))})
			b.taken(id)
		},
		"in another header": func(b *bench, id, stem string) {
			wav := []byte(b.get("/songs/" + id + "/duck/ducked.wav?stem=" + stem))
			note := append([]byte("note\x04\x00\x00\x00"), 1, 2, 3, 4)
			out := append(append(append([]byte{}, wav[:12]...), note...), wav[12:]...)
			binary.LittleEndian.PutUint32(out[4:], uint32(len(out)-8))
			b.bring(id, file{"808.wav", out})
			b.taken(id)
		},
		"out of the archive": func(b *bench, id, stem string) {
			all := []byte(b.get("/songs/" + id + "/duck/all.zip"))
			z, err := zip.NewReader(bytes.NewReader(all), int64(len(all)))
			if err != nil {
				t.Fatal(err)
			}
			for _, f := range z.File {
				if strings.HasPrefix(f.Name, "808") {
					r, _ := f.Open()
					body, _ := io.ReadAll(r)
					b.bring(id, file{f.Name, body})
				}
			}
			b.taken(id)
		},
		"on its row": func(b *bench, id, stem string) {
			body, kind := multipartOf(file{"808.wav", []byte(b.get("/songs/" + id + "/duck/ducked.wav?stem=" + stem))})
			req, _ := http.NewRequest("POST", b.url+"/songs/"+id+"/stems/"+stem+"/replace", bytes.NewReader(body))
			req.Header.Set("Content-Type", kind)
			res, err := b.Do(req)
			if err != nil {
				t.Fatal(err)
			}
			res.Body.Close()
			b.wait(id)
		},
	} {
		b, id := ready(t)
		b.edit(id, "/duck/fit", url.Values{})
		bass := bassID(b, id)
		b.level(id, "/gain", url.Values{"of": {bass}, "step": {"clip"}, "db": {"-2"}})
		was := b.sound(address(b.deck(id, "duck", url.Values{"solo": {"bass"}}), "after"))
		come(b, id, bass)
		song := b.load(id)
		st := song.Stem(bass)
		if len(song.Stems) != 2 || st.Was == "" || st.Clip != 0 || !strings.Contains(st.Holds, "duck") || !strings.Contains(st.Holds, "gains") {
			t.Errorf("%s: %+v", what, st)
		}
		now := b.sound(address(b.deck(id, "duck", url.Values{"solo": {"bass"}}), "after"))
		for i, v := range was.Ch[0] {
			if math.Abs(float64(now.Ch[0][i]-v)) > 2.0/(1<<23) {
				t.Fatalf("%s: frame %d plays %g, before it went out %g", what, i, now.Ch[0][i], v)
			}
		}
		if page := b.get("/songs/" + id + "/intake"); !strings.Contains(page, "holds duck, gains") {
			t.Errorf("%s: the row does not say what its file holds", what)
		}
		if !strings.Contains(b.get("/songs/"+id+"/duck/back"), "holds the duck, so the one here is off") {
			t.Errorf("%s: Duck does not say it", what)
		}
		if status, _ := b.edit(id, "/undo", url.Values{}); status != 200 || b.load(id).Stem(bass).Clip != -2 {
			t.Errorf("%s: one undo does not take it back", what)
		}
	}
}

// A folder of bounces is matched with the stems, proposed, and taken in as one step; the judged stretch stays. What is
// nobody's version is added without a question.
func TestBouncesComeBack(t *testing.T) {
	b, id := ready(t)
	kick, bass := beat()
	quieter := func(x audio.Buffer, by float32, from int) audio.Buffer {
		out := audio.New(x.Rate, 1, x.Frames())
		for i, v := range x.Ch[0] {
			if i >= from {
				out.Ch[0][i] = by * v
			}
		}
		return out
	}
	pad := audio.New(rate, 1, 8*rate)
	for i := range pad.Ch[0] {
		pad.Ch[0][i] = float32(0.1 * math.Sin(2*math.Pi*400*float64(i)/rate) * (1.2 + math.Sin(float64(i)/rate)))
	}
	if left := b.bring(id, file{"Pad.wav", asWAV(pad)}); len(left) != 0 || len(b.load(id).Stems) != 3 {
		t.Errorf("a new stem alone is asked about: %+v", left)
	}
	rev := b.load(id).Rev
	if left := b.bring(id, file{"kick_v2.wav", asWAV(quieter(kick, 0.8, 0))}, file{"808.wav", asWAV(quieter(bass, 0.9, 0))}, file{"Rain.wav", asWAV(quieter(pad,
		0.3, rate))}, file{"Pad.wav", asWAV(pad)}); len(
		left,
	) != 4 ||
		b.load(id).Rev != rev {
		t.Fatalf("%+v", left)
	}
	page := b.taken(id)
	if !strings.Contains(page, `id="brought-says">2 new versions, 1 new stem, 1 as before<`) {
		t.Errorf("%s", page[strings.Index(page, "brought-says"):][:120])
	}
	song := b.load(id)
	if len(song.Stems) != 4 || song.Undo != "2 new versions, 1 new stem" {
		t.Errorf("%d stems, undo %q", len(song.Stems), song.Undo)
	}
	if page := b.get("/songs/" + id + "/intake"); strings.Count(page, `class="was"`) < 6 || strings.Contains(page, "brought-says") {
		t.Error("the old figures are not beside the new, or it is still asked")
	}
	b.edit(id, "/undo", url.Values{})
	if got := b.load(id); len(got.Stems) != 3 || got.Stems[0].Was != "" {
		t.Errorf("after one undo: %+v", got.Stems)
	}
	left := b.bring(id, file{"kick.wav", asWAV(quieter(kick, 0.5, 0))}, file{"Kick new.wav", asWAV(quieter(kick, 0.4, 0))})
	kickID := song.TriggerStem().ID
	form := url.Values{}
	for _, j := range left {
		form.Set(fmt.Sprintf("to-%d", j.ID), kickID)
	}
	if status, body := b.edit(id, "/brought", form); status != 422 || !strings.Contains(body, "cannot both be the new version of Kick") {
		t.Errorf("two for one: %d %.200s", status, body)
	}
	// what came after the page was drawn is not in its form: it stays to be asked
	b.edit(id, "/imports/forget", url.Values{})
	seen := b.bring(id, file{"kick.wav", asWAV(quieter(kick, 0.5, 0))})
	later := b.bring(id, file{"808.wav", asWAV(quieter(bass, 0.5, 0))})
	if len(seen) != 1 || len(later) != 2 {
		t.Fatalf("%+v, then %+v", seen, later)
	}
	b.edit(id, "/brought", url.Values{fmt.Sprintf("to-%d", seen[0].ID): {kickID}})
	if page := b.get("/songs/" + id + "/intake"); !strings.Contains(page, `data-file="808.wav"`) || strings.Contains(page, `data-file="kick.wav"`) {
		t.Error("what was not asked about is gone")
	}
	b.edit(id, "/imports/forget", url.Values{})
	if page := b.get("/songs/" + id + "/intake"); strings.Contains(page, "brought-says") {
		t.Error("what is left is still asked about")
	}
}

// Of a dropped folder that holds most of a song, the stems that it lacks are told; of a single file nothing is.
func TestWhatIsMissingIsTold(t *testing.T) {
	b, id := ready(t)
	kick, bass := beat()
	pad := louder(bass, -12)
	for i := range pad.Ch[0] {
		pad.Ch[0][i] = float32(i%700)/7000 - 0.05
	}
	b.send(id, file{"Pad.wav", asWAV(pad)})
	b.bring(id, file{"Kick.wav", asWAV(louder(kick, -1))})
	if page := b.get("/songs/" + id + "/intake"); strings.Contains(page, "brought-missing") {
		t.Error("of one file the others are told to be missing")
	}
	b.bring(id, file{"808.wav", asWAV(louder(bass, -1))})
	page := strings.Join(strings.Fields(b.get("/songs/"+id+"/intake")), " ")
	if !strings.Contains(page, "Nothing came for Pad: it keeps its file.") {
		t.Errorf("the missing stem is not told: %s", page[strings.Index(page, "brought-says"):][:400])
	}
}

// A song of which nobody said the tempo has that of its hits with the first stems, in the same step, and a way back; one that is
// said afterwards stays, whatever comes.
func TestTempoComesWithTheStems(t *testing.T) {
	b := newBench(t)
	status, _ := b.do("POST", "/songs", url.Values{"name": {"Open"}, "bpm": {""}})
	list, err := b.server.Store.Songs(b.Context())
	if err != nil || len(list) != 1 {
		t.Fatal(status, list, err)
	}
	id := list[0].ID
	struck := func(beats ...float64) []byte {
		out := audio.New(rate, 1, 20*rate)
		for bar := range 7 {
			for _, beat := range beats {
				from := int((float64(4*bar) + beat) * 60 / 93 * rate)
				for i := range rate / 5 {
					t := float64(i) / rate
					out.Ch[0][from+i] += float32(0.7 * math.Sin(2*math.Pi*(52*t+1.5*(1-math.Exp(-t/0.01)))) * math.Exp(-t/0.05))
				}
			}
		}
		return asWAV(out)
	}
	b.send(id, file{"Kick.wav", struck(0, 1.75, 2.5)}, file{"Snare.wav", struck(1, 3)})
	if s := b.load(id); s.BPM != 93 || !s.FromHits.Taken() {
		t.Fatalf("%g bpm after %q", s.BPM, s.Undo)
	}
	page := b.get("/songs/" + id + "/intake")
	for _, want := range []string{`id="tempo-taken"`, "from the hits, ", "46.5 bpm", "186 bpm", "back to 120 bpm"} {
		if !strings.Contains(page, want) {
			t.Errorf("Intake lacks %q", want)
		}
	}
	if status, body := b.edit(id, "/take-proposal", url.Values{"field": {"back"}}); status != 200 || b.load(id).BPM != 120 {
		t.Fatalf("%d, %g bpm: %.200s", status, b.load(id).BPM, body)
	}
	b.send(id, file{"Clap.wav", struck(1, 2.25, 3)})
	if s := b.load(id); s.BPM != 120 || len(s.Stems) != 3 || strings.Contains(b.get("/songs/"+id+"/intake"), "tempo-taken") {
		t.Errorf("a tempo that was said became %g", s.BPM)
	}
}
