package session

import (
	"strings"
	"testing"

	"mellowthump/core/field"
)

// What the stages go by is made of fields: those of common practice are in their bounds; what is typed beside them is refused in
// one sentence that names the value and the bounds, and so is a song that holds it.
func TestRulesAreFields(t *testing.T) {
	fresh := func() *Song {
		room, body, width, compare, print := CommonRoom(), CommonBody(), CommonWidth(), CommonCompare(), CommonPrint()
		s := New("Low Tide", 120)
		levels := CommonLevels()
		s.Levels, s.Room, s.Body, s.Width, s.Compare, s.Print = &levels, &room, &body, &width, &compare, &print
		return &s
	}
	if err := fresh().Validate(); err != nil {
		t.Fatal(err)
	}
	n := 0
	for i, rules := range fresh().Rules.fields() {
		for j, f := range rules {
			for _, typed := range []string{"1e9", "-1e9", "loud", "NaN"} {
				s := fresh()
				fields := s.Rules.fields()[i]
				err := field.Read(fields, func(name string) (string, bool) { return typed, name == f.Name })
				if err == nil || !strings.Contains(err.Error(), f.Label) || strings.Contains(err.Error(), "strconv") {
					t.Errorf("%s as %q: %v", f.Name, typed, err)
				}
				if v := fields[j].Number; v != nil && strings.HasSuffix(typed, "e9") && (*v > f.Hi || *v < f.Lo) && s.Validate() == nil {
					t.Errorf("a song with %s of %g is taken", f.Name, *v)
				}
			}
			n++
		}
	}
	if n != 10+3+5+4+2*9 {
		t.Errorf("%d values", n)
	}
}
