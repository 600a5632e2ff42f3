package web

import (
	"context"
	"database/sql"
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"testing"
)

// Songs are found, sorted, renamed, duplicated, archived, deleted and taken back; removed for good they give their audio's
// room back, but not what another song has.
func TestSongs(t *testing.T) {
	b, id := ready(t)
	do := func(id, what string, form url.Values) string {
		t.Helper()
		status, body := b.do("POST", "/songs/"+id+"/"+what, form)
		if status != 200 {
			t.Fatalf("%s: %d %.200s", what, status, body)
		}
		return body
	}
	names := func(query string) string {
		var out []string
		for _, m := range regexp.MustCompile(`<b>([^<]*)</b> <span class="soft">`).FindAllStringSubmatch(b.get("/"+query), -1) {
			out = append(out, m[1])
		}
		return strings.Join(out, ", ")
	}
	do(id, "rename", url.Values{"was": {b.load(id).Name}, "name": {" Harbour "}})
	if got := b.load(id); got.Name != "Harbour" || got.Undo != "Set name Harbour" {
		t.Errorf("%q, undo %q", got.Name, got.Undo)
	}
	b.edit(id, "/settings", url.Values{"name": {"Harbour"}, "bpm": {"90"}, "felt": {""}, "key": {"A minor"}})
	b.get("/songs/" + id + "/pocket")
	b.get("/songs/" + id + "/marks")
	status, page := b.do("POST", "/songs", url.Values{"name": {"Attic"}})
	if status != 200 || !strings.Contains(page, `value="120"`) {
		t.Fatalf("without a tempo: %d", status)
	}
	do(id, "duplicate", nil)
	if got := names(""); got != "Harbour, copy, Attic, Harbour" {
		t.Errorf("last changed first: %s", got)
	}
	if got := names("?sort=name"); got != "Attic, Harbour, Harbour, copy" {
		t.Errorf("by name: %s", got)
	}
	if got := names("?sort=tempo"); got != "Harbour, copy, Harbour, Attic" {
		t.Errorf("by tempo: %s", got)
	}
	if got := names("?sort=size&q=a+minor"); got != "Harbour, copy, Harbour" {
		t.Errorf("found by key: %s", got)
	}
	home := b.get("/?q=harbour")
	for _, want := range []string{"90 bpm, A minor, 2 stems", "open", `id="humps-` + id, " MB"} {
		if !strings.Contains(home, want) {
			t.Errorf("the list lacks %q", want)
		}
	}
	rows, err := b.server.Store.Songs(context.Background())
	if err != nil || len(rows) != 3 {
		t.Fatalf("%d songs, %v", len(rows), err)
	}
	twin := rows[0].ID
	if rows[0].Bytes < 1e6 || len(rows[0].Song.Stems) != 2 {
		t.Errorf("%+v", rows[0])
	}
	do(twin, "archive", url.Values{})
	if home := b.get("/"); !strings.Contains(home, "1 archived") {
		t.Error("the archive is not there")
	}
	do(twin, "archive", url.Values{"back": {"1"}})
	if said := do(id, "delete", url.Values{}); !strings.Contains(said, `id="undelete"`) || !strings.Contains(said, "Its audio is in other songs too") {
		t.Errorf("deleting says %.300s", said)
	}
	do(id, "restore", url.Values{})
	if b.load(id).Name != "Harbour" || strings.Contains(b.get("/"), "1 deleted") {
		t.Error("it is not restored")
	}
	if status, body := b.do("POST", "/songs/"+id+"/remove", url.Values{}); status != 422 || !strings.Contains(body, "The song is not deleted") {
		t.Errorf("what is not deleted is removed: %d %.200s", status, body)
	}
	files := func() int {
		list, _ := os.ReadDir(filepath.Join(b.dir, "audio"))
		return len(list)
	}
	was := files()
	do(id, "delete", url.Values{})
	if said := do(id, "remove", url.Values{}); !strings.Contains(said, "0 kB are free again") || files() != was {
		t.Errorf("removing one of two: %d files of %d; %.200s", files(), was, said)
	}
	if status, _ := b.do("GET", "/songs/"+id+"/intake", nil); status != 404 {
		t.Errorf("the removed song answers %d", status)
	}
	if b.sound("/songs/"+twin+"/deck/after.wav?rev="+strconv.FormatInt(b.load(twin).Rev, 10)+"&from=0&to=44100").Frames() != 44100 {
		t.Error("its twin does not play")
	}
	do(twin, "delete", url.Values{})
	if said := do(twin, "remove", url.Values{}); !strings.Contains(said, " MB are free again") || files() != 0 {
		t.Errorf("removing the last: %d files; %.300s", files(), said)
	}
	if status, _ := b.do("POST", "/songs/nobody/delete", url.Values{}); status != 404 {
		t.Errorf("nobody's song: %d", status)
	}
}

// What was counted of a song is known after a stop, too.
func TestMarksAreKept(t *testing.T) {
	b, id := ready(t)
	b.get("/songs/" + id + "/pocket")
	b.get("/songs/" + id + "/marks")
	count := func() string {
		return regexp.MustCompile(`<b class="n">\d+</b> open`).FindString(b.get("/"))
	}
	was := count()
	if was == "" {
		t.Fatal("nothing is open in a fight")
	}
	b.restart()
	if got := count(); got != was {
		t.Errorf("after a restart %q, before %q", got, was)
	}
}

// A list of many songs holds them all.
func TestManySongs(t *testing.T) {
	b, id := ready(t)
	song := b.load(id).Song
	for range 60 {
		if _, err := b.server.Store.CreateSong(context.Background(), song, "New song"); err != nil {
			t.Fatal(err)
		}
	}
	b.get("/")
	if page := b.get("/?sort=name"); strings.Count(page, `data-song="`) != 61 {
		t.Errorf("%d songs", strings.Count(page, `data-song="`))
	}
}

// One song that cannot be read does not take the list down.
func TestADamagedSongIsListed(t *testing.T) {
	b, id := ready(t)
	b.do("POST", "/songs", url.Values{"name": {"Sound one"}})
	damage(t, b.dir, id)
	status, page := b.do("GET", "/", nil)
	if status != 200 || strings.Count(page, `data-song="`) != 2 || !strings.Contains(page, "Sound one") {
		t.Errorf("%d, %d songs: %.200s", status, strings.Count(page, `data-song="`), page)
	}
}

// damage makes all revisions of a song unreadable.
func damage(t *testing.T, dir, id string) {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "mellowthump.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec(`UPDATE revisions SET body = '{"format": 3, "bpm": "fast"}' WHERE song_id = ?`, id); err != nil {
		t.Fatal(err)
	}
}
