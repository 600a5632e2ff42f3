package archive

import (
	"encoding/json"
	"fmt"

	"mellowthump/core/session"
)

// History is what a song remembers: every change with the song as it was then, the takes, the tests for the ears. In an
// archive it is history.json.
type History struct {
	Format    int        `json:"format"` // 1
	Head      int64      `json:"head"`   // the revision that session.json is
	Revisions []Revision `json:"revisions"`
	Runs      []Run      `json:"runs,omitempty"`
	Takes     []Take     `json:"takes,omitempty"`
	Ears      []Ears     `json:"ears,omitempty"`
}

// Revision is the song after a change.
type Revision struct {
	ID      int64           `json:"id"`
	Parent  int64           `json:"parent,omitempty"` // 0: none
	Summary string          `json:"summary"`
	Created string          `json:"created"`
	Run     int64           `json:"run,omitempty"` // that it was made in
	Song    json.RawMessage `json:"song"`
}

// Run is several changes that were made as one.
type Run struct {
	ID      int64           `json:"id"`
	Base    int64           `json:"base"`
	Head    int64           `json:"head"`
	Said    string          `json:"said"`
	Body    json.RawMessage `json:"body"`
	Created string          `json:"created"`
}

// Take is a revision with a name, a note and its figures.
type Take struct {
	Revision int64           `json:"revision"`
	Name     string          `json:"name"`
	Note     string          `json:"note,omitempty"`
	Numbers  json.RawMessage `json:"numbers"`
	Created  string          `json:"created"`
	Pinned   bool            `json:"pinned,omitempty"`
}

// Ears is a blind test that has ended. Its body names revisions.
type Ears struct {
	Kind    string          `json:"kind"`
	State   string          `json:"state"`
	Body    json.RawMessage `json:"body"`
	Created string          `json:"created"`
}

const historyName = "history.json"

// MostHistory bounds history.json, bytes.
const MostHistory = 256 << 20

// Files are the hashes of the audio of the takes: with it, each can be gone back to.
func (h *History) Files() ([]string, error) {
	if h == nil {
		return nil, nil
	}
	taken := map[int64]bool{}
	for _, t := range h.Takes {
		taken[t.Revision] = true
	}
	seen := map[string]bool{}
	var out []string
	for _, r := range h.Revisions {
		if !taken[r.ID] {
			continue
		}
		song, err := session.Read(r.Song)
		if err != nil {
			return nil, fmt.Errorf("the revision %d: %w", r.ID, err)
		}
		for _, sha := range song.Files() {
			if !seen[sha] {
				seen[sha] = true
				out = append(out, sha)
			}
		}
	}
	return out, nil
}

// readHistory reads it and checks that all that it points at is there.
func readHistory(body []byte) (*History, error) {
	h := &History{}
	if err := json.Unmarshal(body, h); err != nil {
		return nil, fmt.Errorf("it is no history: %w", err)
	}
	if h.Format != 1 {
		return nil, fmt.Errorf("it has form %d; this program knows 1", h.Format)
	}
	known := map[int64]bool{}
	for _, r := range h.Revisions {
		if known[r.ID] || r.ID < 1 || r.Parent != 0 && !known[r.Parent] {
			return nil, fmt.Errorf("the revision %d stands before the one that it follows, or twice", r.ID)
		}
		if _, err := session.Read(r.Song); err != nil {
			return nil, fmt.Errorf("the revision %d: %w", r.ID, err)
		}
		known[r.ID] = true
	}
	points := func(what string, to int64) error {
		if !known[to] {
			return fmt.Errorf("%s points at the revision %d, which is not there", what, to)
		}
		return nil
	}
	if err := points("its head", h.Head); err != nil {
		return nil, err
	}
	runs := map[int64]bool{}
	for _, r := range h.Runs {
		if runs[r.ID] = true; points("a run", r.Base) != nil || points("a run", r.Head) != nil {
			return nil, fmt.Errorf("the run %d stands on a revision that is not there", r.ID)
		}
	}
	for _, r := range h.Revisions {
		if r.Run != 0 && !runs[r.Run] {
			return nil, fmt.Errorf("the revision %d is of a run that is not there", r.ID)
		}
	}
	for _, t := range h.Takes {
		if err := points("the take “"+short(t.Name)+"”", t.Revision); err != nil {
			return nil, err
		}
	}
	return h, nil
}
