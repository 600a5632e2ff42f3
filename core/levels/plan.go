package levels

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Anchor is what a plan of levels starts from.
type Anchor string

// The four anchors.
const (
	KickPeak  Anchor = "kick"      // the kick at a fixed peak, all else in its window relative to it
	Click     Anchor = "click"     // a melody set well below a 0 dBFS click, all else relative to it
	PinkNoise Anchor = "pink"      // each stem just audible over pink noise
	Reference Anchor = "reference" // the stems matched to the bands of a finished track
)

// Anchors lists the anchors with the words for them.
var Anchors = []struct {
	Anchor Anchor
	Label  string
}{{KickPeak, "Kick peak"}, {Click, "Click"}, {PinkNoise, "Pink noise"}, {Reference, "Reference"}}

// Options say how a plan is made. The zero value of a number is its default.
type Options struct {
	Anchor    Anchor
	Melody    string           // Click: the stem that is set first; empty: the loudest melodic one
	Under     float64          // Click: how far under the click it peaks, dB; 0: 18
	HoldBass  bool             // KickPeak: the bass is not raised against the kick, which it would bury
	Threshold float64          // PinkNoise: of the strongest critical band over the noise's, dB
	Sounds    map[string]Sound // Reference: what the stems sound like, by audio hash
	Finished  *meter.Spectrum  // Reference: the finished track
}

// DefaultUnder is how far under the click a melody is set: "well below", common practice with no
// published source.
const DefaultUnder = 18.0

// Change is one trim of a plan.
type Change struct {
	Stem, Bus string // ids; both empty: the master
	Name      string
	Step      session.Step
	From, To  float64 // dB
}

// Plan is a solved set of trims.
type Plan struct {
	Song    session.Song // with the trims made
	Changes []Change     // in the order of the steps, from source to master
	Blocked []string     // what could not be reached, and what prevents it
	Notes   []string
	Held    []string     // stems that stay where they stand against the kick, under their window
	Noise   meter.Figure // PinkNoise: the level of the noise that all is just audible over, dBFS RMS
	Before  *Ledger
	After   *Ledger
}

const (
	enough    = 0.05 // dB: nearer than this is reached
	leastTrim = 0.2  // dB: a part nearer to its place than this stays; nobody hears it
	muchTrim  = 12.0 // dB: to raise a part by this and more is warned of
	planTurns = 40   // renders at the most: buses within buses are seen to one after another
)

// ErrNothing is returned where there is nothing to plan.
var ErrNothing = errors.New("no stem is heard here, so there is nothing to plan")

// Solve plans the trims of a song over a window: the stems to their places by the anchor, at
// their first free step; then buses and premaster to their targets, the balance kept; never at
// a locked step.
func Solve(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, o Options) (*Plan, error) {
	before, err := Measure(ctx, r, song, w)
	if err != nil {
		return nil, err
	}
	if !before.Master.Out.Peak.Valid() {
		return nil, ErrNothing
	}
	p := &Plan{Song: song.Clone(), Before: before, Noise: meter.None}
	wants, err := anchor(ctx, r, before, w, o, p)
	if err != nil {
		return nil, err
	}
	s := &solver{plan: p, song: &p.Song, rules: song.LevelRules(), wants: wants}
	s.place()
	for moved, turn := true, 0; moved && turn <= planTurns; turn++ {
		if p.After, err = Measure(ctx, r, &p.Song, w); err != nil {
			return nil, err
		}
		moved = turn < planTurns && s.reduce(p.After)
	}
	s.check(p.After)
	p.Changes = changes(song, &p.Song)
	if !slices.ContainsFunc(p.Changes, func(c Change) bool { return math.Abs(c.To-c.From) > leastTrim-enough }) { // nobody would hear it
		p.Song, p.After, p.Changes = song.Clone(), before, nil
	}
	return p, nil
}

// want is what a stem, or the stems of a group together, should change by.
type want struct {
	stems []*session.Stem // of the song as it was
	db    float64
}

// solver works a plan out on its song.
type solver struct {
	plan  *Plan
	song  *session.Song
	rules session.Levels
	wants []want
}

func (s *solver) blocked(format string, args ...any) {
	if t := fmt.Sprintf(format, args...); !slices.Contains(s.plan.Blocked, t) {
		s.plan.Blocked = append(s.plan.Blocked, t)
	}
}

