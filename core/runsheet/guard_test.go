package runsheet

import (
	"reflect"
	"testing"

	"mellowthump/core/bench"
	"mellowthump/core/session"
)

// A change is made without the parts that it would harm: what it does to the others stays, nothing at all is said to be none.
func TestWithout(t *testing.T) {
	song := session.New("Test", 120)
	for _, id := range []string{"a", "b"} {
		song.Stems = append(song.Stems, session.Stem{ID: id, Name: id, Role: session.Melodic})
	}
	w := &walk{at: newState(&bench.Bench{Song: &song})}
	cut := func(id string) session.Edit { return session.CutRoom{Stem: id, ID: session.RoomLow, Hz: 100} }
	both := session.Together{Said: "both", Edits: []session.Edit{session.Together{Edits: []session.Edit{cut("a"), cut("b")}}}}
	less, ok := w.without(both, []string{"b"})
	if want := (session.Together{Said: "both", Edits: []session.Edit{session.Together{Edits: []session.Edit{cut("a")}}}}); !ok || !reflect.DeepEqual(less, want) {
		t.Errorf("%+v, %t", less, ok)
	}
	if less, ok := w.without(both, []string{"a", "b"}); ok {
		t.Errorf("without both it is %+v", less)
	}
}
