package move

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strconv"
	"strings"
	"unicode"
)

// Field is one value of a move: it points into the parameters. From it come the form on the page, its reading
// and its refusals, the words for the value, and its row in docs/session-format.md.
type Field struct {
	Name  string // in JSON, dots between objects, and in forms
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

func choices(values ...string) []Choice {
	var out []Choice
	for i := 0; i+1 < len(values); i += 2 {
		out = append(out, Choice{values[i], values[i+1]})
	}
	return out
}

// slopes are the slopes of Butterworth filters, dB per octave.
var slopes = choices("12", "12 dB per octave", "24", "24 dB per octave", "48", "48 dB per octave")

// channelChoices are the parts of a stereo sound that a move may work on.
var channelChoices = choices("mid", "mid", "side", "side")

// Lower is the kind's label inside a sentence.
func (k *Kind) Lower() string {
	r := []rune(k.Label)
	return string(unicode.ToLower(r[0])) + string(r[1:])
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

// check returns an error where the value is out of its bounds.
func (f Field) check() error {
	if f.Number != nil {
		if f.None && *f.Number == 0 || *f.Number >= f.Lo && *f.Number <= f.Hi {
			return nil
		}
		unit := f.Unit
		if unit != "" {
			unit = " " + unit
		}
		return fmt.Errorf("%s of %g%s is outside %g to %g", withArticle(f.Label), *f.Number, unit, f.Lo, f.Hi)
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
	if n := len(out); n > 1 {
		return strings.Join(out[:n-1], ", ") + " and " + out[n-1]
	}
	return strings.Join(out, "")
}

// set reads what was typed.
func (f Field) set(text string) error {
	text = strings.TrimSpace(text)
	if f.None && (text == "" || text == "–") {
		text = "0"
		if f.Text != nil {
			text = ""
		}
	}
	switch {
	case f.Number != nil:
		v, err := ParseNumber(text, f.Unit)
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

// Validate returns an error in plain words where a value is out of its range.
func Validate(p Params) error {
	for _, f := range p.Fields() {
		if f.Idle {
			continue
		}
		if err := f.check(); err != nil {
			return err
		}
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
			f.zero()
		case ok:
			if err := f.set(text); err != nil {
				return err
			}
		case !f.Trigger && f.check() != nil: // brought to life in this form
			if v, ok := defaults[f.Name]; !ok && f.Number != nil {
				*f.Number = f.Default
			} else if err := f.set(v); err != nil {
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
			f.zero()
		}
	}
	return p
}

func (f Field) zero() {
	switch {
	case f.Number != nil:
		*f.Number = 0
	case f.Whole != nil:
		*f.Whole = 0
	default:
		*f.Text = ""
	}
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