func (s *solver) note(format string, args ...any) {
	if t := fmt.Sprintf(format, args...); !slices.Contains(s.plan.Notes, t) {
		s.plan.Notes = append(s.plan.Notes, t)
	}
}

// stuck returns the first of some stems that is locked at every step.
func stuck(stems []*session.Stem) *session.Stem {
	for _, st := range stems {
		if _, ok := free(st); !ok {
			return st
		}
	}
	return nil
}

// place brings the stems to what the anchor wants.
func (s *solver) place() {
	for _, w := range s.wants {
		if math.Abs(w.db) < leastTrim {
			continue
		}
		if st := stuck(w.stems); st != nil {
			s.blocked("%s is locked at every step and stays where it is, %s from where it is wanted", st.Name, said(w.db))
			continue
		}
		for _, st := range w.stems {
			s.trim(st.ID, w.db)
		}
	}
}

// trim changes a stem at its first free step, within the bounds of a gain.
func (s *solver) trim(id string, db float64) {
	st := s.song.Stem(id)
	step, ok := free(st)
	if !ok {
		s.blocked("%s is locked at every step", st.Name)
		return
	}
	to := figure.Tenth(st.Gain(step) + db)
	if math.Abs(to) > session.MaxGain {
		s.blocked("%s would need %+.0f dB at its %s step; the bounds are %.0f to either side", st.Name, to, step, session.MaxGain)
		to = math.Copysign(session.MaxGain, to)
	}
	if to-st.Gain(step) >= muchTrim {
		s.note("%s is raised by %.1f dB: its noise comes up with it. A louder bounce is the better way", st.Name, to-st.Gain(step))
	}
	st.SetGain(step, to)
}

// up rounds a reduction to the next tenth of a dB: a limit is not passed by what rounding leaves.
func up(db float64) float64 { return math.Ceil(10*db-1e-6) / 10 }

// reduce brings buses and premaster nearer to their targets; it reports whether anything was
// changed. Where everything passes buses that are free, they all come down together and the
// balance holds. Else a bus that is over comes down alone, and the master does the rest. What is
// locked is done one step earlier, at the stems.
func (s *solver) reduce(l *Ledger) bool {
	need := figure.Tenth(float64(l.Master.Out.Peak) - s.rules.Premaster) // negative: there is room
	over := map[string]float64{}
	for _, b := range l.Buses {
		if d := up(float64(b.Out.Peak) - s.rules.Bus); d > enough {
			over[b.Bus.ID] = d
		}
	}
	r := routesOf(s.song)
	if r.together() || r.free && r.minor() && len(over) > 0 {
		cut := math.Inf(-1)
		for _, b := range l.Buses {
			if slices.Contains(r.layer, b.Bus.ID) {
				cut = max(cut, up(float64(b.Out.Peak)-s.rules.Bus))
			}
		}
		if r.together() {
			cut = max(cut, need)
		} else {
			cut = max(cut, 0)
		}
		if math.Abs(cut) > enough && s.cutLayer(r.layer, cut) {
			if len(r.straight) > 0 {
				s.note("What goes straight to the master (%s) stands %.1f dB higher against the rest.", names(r.straight), cut)
			}
			return true
		}
	}
	for i := len(l.Buses) - 1; i >= 0; i-- { // one at a time: what it does to others is measured
		if id := l.Buses[i].Bus.ID; over[id] > 0 && s.cutBus(id, over[id]) {
			return true
		}
	}
	switch {
	case math.Abs(need) <= enough || len(over) > 0 && need <= 0:
		return false
	case !s.song.Master.Locked():
		to := figure.Tenth(s.song.Master.Fader - need)
		if math.Abs(to) > session.MaxGain {
			return false
		}
		s.song.Master.Fader = to
		return true
	case r.together(): // the buses did what they may
		return false
	}
	if !s.cutStems("", need) {
		return false
	}
	s.note("The master is locked, so the stems themselves move one step earlier and may leave their windows.")
	return true
}

func names(stems []*session.Stem) string {
	var out []string
	for _, st := range stems {
		out = append(out, st.Name)
	}
	return strings.Join(out, ", ")
}

