package intake

import (
	"strings"
	"testing"

	"mellowthump/core/session"
)

func TestShownName(t *testing.T) {
	for in, want := range map[string]string{
		"kick.wav": "kick.wav", `C:\beats\kick.wav`: "kick.wav", "../../etc/passwd": "passwd", "a\x00b\n.wav": "ab.wav", "": "unnamed.wav", "..": "..",
	} {
		if got := shownName(in); got != want {
			t.Errorf("%q is shown as %q, want %q", in, got, want)
		}
	}
	if n := len([]rune(shownName(strings.Repeat("é", 500)))); n != session.MaxName {
		t.Errorf("a long name keeps %d characters", n)
	}
}
