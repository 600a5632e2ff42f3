package field

import (
	"fmt"
	"math"
	"strconv"
	"strings"
)

// NoteMS returns the length of a note value in ms at a tempo: 60000 / bpm x beats, a
// quarter note being one beat. Values are written "1/16", dotted "1/16.", triplet "1/16t",
// and may carry a sign.
func NoteMS(note string, bpm float64) (float64, error) {
	s := strings.ToLower(strings.TrimSpace(note))
	sign := 1.0
	switch {
	case strings.HasPrefix(s, "-"), strings.HasPrefix(s, "−"):
		sign = -1
		s = strings.TrimPrefix(strings.TrimPrefix(s, "-"), "−")
	case strings.HasPrefix(s, "+"):
		s = s[1:]
	}
	factor := 1.0
	switch {
	case strings.HasSuffix(s, "."):
		factor, s = 1.5, strings.TrimSuffix(s, ".")
	case strings.HasSuffix(s, "t"):
		factor, s = 2.0/3, strings.TrimSuffix(s, "t")
	}
	top, bottom, ok := strings.Cut(s, "/")
	n, err1 := strconv.Atoi(strings.TrimSpace(top))
	d, err2 := strconv.Atoi(strings.TrimSpace(bottom))
	if !ok || err1 != nil || err2 != nil || n < 1 || n > 64 || d < 1 || d > 128 {
		return 0, fmt.Errorf("%q is not a note value; write 1/16, 1/16. (dotted) or 1/16t (triplet)", note)
	}
	if bpm <= 0 {
		return 0, fmt.Errorf("a note value needs a tempo")
	}
	return sign * factor * 60000 / bpm * 4 * float64(n) / float64(d), nil
}

// Time reads a time typed by a person: ms ("30", "30 ms", "-4.5") or a note value. It
// returns the ms at that tempo, and the note value where one was typed.
func Time(s string, bpm float64) (ms float64, note string, err error) {
	s = strings.TrimSpace(s)
	if strings.Contains(s, "/") {
		ms, err = NoteMS(s, bpm)
		return ms, strings.ReplaceAll(s, "−", "-"), err
	}
	ms, err = Number(s, "ms")
	return ms, "", err
}

// Number reads a number typed by a person, with its unit or without, with a decimal
// comma or point, with a hyphen or a minus sign.
func Number(s, unit string) (float64, error) {
	t := strings.TrimSpace(strings.NewReplacer("−", "-", ",", ".").Replace(s))
	if len(t) >= len(unit) && strings.EqualFold(t[len(t)-len(unit):], unit) {
		t = strings.TrimSpace(t[:len(t)-len(unit)])
	}
	v, err := strconv.ParseFloat(t, 64)
	if err != nil || math.IsNaN(v) || math.IsInf(v, 0) {
		if unit == "" {
			return 0, fmt.Errorf("%q is not a number", s)
		}
		return 0, fmt.Errorf("%q is not a number of %s", s, unit)
	}
	return v, nil
}
