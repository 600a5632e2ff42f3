package audio

import "fmt"

// Damaged is what is said of a file whose data its decoder does not get through. What the decoder itself says is for who looks
// into it, and no sentence.
type Damaged struct {
	What string // "its FLAC data"
	Err  error  // of the decoder
}

// Error is the sentence.
func (d *Damaged) Error() string { return d.What + " is damaged; bounce it anew, or convert it to WAV" }

// Unwrap is what the decoder said.
func (d *Damaged) Unwrap() error { return d.Err }

// DamagedBy is a file that made its decoder panic.
func DamagedBy(what string, v any) error { return &Damaged{what, fmt.Errorf("panic: %v", v)} }
