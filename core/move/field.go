package move

import (
	"encoding/json"
	"fmt"
	"reflect"
	"strings"
	"unicode"

	"mellowthump/core/field"
)

// slopes are the slopes of Butterworth filters, dB per octave.
var slopes = field.Choices("12", "12 dB per octave", "24", "24 dB per octave", "48", "48 dB per octave")

// channelChoices are the parts of a stereo sound that a move may work on.
var channelChoices = field.Choices("mid", "mid", "side", "side")

// Lower is the kind's label inside a sentence.
func (k *Kind) Lower() string {
	r := []rune(k.Label)
	return string(unicode.ToLower(r[0])) + string(r[1:])
}

// Validate returns an error in plain words where a value is out of its range.
func Validate(p Params) error {
	if err := field.All(p.Fields()); err != nil {
		return err
	}
	if c, ok := p.(Checker); ok {
		return c.Check()
	}
	return nil
}

// Read sets the fields that a form has, by their names, and checks the whole. A field that another brings to
// life may be read in the same form.
func Read(p Params, form func(name string) (string, bool)) error {
	defaults := map[string]string{}
	for _, f := range p.Kind().New().Fields() {
		defaults[f.Name] = f.String()
	}
	for i := range p.Fields() {
		f := p.Fields()[i] // what came before may have changed what this one is
		text, ok := form(f.Name)
		switch {
		case f.Idle:
			f.Zero()
		case ok:
			if err := f.Set(text); err != nil {
				return err
			}
		case !f.Trigger && f.Check() != nil: // brought to life in this form
			if v, ok := defaults[f.Name]; !ok && f.Number != nil {
				*f.Number = f.Default
			} else if err := f.Set(v); err != nil {
				return err
			}
		}
	}
	return Validate(p)
}

// Fresh returns the kind's parameters as they are put in, with nothing in what has no meaning.
func (k *Kind) Fresh() Params {
	p := k.New()
	for _, f := range p.Fields() {
		if f.Idle {
			f.Zero()
		}
	}
	return p
}

// Words says a move in general terms, to be set by hand elsewhere.
func Words(p Params) string {
	if w, ok := p.(Worded); ok {
		return w.Words()
	}
	var out []string
	for _, f := range p.Fields() {
		if !f.Idle && !f.Trigger {
			out = append(out, f.Label+" "+f.Words())
		}
	}
	if len(out) == 0 {
		return p.Kind().Lower()
	}
	return strings.Join(out, ", ")
}

// Changed says what of a move is new, for the list of changes: one field where only that differs.
func Changed(was, now Params) string {
	if was != nil && was.Kind() == now.Kind() {
		a, b := was.Fields(), now.Fields()
		var one []string
		for i := range b {
			if i < len(a) && !b[i].Idle && (a[i].Idle || a[i].String() != b[i].String()) {
				one = append(one, b[i].Label+" "+b[i].Words())
			}
		}
		switch len(one) {
		case 0:
			return ""
		case 1:
			return one[0]
		}
	}
	return Words(now)
}

// Copy returns parameters of their own, equal to these.
func Copy(p Params) Params {
	b, err := json.Marshal(p)
	out := p.Kind().blank()
	if err == nil {
		err = json.Unmarshal(b, out)
	}
	if err != nil {
		panic(fmt.Sprintf("move: parameters did not survive JSON: %v", err))
	}
	return out
}

// blank returns the kind's parameters with nothing in them.
func (k *Kind) blank() Params {
	p := k.New()
	reflect.ValueOf(p).Elem().SetZero()
	return p
}

// Doc is the kind's row in docs/session-format.md.
func (k *Kind) Doc() string {
	var fields []string
	for _, f := range k.New().Fields() {
		fields = append(fields, f.Doc())
	}
	if d, ok := k.New().(interface{ Doc() string }); ok {
		fields = append(fields, d.Doc())
	}
	if len(fields) == 0 {
		fields = []string{"none"}
	}
	return fmt.Sprintf("| `%s` | %s | %s | %s |", k.Name, k.Where, k.Does, strings.Join(fields, "; "))
}
