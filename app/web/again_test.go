package web

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/app/store"
)

// However often the program ends while a file comes in, what was sent is kept, said and offered again; when it is
// cleared from the list the next start sweeps it.
func TestWhatWasSentIsKept(t *testing.T) {
	b, id := ready(t)
	kick, _ := beat()
	send := func(name string) int64 {
		incoming, err := b.server.Store.Incoming(bytes.NewReader(asWAV(louder(kick, -7))), 1<<30)
		if err != nil {
			t.Fatal(err)
		}
		payload, _ := json.Marshal(map[string]any{"incoming": incoming})
		job, err := b.server.Store.AddJob(t.Context(), store.Job{SongID: id, Kind: "import", Name: name, Payload: string(payload), State: store.Queued})
		if err != nil {
			t.Fatal(err)
		}
		for range store.MostStarts { // as kills leave it
			if err := b.server.Store.StartJob(t.Context(), job); err != nil {
				t.Fatal(err)
			}
		}
		return job
	}
	start := func() {
		b.restart()
		if err := b.server.Start(context.Background()); err != nil {
			t.Fatal(err)
		}
	}
	one := send("Clap.wav")
	start()
	start() // and another start sweeps nothing
	if page := b.get("/songs/" + id + "/imports"); !strings.Contains(page, "The program ended 5 times while it worked on this; what you sent is kept.") ||
		!strings.Contains(page, fmt.Sprintf("/imports/%d/again", one)) {
		t.Fatalf("it is not offered again: %s", page)
	}
	if status, body := b.do("POST", fmt.Sprintf("/songs/%s/imports/%d/again", id, one), url.Values{}, "HX-Request", "true"); status != 200 {
		t.Fatalf("%d %.300s", status, body)
	}
	b.settles()
	if n := len(b.load(id).Stems); n != 3 {
		t.Errorf("%d stems", n)
	}
	for _, none := range []int64{one, 999} {
		if status, _ := b.do("POST", fmt.Sprintf("/songs/%s/imports/%d/again", id, none), url.Values{}, "HX-Request", "true"); status != 404 {
			t.Errorf("job %d is begun again: %d", none, status)
		}
	}
	send("Rim.wav")
	start()
	if status, _ := b.do("POST", "/songs/"+id+"/imports/forget", url.Values{}, "HX-Request", "true"); status != 200 {
		t.Error(status)
	}
	start()
	if left, _ := os.ReadDir(filepath.Join(b.dir, "incoming")); len(left) != 0 {
		t.Errorf("cleared from the list, it is left: %v", left)
	}
}
