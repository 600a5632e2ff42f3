package session

import (
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/audio"
	"mellowthump/core/figure"
	"mellowthump/core/move"
)

// SetDuck gives the song its duck; nil takes it away.
type SetDuck struct {
	Duck *move.Duck
	Off  bool
	Why  string
	Said string // empty: nothing changed
	Fit  bool   // it is what a fit made of the song: Why holds until what it went by changes
}

// Apply puts it on the part that makes room.
func (e SetDuck) Apply(s *Song) (string, error) {
	if e.Duck != nil {
		if err := e.Duck.Validate(); err != nil {
			return "", err
		}
	}
	s.SetDuck(e.Duck, e.Off, e.Why)
	if e.Fit {
		s.FitOf = s.fitStamp()
	}
	return e.Said, nil
}

// Rise raises the mix at the master's fader, or parts at theirs, for what its ducks freed.
type Rise struct {
	DB    float64
	Parts []At // empty: the mix
}

// Apply raises it, and notes it: what was given once is not given again.
func (e Rise) Apply(s *Song) (string, error) {
	if len(e.Parts) == 0 && s.Master.Locked() {
		return "", errors.New("the master's fader is locked")
	}
	s.Raised = figure.Tenth(s.Raised + e.DB)
	var names []string
	for _, at := range e.Parts {
		st, b := s.Stem(at.Stem), s.Bus(at.Bus)
		switch {
		case st != nil && !st.Locked(TrackStep):
			st.Fader = figure.Tenth(st.Fader + e.DB)
			names = append(names, st.Name)
		case b != nil && !b.Locked():
			b.Fader = figure.Tenth(b.Fader + e.DB)
			names = append(names, b.Name)
		case st != nil:
			return "", fmt.Errorf("the fader of %s is locked", st.Name)
		case b != nil:
			return "", fmt.Errorf("the fader of %s is locked", b.Name)
		default:
			return "", errNoPlace(at)
		}
	}
	if len(names) > 0 {
		return fmt.Sprintf("Raise %s by the %.1f dB that the ducks freed", strings.Join(names, ", "), e.DB), nil
	}
	s.Master.Fader = figure.Tenth(s.Master.Fader + e.DB)
	return fmt.Sprintf("Raise the mix by the %.1f dB that the ducks freed", e.DB), nil
}

// SetTargets sets what the judgements are made against.
type SetTargets struct{ Targets Targets }

// Apply sets them.
func (e SetTargets) Apply(s *Song) (string, error) {
	was := s.Targets
	if was == e.Targets {
		return "", nil
	}
	s.Targets = e.Targets
	if was.Aim != s.Targets.Aim {
		return "Aim: " + s.Targets.AimName(), nil
	}
	ahead := ""
	if was.NoAhead != s.Targets.NoAhead {
		ahead = map[bool]string{true: ", no look-ahead", false: ", with look-ahead"}[s.Targets.NoAhead]
	}
	if was.Follow != s.Targets.Follow {
		ahead += map[bool]string{true: ", release by the gap", false: ", one release for all"}[s.Targets.Follow]
	}
	return fmt.Sprintf("Ask %g dB of clearance, at most %g dB of depth%s", s.Targets.Clearance, s.Targets.MaxDepth, ahead), nil
}

// PartDepth sets by how much a part ducks to a trigger; 0 takes its duck out.
type PartDepth struct {
	At      At
	Trigger string
	Depth   float64 // dB, over 0
}

// DuckTo returns a chain's duck to a trigger, on or off; nil where it has none.
func DuckTo(chain move.Chain, trigger string) *move.Move {
	for i := range chain {
		if d, ok := chain[i].Params.(*move.Duck); ok && d.Trigger == trigger {
			return &chain[i]
		}
	}
	return nil
}

// BusDuck is how the id of a bus's own duck begins.
const BusDuck = "duck-bus-"

