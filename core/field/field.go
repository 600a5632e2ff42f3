// Package field holds what a value that a person sets is: its name, its unit, its bounds; how it is read from what was typed, and
// the one sentence in which it is refused. Moves and what the stages go by are made of fields.
package field

import (
	"fmt"
	"math"
	"strconv"
	"strings"

	"mellowthump/core/figure"
)

// Field is one value of a move, or of what a stage goes by: it points into the struct that holds it. From it come the form on the page, its reading
// and its refusals, the words for the value, and its row in docs/session-format.md.
type Field struct {
	Name  string // in forms; a move's in JSON too, dots between objects
	Label string // "corner"
	Unit  string // "Hz"; empty: none

	Number  *float64 // one of these three is set
	Whole   *int
	Text    *string
	Choices []Choice // of a Whole or a Text: the values that are taken

	Lo, Hi, Step float64 // of a Number
	Default      float64 // of a Number that another field brings to life
	None         bool    // 0, or an empty text, stands for none and is taken too
	Trigger      bool    // a Text that names a trigger of the song
	Idle         bool    // it has no meaning beside the values of the others: neither shown nor checked
}

// Choice is one value that a field takes, with the word for it.
type Choice struct{ Value, Label string }

// Choices makes choices of pairs of a value and its word.
func Choices(values ...string) []Choice {
	var out []Choice
	for i := 0; i+1 < len(values); i += 2 {
		out = append(out, Choice{values[i], values[i+1]})
	}
	return out
}

// String writes the value as a person would type it.
func (f Field) String() string {
	switch {
	case f.Number != nil:
		if f.None && *f.Number == 0 {
			return ""
		}
		return strconv.FormatFloat(math.Round(*f.Number*1000)/1000+0, 'f', -1, 64)
	case f.Whole != nil:
		if f.None && *f.Whole == 0 {
			return ""
		}
		return strconv.Itoa(*f.Whole)
	}
	return *f.Text
}

// Words writes the value for a sentence, "40 Hz".
func (f Field) Words() string {
	v := f.String()
	for _, c := range f.Choices {
		if c.Value == v {
			return c.Label
		}
	}
	if v == "" {
		return "none"
	}
	v = strings.Replace(v, "-", "−", 1)
	if f.Unit == "" {
		return v
	}
	return v + " " + f.Unit
}

// Check returns an error where the value is out of its bounds.
func (f Field) Check() error {
	if f.Number != nil {
		if f.None && *f.Number == 0 || *f.Number >= f.Lo && *f.Number <= f.Hi {
			return nil
		}
		unit := f.Unit
		if unit != "" {
			unit = " " + unit
		}
		return fmt.Errorf("%s of %s%s is outside %s to %s", withArticle(f.Label), written(*f.Number), unit, written(f.Lo), written(f.Hi))
	}
	v := f.String()
	if f.None && v == "" {
		return nil
	}
	if f.Trigger { // the song knows its triggers
		return nil
	}
	for _, c := range f.Choices {
		if c.Value == v {
			return nil
		}
	}
	return fmt.Errorf("%s of %q is none of %s", withArticle(f.Label), v, f.listed())
}

// written is a number as it stands in a sentence, with a minus sign.
func written(v float64) string { return strings.Replace(fmt.Sprintf("%g", v), "-", "−", 1) }

func withArticle(noun string) string {
	if strings.ContainsRune("aeio", rune(strings.ToLower(noun)[0])) {
		return "an " + noun
	}
	return "a " + noun
}

// listed names the choices, "12, 24 and 48".
func (f Field) listed() string {
	var out []string
	for _, c := range f.Choices {
		out = append(out, c.Value)
	}
	return figure.List(out, "and")
}

// Set reads what was typed.
func (f Field) Set(text string) error {
	text = strings.TrimSpace(text)
	if f.None && (text == "" || text == "–") {
		text = "0"
		if f.Text != nil {
			text = ""
		}
	}
	switch {
	case f.Number != nil:
		v, err := Number(text, f.Unit)
		if err != nil {
			return fmt.Errorf("the %s %w", f.Label, err)
		}
		*f.Number = v
	case f.Whole != nil:
		v, err := strconv.Atoi(text)
		if err != nil {
			return fmt.Errorf("the %s: %q is none of %s", f.Label, text, f.listed())
		}
		*f.Whole = v
	default:
		*f.Text = text
	}
	return nil
}

// Zero sets it to nothing.
func (f Field) Zero() {
	switch {
	case f.Number != nil:
		*f.Number = 0
	case f.Whole != nil:
		*f.Whole = 0
	default:
		*f.Text = ""
	}
}

// Doc is the field's row in docs/session-format.md.
func (f Field) Doc() string {
	switch {
	case f.Trigger && f.None:
		return fmt.Sprintf("`%s` (id of a trigger, optional)", f.Name)
	case f.Trigger:
		return fmt.Sprintf("`%s` (id of a trigger)", f.Name)
	case f.Number != nil && f.None:
		return fmt.Sprintf("`%s` (%s, none or %g to %g%s)", f.Name, f.Label, f.Lo, f.Hi, spaced(f.Unit))
	case f.Number != nil:
		return fmt.Sprintf("`%s` (%s, %g to %g%s)", f.Name, f.Label, f.Lo, f.Hi, spaced(f.Unit))
	}
	return fmt.Sprintf("`%s` (%s: %s)", f.Name, f.Label, f.listed())
}

func spaced(unit string) string {
	if unit == "" {
		return ""
	}
	return " " + unit
}

// All checks fields that have a meaning, and returns the first refusal.
func All(fields []Field) error {
	for _, f := range fields {
		if f.Idle {
			continue
		}
		if err := f.Check(); err != nil {
			return err
		}
	}
	return nil
}

// Read sets the fields that a form has, by their names, and checks all.
func Read(fields []Field, form func(name string) (string, bool)) error {
	for _, f := range fields {
		if text, ok := form(f.Name); ok {
			if err := f.Set(text); err != nil {
				return err
			}
		}
	}
	return All(fields)
}
