package meter

import (
	"fmt"
	"math"
)

// A4 is the tuning reference of ISO 16, in Hz; MIDI note 69.
const A4 = 440.0

var noteNames = [12]string{"C", "Db", "D", "Eb", "E", "F", "F#", "G", "Ab", "A", "Bb", "B"}

// Note names the equal-tempered note nearest to hz, and the distance from it in cents
// (-50 to 50). Middle C is C4.
func Note(hz float64) (name string, cents float64) {
	if hz <= 0 || math.IsNaN(hz) {
		return "", 0
	}
	n := 69 + 12*math.Log2(hz/A4)
	k := math.Round(n)
	i := int(k)
	octave := int(math.Floor(k/12)) - 1
	return fmt.Sprintf("%s%d", noteNames[((i%12)+12)%12], octave), 100 * (n - k)
}

// NoteHz returns the frequency of a MIDI note number.
func NoteHz(midi int) float64 { return A4 * math.Pow(2, float64(midi-69)/12) }