// Apply draws the duck in the shape of the song's own where that is a curve, else in a usual one.
func (e PartDepth) Apply(s *Song) (string, error) {
	t := s.Trigger(e.Trigger)
	chain, name := s.Chain(e.At)
	switch {
	case t == nil:
		return "", errNoHits
	case chain == nil:
		return "", errNoPlace(e.At)
	case e.Depth > -move.DuckFloor:
		return "", fmt.Errorf("a depth of %g dB is over %g", e.Depth, -move.DuckFloor)
	}
	own := BusDuck + e.At.Bus
	if st := s.Stem(e.At.Stem); st != nil {
		if slices.Contains(s.Sources(t), st) {
			return "", fmt.Errorf("%s gives this trigger's hits, so it cannot duck to it", st.Name)
		}
		if st.Role == s.Ducked() && e.Trigger == s.DuckTrigger() {
			return "", fmt.Errorf("the %s's own duck is set above", s.Ducked())
		}
		own = PartDuck + st.ID
	}
	m := move.Move{ID: own}
	if had := DuckTo(*chain, e.Trigger); had != nil {
		m.ID = had.ID
	} else if chain.Move(own) != nil { // it ducks to another already
		m.ID = own + "-" + e.Trigger
	}
	if e.Depth > 0 {
		m.Params = s.partDuck(e.Trigger, e.Depth)
	}
	*chain = chain.With(m)
	if err := s.Validate(); err != nil {
		return "", err
	}
	if e.Depth == 0 {
		return name + " ducks no more to " + t.Name, nil
	}
	return fmt.Sprintf("%s ducks by %s dB to %s", name, figure.Signed(e.Depth, 1), t.Name), nil
}

// PartShape gives the duck of a part to a trigger a shape of its own, at the depth that it has.
type PartShape struct {
	At      At
	Trigger string
	Shape   move.Shape
}

// Apply shapes it.
func (e PartShape) Apply(s *Song) (string, error) {
	chain, name := s.Chain(e.At)
	t := s.Trigger(e.Trigger)
	if chain == nil || t == nil {
		return "", errNoPlace(e.At)
	}
	had := DuckTo(*chain, e.Trigger)
	if had == nil || strings.HasPrefix(had.ID, mainDuck) && !strings.HasPrefix(had.ID, BusDuck) {
		return "", fmt.Errorf("%s has no duck of its own to %s", name, t.Name)
	}
	was, err := had.Params.(*move.Duck).AtTempo(s.BPM)
	if err != nil {
		return "", err
	}
	if was.Keyed() {
		return "", fmt.Errorf("%s listens to %s: its detector shapes it", name, t.Name)
	}
	if was.Shape() == e.Shape {
		return "", nil
	}
	m := *had
	if m.Params, err = was.Shaped(e.Shape); err != nil {
		return "", err
	}
	*chain = chain.With(m)
	return fmt.Sprintf("Shape %s's duck to %s: held to %s ms, back by %s", name, t.Name, figure.Short(e.Shape.Back.MS), figure.Short(e.Shape.End.MS)), nil
}

// partDuck draws a duck for a part.
func (s *Song) partDuck(trigger string, depth float64) *move.Duck {
	shape := move.StartingDuck()
	if d, _ := s.Duck(); d != nil && s.Leader == KickLeads && !d.Keyed() && d.Depth() < 0 {
		shape = d
	}
	out := &move.Duck{School: move.CurveSchool, Trigger: trigger}
	for _, p := range shape.Points {
		p.DB = math.Round(10*p.DB*depth/-shape.Depth())/10 + 0
		out.Points = append(out.Points, p)
	}
	return out
}

// StartingDuck is what drawing begins with. Where the bass leads it is on the kick, whose attack stays.
func (s *Song) StartingDuck() *move.Duck {
	d := move.StartingDuck()
	if s.Leader == BassLeads {
		d.Points = []move.Point{{MS: 20}, {MS: 30, DB: -6}, {MS: 250, DB: -6}, {MS: 300}}
	}
	d.Trigger = s.DuckTrigger()
	return d
}

