package web

import (
	"bytes"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"mellowthump/app/store"
	"mellowthump/app/web/shell"
)

// Several bounces of one stem wait when the program stops, under one name or under several, in any order: at the next
// start only the newest counts, and it is the one that is said to be taken.
func TestOnlyTheNewestBounceCounts(t *testing.T) {
	_, bass := beat()
	versions := [][]byte{asWAV(louder(bass, -1)), asWAV(louder(bass, -2)), asWAV(louder(bass, -3)), asWAV(louder(bass, -4))}
	one, each := []string{"808.wav", "808.wav", "808.wav", "808.wav"}, []string{"808 v1.wav", "808 v2.wav", "808 v3.wav", "808 v4.wav"}
	for _, c := range []struct {
		order []int
		names []string
	}{{[]int{3, 2, 1, 0}, one}, {[]int{2, 3, 0, 1}, each}, {[]int{3, 1, 2, 0}, each}} {
		order, names := c.order, c.names
		t.Run(fmt.Sprint(order, names[1]), func(t *testing.T) {
			f := watching(t)
			st := bassID(f.bench, f.id)
			f.server.Pool.Close() // from here on jobs wait
			when := time.Now().Add(-time.Hour)
			var rows []store.Bounce
			for i := range versions {
				rows = append(
					rows,
					store.Bounce{
						SongID: f.id,
						Name:   names[i],
						Size:   int64(len(versions[i])),
						Stamp:  when.Add(time.Duration(i) * time.Minute).Format(time.RFC3339Nano),
						State:  store.BounceComing,
					},
				)
				if err := f.server.Store.SetBounce(t.Context(), rows[i]); err != nil {
					t.Fatal(err)
				}
			}
			for _, i := range order {
				incoming, err := f.server.Store.Incoming(bytes.NewReader(versions[i]), 1<<30)
				if err != nil {
					t.Fatal(err)
				}
				payload, err := json.Marshal(map[string]any{"incoming": incoming, "ask": true, "file": rows[i]})
				if err != nil {
					t.Fatal(err)
				}
				if _, err := f.server.Store.AddJob(t.Context(), store.Job{SongID: f.id, Kind: shell.BounceJob, Name: names[i], Payload: string(payload),
					State: store.Queued}); err != nil {
					t.Fatal(err)
				}
			}
			f.restart()
			f.starts()
			f.settles()
			is := f.load(f.id).Stem(st)
			if got := f.file(is.Audio); !bytes.Equal(got, versions[3]) {
				t.Errorf("the stem has %s of %d revisions", sayVersion(got, versions), f.load(f.id).Rev)
			}
			all, err := f.server.Store.Bounces(t.Context(), f.id)
			if err != nil {
				t.Fatal(err)
			}
			for _, b := range all {
				if b.State == store.BounceTaken && b.SHA != is.Audio && b.Name == names[3] || b.Name == names[3] && b.State != store.BounceTaken ||
					b.State == store.BounceComing {
					t.Errorf("%s is said to be %s (%s)", b.Name, b.State, b.Said)
				}
			}
		})
	}
}

// settles waits until no job is under way.
func (b *bench) settles() {
	b.Helper()
	until(b.T, "all jobs have ended", func() bool {
		left, err := b.server.Store.Unfinished(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		return len(left) == 0
	})
}

// patience is how long a poll waits before it gives up: a busy machine, with the race detector, takes minutes for a comparison.
const patience = 5 * time.Minute

// until polls until something is so.
func until(t *testing.T, what string, so func() bool) {
	t.Helper()
	for end := time.Now().Add(patience); !so(); time.Sleep(10 * time.Millisecond) {
		if time.Now().After(end) {
			t.Fatalf("never: %s", what)
		}
	}
}

func sayVersion(got []byte, of [][]byte) string {
	for i, v := range of {
		if bytes.Equal(got, v) {
			return fmt.Sprintf("version %d", i+1)
		}
	}
	return "none of them"
}

// file is what is stored of an audio.
func (b *bench) file(sha string) []byte {
	b.Helper()
	x, err := os.ReadFile(filepath.Join(b.dir, "audio", sha+".wav"))
	if err != nil {
		b.Fatal(err)
	}
	return x
}
