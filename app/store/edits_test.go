package store

import (
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/move"
	"mellowthump/core/session"
)

// The song that an edit returns is the one that is loaded after it: nothing is in the one that is not in the other, whatever was
// changed, and whether the edit was made on a song that was loaded before or not.
func TestEditReturnsWhatIsStored(t *testing.T) {
	s := open(t, t.TempDir())
	id, err := s.CreateSong(ctx, session.New("Low Tide", 128), "made")
	if err != nil {
		t.Fatal(err)
	}
	song, err := s.Load(ctx, id)
	if err != nil {
		t.Fatal(err)
	}
	sha, master := strings.Repeat("a", 64), session.At{}
	edits := []session.Edit{
		session.AddStem{File: "kick.wav", Audio: sha, Rate: 44100, Role: session.Kick},
		session.AddStem{File: "bass.wav", Audio: strings.Repeat("b", 64), Rate: 44100, Role: session.Bass},
		session.Loop{Span: &session.Span{From: 1, To: 3}, Said: "1 to 3"},
		session.Gain{At: session.At{}, DB: -2},
		session.Dismiss{Dismissal: session.Dismissal{Stage: "room", Finding: "mud.x", What: "mud", Why: "meant"}},
		session.Reopen{Stage: "room", Finding: "mud.x"},
	}
	for _, k := range move.Kinds {
		if k.Where&master.Where() != 0 {
			edits = append(edits, session.AddMove{Kind: k.Name})
		}
	}
	for i, e := range edits {
		var got *Song
		if i%2 == 0 {
			got, err = s.EditOn(ctx, song, e)
		} else {
			got, err = s.Edit(ctx, id, song.Rev, e)
		}
		if err != nil {
			t.Fatalf("%T: %v", e, err)
		}
		if song, err = s.Load(ctx, id); err != nil {
			t.Fatal(err)
		}
		if !reflect.DeepEqual(got, song) {
			t.Errorf("%T returns %+v, and %+v is stored", e, got, song)
		}
	}
	if song.Rev < int64(len(edits)) || len(song.Stems) != 2 || len(song.Master.Moves) < 3 {
		t.Errorf("%+v", song)
	}
}