// routes is how what is heard comes to the master.
type routes struct {
	layer    []string        // buses of which everything else passes exactly one
	straight []*session.Stem // stems that pass none
	free     bool            // none of the layer is locked
}

// together reports whether all can be turned at once by the buses.
func (r routes) together() bool { return len(r.layer) > 0 && r.free && len(r.straight) == 0 }

// minor reports whether what goes straight to the master is nothing that the beat stands on.
func (r routes) minor() bool {
	return len(r.layer) > 0 && !slices.ContainsFunc(r.straight, func(st *session.Stem) bool {
		return st.Role == session.Kick || st.Role == session.Bass || st.Role == session.Snare
	})
}

// routesOf finds the layer: the buses that stems come to first or, where some of these lie within
// others, those before the master.
func routesOf(song *session.Song) routes {
	r := routes{free: true}
	direct := map[string]bool{}
	for i := range song.Stems {
		st := &song.Stems[i]
		if st.Mute {
			continue
		}
		if st.Bus == "" {
			r.straight = append(r.straight, st)
		} else {
			direct[st.Bus] = true
		}
		for _, e := range st.Sends {
			direct[e.Bus] = true
		}
	}
	nested := false
	fed := map[string]bool{}
	for id := range direct {
		for k, b := range song.Path(id) {
			fed[b.ID] = true
			nested = nested || k > 0 && direct[b.ID]
		}
	}
	for i := range song.Buses {
		b := &song.Buses[i]
		if !nested && direct[b.ID] || nested && b.Bus == "" && fed[b.ID] {
			r.layer = append(r.layer, b.ID)
			r.free = r.free && !b.Locked()
		}
	}
	return r
}

// cutLayer turns all buses of the layer down by dB.
func (s *solver) cutLayer(layer []string, db float64) bool {
	for _, id := range layer {
		if b := s.song.Bus(id); math.Abs(b.Fader-db) > session.MaxGain {
			s.blocked("%s would need %+.0f dB at its fader", b.Name, b.Fader-db)
			return false
		}
	}
	for _, id := range layer {
		b := s.song.Bus(id)
		b.Fader = figure.Tenth(b.Fader - db)
	}
	return true
}

// cutBus turns one bus down by dB: at its fader or, where that is locked, one step earlier.
func (s *solver) cutBus(id string, db float64) bool {
	b := s.song.Bus(id)
	if b.Locked() {
		if !s.cutStems(id, db) {
			return false
		}
		s.note("%s is locked, so its stems move one step earlier and may leave their windows.", b.Name)
		return true
	}
	if b.Fader-db < -session.MaxGain {
		return false
	}
	b.Fader = figure.Tenth(b.Fader - db)
	s.note("%s comes down alone, so the balance with the rest is not what the stems' own peaks say.", b.Name)
	return true
}

// cutStems turns all stems that come to a bus ("" is the master) down by dB, or none where one of
// them cannot be turned.
func (s *solver) cutStems(bus string, db float64) bool {
	stems := stemsOf(s.song, bus)
	if holder(s.song, stems) != "" || len(stems) == 0 {
		return false // check says so
	}
	for _, st := range stems {
		s.trim(st.ID, -db)
	}
	return true
}

// stemsOf lists what is heard of the stems that come to a bus ("" is the master), and with one
// layer of a kick or one bass the others: they are one sound, whose balance stays.
func stemsOf(song *session.Song, bus string) []*session.Stem {
	in := func(st *session.Stem) bool { return !st.Mute && (bus == "" || comesTo(song, st, bus)) }
	with := map[session.Role]bool{}
	for i := range song.Stems {
		if st := &song.Stems[i]; in(st) && (st.Role == session.Kick || st.Role == session.Bass) {
			with[st.Role] = true
		}
	}
	var out []*session.Stem
	for i := range song.Stems {
		if st := &song.Stems[i]; !st.Mute && (in(st) || with[st.Role]) {
			out = append(out, st)
		}
	}
	return out
}

// comesTo reports whether a stem comes to a bus, by its own way or by a send.
func comesTo(song *session.Song, st *session.Stem, bus string) bool {
	if song.Reaches(st, bus) {
		return true
	}
	return slices.ContainsFunc(st.Sends, func(e session.Send) bool {
		return slices.ContainsFunc(song.Path(e.Bus), func(b *session.Bus) bool { return b.ID == bus })
	})
}

