package facts

import "testing"

// Names say that several drums are in one file, unless they name the one drum that it is.
func TestDrumsInOne(t *testing.T) {
	for name, want := range map[string]bool{
		"Break": true, "drum loop 2": true, "Beat_96bpm": true, "Drums": true, "Loop A": true,
		"Kick loop": false, "bass drum": false, "808 loop": false, "Piano": false, "hat loop": false, "heartbeats of the pad": false, "": false,
	} {
		if drumsInOne(name) != want {
			t.Errorf("%q: %t", name, !want)
		}
	}
}