// longestTrigger is the most characters of a trigger's name: it heads a narrow column.
const longestTrigger = 40

// AddTrigger makes a trigger of several stems, a bus, the song's grid or notes; its id is made here.
type AddTrigger struct{ Trigger Trigger }

// Apply adds it.
func (e AddTrigger) Apply(s *Song) (string, error) {
	t := e.Trigger
	if t.Stem == "" && len(t.Stems) == 0 && t.Bus == "" && !t.Clicks() {
		return "", errors.New("tick the stems whose hits count, or choose a bus, type a note value for a grid, or bring a MIDI file")
	}
	id := 1
	for s.Trigger(fmt.Sprintf("t%d", id)) != nil {
		id++
	}
	t.ID = fmt.Sprintf("t%d", id)
	if t.Name == "" {
		var names []string
		for _, st := range s.Sources(&t) {
			names = append(names, st.Name)
		}
		t.Name = strings.Join(names, " + ")
		if b := s.Bus(t.Bus); b != nil {
			t.Name = b.Name
		}
	}
	if name := []rune(t.Name); len(name) > longestTrigger {
		t.Name = string(name[:longestTrigger-1]) + "…"
	}
	s.Triggers = append(s.Triggers, t)
	return "Add the trigger " + t.Name, nil
}

// RemoveTrigger takes a trigger out that nothing ducks to.
type RemoveTrigger struct{ ID string }

// Apply takes it out.
func (e RemoveTrigger) Apply(s *Song) (string, error) {
	t := s.Trigger(e.ID)
	if t == nil || t.ID == KickTrigger {
		return "", errors.New("that trigger stays")
	}
	name := t.Name
	s.Triggers = slices.DeleteFunc(s.Triggers, func(o Trigger) bool { return o.ID == e.ID })
	if err := s.Validate(); err != nil {
		return "", fmt.Errorf("something still ducks to it: %w", err)
	}
	return "Take the trigger " + name + " out", nil
}

// MainTrigger chooses the trigger of the song's own duck.
type MainTrigger struct{ ID string }

// Apply sets it; a depth that followed notes is the same for all again.
func (e MainTrigger) Apply(s *Song) (string, error) {
	t := s.Trigger(e.ID)
	was, off := s.Duck()
	switch {
	case t == nil:
		return "", errNoHits
	case was == nil:
		return "", errors.New("there is no duck yet; press Fit, or draw one")
	case was.Trigger == t.ID:
		return "", nil
	}
	for _, st := range s.Sources(t) {
		if st.Role == s.Ducked() && s.Leader != BassLeads {
			return "", fmt.Errorf("%s gives this trigger's hits, so it cannot duck to it", st.Name)
		}
	}
	d := *was // what else ducks to that trigger goes
	d.Trigger, d.Parts = t.ID, nil
	s.SetDuck(&d, off, "")
	return fmt.Sprintf("The %s ducks to %s", s.Ducked(), t.Name), nil
}

// EditHits puts hits of the kick in, and leaves others out: a hit that is moved is left out where it was and put in where
// it is.
type EditHits struct {
	In, Out []float64 // s
	Said    string    // empty: it is said by the hits
}

// Apply notes it; what was put in by hand is taken out again, what was left out by hand is there again.
func (e EditHits) Apply(s *Song) (string, error) {
	t := s.Trigger(KickTrigger)
	if t == nil {
		return "", errNoKick
	}
	for _, at := range slices.Concat(e.In, e.Out) {
		if !(at >= 0 && at <= audio.MaxSeconds) {
			return "", fmt.Errorf("%g s lies outside the song", at)
		}
	}
	near := func(at float64) func(float64) bool {
		return func(v float64) bool { return math.Abs(v-at) <= move.HitNear }
	}
	t.Added, t.Removed = slices.Clone(t.Added), slices.Clone(t.Removed)
	for _, at := range e.Out {
		n := len(t.Added)
		if t.Added = slices.DeleteFunc(t.Added, near(at)); len(t.Added) == n && !slices.ContainsFunc(t.Removed, func(v float64) bool { return v == at }) {
			t.Removed = append(t.Removed, at)
		}
	}
	for _, at := range e.In {
		if len(e.Out) == 0 && slices.ContainsFunc(t.Removed, near(at)) { // nothing is moved: what was left out is wanted again
			t.Removed = slices.DeleteFunc(t.Removed, near(at))
			continue
		}
		t.Added = append(slices.DeleteFunc(t.Added, near(at)), at)
	}
	slices.Sort(t.Added)
	slices.Sort(t.Removed)
	return e.says(s), nil
}