// holder names a stem that cannot be turned for a bus's sake, and why; empty where all can.
func holder(song *session.Song, stems []*session.Stem) string {
	for _, st := range stems {
		if _, ok := free(st); !ok {
			return "every step of " + st.Name + " is locked too"
		}
		if _, ok := song.Window(st.Role, commonAnchor); !ok {
			return st.Name + " has no role, so it has no place to be moved from"
		}
	}
	return ""
}

const commonAnchor = -7 // dBFS: only whether there is a window is asked

// check says what was not reached, and why.
func (s *solver) check(l *Ledger) {
	reason := func(bus string) string {
		return holder(s.song, stemsOf(s.song, bus))
	}
	for _, b := range l.Buses {
		over := float64(b.Out.Peak) - s.rules.Bus
		if over <= enough {
			continue
		}
		why := "its fader has reached its bound"
		if b.Bus.Locked() {
			why = "its fader is locked"
			if r := reason(b.Bus.ID); r != "" {
				why += ", and " + r
			}
		}
		s.blocked("%s stays %s over its line of %s: %s", b.Bus.Name, said(over), at(meter.Figure(s.rules.Bus)), why)
	}
	if off := float64(l.Master.Out.Peak) - s.rules.Premaster; math.Abs(off) > 0.15 {
		where, why := "over", "the master has reached its bound"
		if off < 0 {
			where = "under"
		}
		switch {
		case s.song.Master.Locked() && routesOf(s.song).together():
			why = "the master is locked, and the buses have reached their line"
		case s.song.Master.Locked():
			why = "the master is locked"
			if r := reason(""); r != "" {
				why += ", and " + r
			}
		}
		s.blocked("The premaster stays %s %s its aim of %s: %s", said(off), where, at(meter.Figure(s.rules.Premaster)), why)
	}
	for _, c := range changes(s.plan.Before.Song, s.song) {
		if c.Stem != "" && math.Abs(c.To) > bigTrim && math.Abs(c.From) <= bigTrim {
			s.note("%s would be trimmed by %s dB: change the source instead, if it can be changed.", c.Name, figure.ShortPlus(c.To))
		}
	}
}

// changes lists what differs between two states of a song, from source to master.
func changes(was, now *session.Song) []Change {
	var out []Change
	for _, step := range session.StemSteps {
		for i := range now.Stems {
			st, old := &now.Stems[i], &was.Stems[i]
			if a, b := old.Gain(step), st.Gain(step); math.Abs(a-b) > 1e-9 {
				out = append(out, Change{Stem: st.ID, Name: st.Name, Step: step, From: a, To: b})
			}
		}
	}
	for i := range now.Buses {
		if a, b := was.Buses[i].Fader, now.Buses[i].Fader; math.Abs(a-b) > 1e-9 {
			out = append(out, Change{Bus: now.Buses[i].ID, Name: now.Buses[i].Name, Step: session.BusStep, From: a, To: b})
		}
	}
	if a, b := was.Master.Fader, now.Master.Fader; math.Abs(a-b) > 1e-9 {
		out = append(out, Change{Name: "Master", Step: session.MasterStep, From: a, To: b})
	}
	return out
}

// Trims returns what each stem's file is to change by where the plan is carried out before the
// stems are bounced again: the sum of its changes from source to track.
func (p *Plan) Trims() []session.Trim {
	var out []session.Trim
	for i := range p.Song.Stems {
		st, was := &p.Song.Stems[i], &p.Before.Song.Stems[i]
		db := 0.0
		for _, step := range session.StemSteps {
			db += st.Gain(step) - was.Gain(step)
		}
		if db = figure.Tenth(db); db != 0 {
			out = append(out, session.Trim{Stem: st.ID, Audio: st.Audio, DB: db})
		}
	}
	return out
}

// Edit makes the plan's trims.
func (p *Plan) Edit() session.Edit {
	out := session.Together{Said: fmt.Sprintf("Apply the plan: %d trims", len(p.Changes))}
	if len(p.Changes) == 1 {
		out.Said = "Apply the plan: 1 trim"
	}
	for _, c := range p.Changes {
		out.Edits = append(out.Edits, session.Gain{At: session.At{Stem: c.Stem, Bus: c.Bus}, Step: c.Step, DB: c.To})
	}
	return out
}
