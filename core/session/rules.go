package session

import "mellowthump/core/field"

// Rules are what the stages go by, by stage; nil: common practice.
type Rules struct {
	Levels  *Levels  `json:"levels,omitempty"`
	Targets Targets  `json:"duck"`
	Room    *Room    `json:"room,omitempty"`
	Body    *Body    `json:"body,omitempty"`
	Width   *Width   `json:"width,omitempty"`
	Compare *Compare `json:"compare,omitempty"`
	Print   *Print   `json:"print,omitempty"`
}

// fields are the values of all that are the song's own.
func (r *Rules) fields() [][]field.Field {
	all := [][]field.Field{r.Targets.Fields()}
	if r.Levels != nil {
		all = append(all, r.Levels.Fields())
	}
	if r.Room != nil {
		all = append(all, r.Room.Fields())
	}
	if r.Body != nil {
		all = append(all, r.Body.Fields())
	}
	if r.Width != nil {
		all = append(all, r.Width.Fields())
	}
	if r.Compare != nil {
		all = append(all, r.Compare.Fields())
	}
	if r.Print != nil {
		all = append(all, r.Print.Fields())
	}
	return all
}

// check returns the first refusal.
func (r *Rules) check() error {
	for _, fields := range r.fields() {
		if err := field.All(fields); err != nil {
			return err
		}
	}
	if r.Levels != nil {
		return r.Levels.check()
	}
	return nil
}

// Targets are what the judgements of kick and bass are made against. The defaults are common practice, with no published source.
type Targets struct {
	Clearance float64 `json:"clearance_db"` // of the kick, in 9 of 10 hits
	MaxDepth  float64 `json:"max_depth_db"` // cap of a duck

	Aim string `json:"aim,omitempty"` // what is asked of the pair: AimApart, AimClear, AimThere

	NoAhead bool `json:"no_lookahead,omitempty"` // a fit may not begin before the hit
	Follow  bool `json:"follow,omitempty"`       // a fitted curve's way back is shorter where the next hit is close
}

// What is asked of kick and bass in 9 of 10 hits.
const (
	AimApart = ""      // the clearance: they never meet
	AimClear = "clear" // the kick stands
	AimThere = "there" // the kick is there
)

// Aims are what may be asked, in the order from much to little, with what each is called.
var Aims = []struct{ Key, Name string }{{AimApart, "apart"}, {AimClear, "clear"}, {AimThere, "just heard"}}

// AimName is what the aim is called.
func (t Targets) AimName() string {
	for _, a := range Aims {
		if a.Key == t.Aim {
			return a.Name
		}
	}
	return t.Aim
}

// AimNamed is the aim that is called so; "heard" is just heard.
func AimNamed(name string) (aim string, ok bool) {
	if name == "heard" {
		return AimThere, true
	}
	for _, a := range Aims {
		if a.Name == name {
			return a.Key, true
		}
	}
	return "", false
}

// DefaultTargets are the values a new song starts with.
func DefaultTargets() Targets { return Targets{Clearance: 8, MaxDepth: 12} }

// Fields are its values.
func (t *Targets) Fields() []field.Field {
	return []field.Field{
		{Name: "clearance", Label: "clearance", Unit: "dB", Number: &t.Clearance, Lo: 0, Hi: 40, Step: 0.5},
		{Name: "aim", Label: "aim", Text: &t.Aim, Choices: field.Choices(AimApart, "apart", AimClear, "clear", AimThere, "just heard")},
		{Name: "depth", Label: "depth cap", Unit: "dB", Number: &t.MaxDepth, Lo: 0, Hi: 60, Step: 0.5},
	}
}