func (e EditHits) says(s *Song) string {
	switch {
	case e.Said != "":
		return e.Said
	case len(e.In) == 1 && len(e.Out) == 1:
		return "Move the hit at " + s.Position(e.Out[0]) + " to " + s.Position(e.In[0])
	case len(e.Out) == 1:
		return "Leave out the hit at " + s.Position(e.Out[0])
	case len(e.In) == 1:
		return "Put a hit in at " + s.Position(e.In[0])
	case len(e.Out) > 0:
		return fmt.Sprintf("Leave out %d hits", len(e.Out))
	case len(e.In) > 0:
		return fmt.Sprintf("Put %d hits in", len(e.In))
	}
	return ""
}

var errNoKick = errors.New("there is no kick whose hits could be changed")

// FoundHits gives the kick's hits back as they were found.
type FoundHits struct{}

// Apply drops what was changed by hand.
func (FoundHits) Apply(s *Song) (string, error) {
	t := s.Trigger(KickTrigger)
	if t == nil {
		return "", errNoKick
	}
	if len(t.Added)+len(t.Removed) == 0 {
		return "", nil
	}
	t.Added, t.Removed = nil, nil
	return "The kick's hits as they were found", nil
}

// SwitchPost takes the kick's sound behind its fader, or before it again.
type SwitchPost struct{}

// Apply turns it.
func (SwitchPost) Apply(s *Song) (string, error) {
	t := s.Trigger(KickTrigger)
	if t == nil {
		return "", errNoKick
	}
	t.Post = !t.Post
	return map[bool]string{true: "Trigger behind the fader", false: "Trigger before the fader"}[t.Post], nil
}

// Listening says which of the kick's found hits count; what is nil stays.
type Listening struct {
	Quiet *float64 // how far one may stay under those around it, dB
	Sense *float64 // 0 to 1: a doubtful one counts from a confidence of 1 less this on
	Gap   *float64 // of those closer than this the first counts, ms
}

// Apply sets it.
func (e Listening) Apply(s *Song) (string, error) {
	t := s.Trigger(KickTrigger)
	if t == nil || s.TriggerStem() == nil {
		return "", errNoKick
	}
	var said []string
	if e.Quiet != nil && *e.Quiet != t.QuietDB() {
		if !(*e.Quiet >= LeastQuiet && *e.Quiet <= MostQuiet) {
			return "", fmt.Errorf("a threshold of %g dB is out of bounds; %g to %g dB are taken", *e.Quiet, LeastQuiet, MostQuiet)
		}
		t.Quiet = *e.Quiet
		said = append(said, fmt.Sprintf("down to %g dB under the others", t.Quiet))
	}
	if e.Sense != nil && *e.Sense != t.Sense {
		t.Sense = *e.Sense
		said = append(said, map[bool]string{true: fmt.Sprintf("doubtful ones from %.0f %% sure on", 100*(1-t.Sense)), false: "no doubtful ones"}[t.Sense > 0])
	}
	if e.Gap != nil && *e.Gap != t.Gap {
		t.Gap = *e.Gap
		said = append(said, fmt.Sprintf("%g ms apart at least", t.Gap))
	}
	if len(said) == 0 {
		return "", nil
	}
	return "Hits: " + strings.Join(said, ", "), nil
}
