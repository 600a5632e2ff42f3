package levels

import (
	"fmt"
	"math"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

const (
	bigTrim    = 12.0  // dB at one step: the source is to be changed; common practice, no published source
	thrownAway = 6.0   // dB taken away at one step and given back at a later one
	inaudible  = -20.0 // dB under the others in every third-octave band (own definition)
	bandFloor  = 40.0  // dB under a stem's own loudest band: what counts of it
)

// Sound is what a file sounds like, as far as it bears on levels.
type Sound struct {
	Spectrum meter.Spectrum
	Sustain  float64 // share of the time in which it is heard
}

// Judge lists the findings of a ledger, the worst first. sounds are by audio hash; position
// names a frame of the song.
func Judge(l *Ledger, sounds map[string]Sound, position func(frame int) string) []find.Finding {
	var out []find.Finding
	out = append(out, l.lostTriggers()...)
	out = append(out, l.clipping(position)...)
	out = append(out, l.buses()...)
	out = append(out, l.order()...)
	out = append(out, l.outside()...)
	out = append(out, l.trims()...)
	out = append(out, l.unheard(sounds)...)
	for i := range out {
		out[i].Apply = "Apply: " + out[i].Do
		if out[i].Group == find.Plan {
			out[i].Own = []find.Measure{Furthest}
		}
	}
	return out
}

// Furthest is how far the stem furthest from its window lies off it.
var Furthest = find.Measure{Figure: "offwindow", In: find.AtMost(enough)}

// free returns the first step of a stem that is not locked; ok is false where all are.
func free(st *session.Stem) (session.Step, bool) {
	for _, step := range session.StemSteps {
		if !st.Locked(step) {
			return step, true
		}
	}
	return "", false
}

// trimBy returns the edit that changes a stem by dB at its first free step.
func trimBy(st *session.Stem, db float64) []session.Edit {
	step, ok := free(st)
	if !ok {
		return nil
	}
	return []session.Edit{session.Gain{At: session.At{Stem: st.ID}, Step: step, DB: figure.Tenth(st.Gain(step) + db)}}
}

// said shows dB in a sentence.
func said(db float64) string { return fmt.Sprintf("%.1f dB", math.Abs(db)) }

// at shows a level in a sentence.
func at(peak meter.Figure) string { return figure.ShortPlus(float64(peak)) + " dBFS" }

func (l *Ledger) lostTriggers() []find.Finding {
	var out []find.Finding
	for i := range l.Song.Stems {
		st := &l.Song.Stems[i]
		m, d := st.DuckMove()
		if d == nil || m.Off {
			continue
		}
		t := l.Song.Trigger(d.Trigger)
		if t == nil || l.Song.TriggerArrives(t) {
			continue
		}
		from, to := l.Song.Stem(t.Stem), l.Song.Bus(t.At)
		if from == nil || to == nil {
			continue
		}
		where := "straight to the master"
		if p := l.Song.Path(from.Bus); len(p) > 0 {
			where = "to " + p[0].Name
		}
		out = append(out, find.Finding{
			ID:   find.ID("lost-trigger", st.ID),
			What: fmt.Sprintf("%s no longer ducks: its trigger does not arrive", st.Name),
			Why:  fmt.Sprintf("The trigger is taken at %s, and %s now goes %s.", to.Name, from.Name, where),
			Hear: "both", Fix: []session.Edit{session.TakeAtStem{Trigger: t.ID}}, Do: fmt.Sprintf("take it at %s itself", from.Name),
			Own: []find.Measure{{Figure: "p10", In: find.AtLeast(l.Song.Targets.Clearance - 0.05)}},
		})
	}
	return out
}

// clipping tells what goes over full scale at the step where it does so first.
func (l *Ledger) clipping(position func(int) string) []find.Finding {
	var out []find.Finding
	over := map[string]bool{} // buses that hold something that is told already
	mark := func(bus string) {
		over[""] = true
		for _, b := range l.Song.Path(bus) {
			over[b.ID] = true
		}
	}
	for _, row := range l.Rows {
		if row.Stem.Mute {
			continue
		}
		for _, step := range session.StemSteps {
			if lv := row.Levels.Steps[step]; lv.Peak > 0 {
				out = append(out, find.Finding{
					Group: find.Plan, ID: find.ID("over-full-scale", row.Stem.ID),
					What: fmt.Sprintf("%s goes over full scale at the %s step, by %s", row.Stem.Name, step, said(float64(lv.Peak))),
					Why:  fmt.Sprintf("Its worst sample is at %s. What comes after cannot give back what is cut off there.", position(lv.At)),
					Hear: "all", Fix: trimBy(row.Stem, -math.Ceil(10*float64(lv.Peak)+1)/10), Do: "turn it down at its first free step",
				})
				mark(row.Stem.Bus)
				break
			}
		}
	}
	for i := len(l.Buses) - 1; i >= 0; i-- {
		b := l.Buses[i]
		if b.Out.Peak <= 0 || over[b.Bus.ID] || l.childOver(b.Bus.ID) {
			continue
		}
		f := find.Finding{
			Group: find.Plan, ID: find.ID("over-full-scale", "bus", b.Bus.ID),
			What: fmt.Sprintf("%s goes over full scale at the bus, by %s", b.Bus.Name, said(float64(b.Out.Peak))),
			Why: fmt.Sprintf(
				"Its worst sample is at %s; no part of it is over alone. A bus nearly always creeps over when everything joins it. Its fader alone shifts the balance; "+
					"the plan keeps it.",
				position(b.Out.At),
			),
			Hear: "bus:" + b.Bus.ID,
		}
		f.Fix, f.Do = l.busFix(b)
		out = append(out, f)
		mark(b.Bus.ID)
	}
	if m := l.Master.Out; m.Peak > 0 && !over[""] {
		f := find.Finding{
			Group: find.Plan, ID: find.ID("over-full-scale", "master"),
			What: fmt.Sprintf("The premaster goes over full scale, by %s", said(float64(m.Peak))),
			Why:  fmt.Sprintf("Its worst sample is at %s; no bus is over alone.", position(m.At)), Hear: "all",
		}
		f.Fix, f.Do = l.masterFix()
		out = append(out, f)
	}
	return out
}

// childOver reports whether a bus within this one is over full scale: it is told there.
func (l *Ledger) childOver(id string) bool {
	for _, b := range l.Buses {
		if b.Bus.Bus == id && b.Out.Peak > 0 {
			return true
		}
	}
	return false
}

func (l *Ledger) busFix(b Bus) ([]session.Edit, string) {
	if b.Bus.Locked() {
		return nil, ""
	}
	limit := l.Song.LevelRules().Bus
	to := math.Floor(10*(b.Bus.Fader-(float64(b.Out.Peak)-limit))) / 10
	return []session.Edit{session.Gain{At: session.At{Bus: b.Bus.ID}, Step: session.BusStep, DB: to}}, "bring its fader to " + figure.ShortPlus(to) + " dB"
}

func (l *Ledger) masterFix() ([]session.Edit, string) {
	if l.Song.Master.Locked() {
		return nil, ""
	}
	to := math.Floor(10*(l.Song.Master.Fader-(float64(l.Master.Out.Peak)-l.Song.LevelRules().Premaster))) / 10
	return []session.Edit{session.Gain{Step: session.MasterStep, DB: to}}, "bring the master to " + figure.ShortPlus(to) + " dB"
}

// buses tells which bus, and the premaster, lies over its limit without clipping.
func (l *Ledger) buses() []find.Finding {
	rules := l.Song.LevelRules()
	var out []find.Finding
	for _, b := range l.Buses {
		if over := float64(b.Out.Peak) - rules.Bus; over > 0.05 && b.Out.Peak <= 0 {
			f := find.Finding{
				Group: find.Plan, ID: find.ID("over-line", "bus", b.Bus.ID),
				What: fmt.Sprintf("%s peaks %s over %s", b.Bus.Name, said(over), at(meter.Figure(rules.Bus))),
				Why:  "A bus over this line leaves the premaster no room.", Hear: "bus:" + b.Bus.ID,
			}
			f.Fix, f.Do = l.busFix(b)
			out = append(out, f)
		}
	}
	if m := l.Master.Out.Peak; float64(m) > rules.Limit+0.05 && m <= 0 {
		f := find.Finding{
			Group: find.Plan, ID: find.ID("over-line", "master"),
			What: fmt.Sprintf("The premaster peaks at %s, over the line at %s", at(m), at(meter.Figure(rules.Limit))),
			Why:  fmt.Sprintf("%s is aimed at, so that what comes after has room.", at(meter.Figure(rules.Premaster))), Hear: "all",
		}
		f.Fix, f.Do = l.masterFix()
		out = append(out, f)
	}
	return out
}

// order tells of a kick and a bass in the wrong order, and of melodies too near to the drums.
func (l *Ledger) order() []find.Finding {
	var out []find.Finding
	rules := l.Song.LevelRules()
	kick, bass := l.Group(session.Kick), l.Group(session.Bass)
	if kick == nil || !kick.Level.Peak.Valid() {
		return nil
	}
	if l.wrongOrder() {
		d := float64(bass.Level.Peak - kick.Level.Peak)
		w := bass.Window
		f := find.Finding{ID: "kick-and-bass", Group: find.Plan, Hear: "both", Do: "bring the bass to its window"}
		if d > 0 {
			f.What = fmt.Sprintf("%s peaks %s over the kick, and the kick leads", name(bass), said(d))
			f.Why = "Where the kick leads, the bass sits 1 to 3 dB under it; if the bass is meant to lead, say so on Intake."
		} else {
			f.What = fmt.Sprintf("%s peaks %s under the kick, and the bass leads", name(bass), said(d))
			f.Why = "Where the bass leads, it is level with the kick or a little over; if the kick is meant to lead, say so on Intake."
		}
		by := inward(-Outside(bass.Level.Peak, w))
		for _, st := range bass.Stems {
			f.Fix = append(f.Fix, trimBy(st, by)...)
		}
		out = append(out, f)
	}
	for _, row := range l.Rows {
		if row.Stem.Role != session.Melodic || row.Stem.Mute || !row.Peak().Valid() {
			continue
		}
		if gap := float64(kick.Level.Peak - row.Peak()); gap < rules.MelodyGap-enough {
			where := "under"
			if gap < 0 {
				where = "over"
			}
			out = append(out, find.Finding{
				Group: find.Plan, ID: find.ID("near-the-kick", row.Stem.ID),
				What: fmt.Sprintf("%s is only %s %s the kick", row.Stem.Name, said(gap), where),
				Why:  "Turning the melodies down is the first way to make drums hit.",
				Hear: "all", Fix: trimBy(row.Stem, math.Floor(10*(gap-rules.MelodyGap))/10), Do: fmt.Sprintf("%.0f dB under it", rules.MelodyGap),
			})
		}
	}
	return out
}

func (l *Ledger) wrongOrder() bool {
	kick, bass := l.Group(session.Kick), l.Group(session.Bass)
	if kick == nil || bass == nil || !kick.Level.Peak.Valid() || !bass.Level.Peak.Valid() {
		return false
	}
	d := bass.Level.Peak - kick.Level.Peak
	return l.Song.Leader == session.KickLeads && d > 0.05 || l.Song.Leader == session.BassLeads && d < -0.05
}

func name(g *Group) string {
	if len(g.Stems) == 1 {
		return g.Stems[0].Name
	}
	return "The " + string(g.Role)
}

// inward rounds a change to a tenth of a dB so that it ends inside the window.
func inward(db float64) float64 {
	if db < 0 {
		return math.Floor(10*db) / 10
	}
	return math.Ceil(10*db) / 10
}

// outside tells what lies over or under its window.
func (l *Ledger) outside() []find.Finding {
	var out []find.Finding
	tell := func(name string, peak meter.Figure, w *session.Window, stems ...*session.Stem) {
		d := Outside(peak, w)
		if math.Abs(d) <= enough || d < 0 && stems[0].Role != session.Kick && ducks(stems...) {
			return
		}
		f := find.Finding{
			Group: find.Plan, ID: find.ID("window", stems[0].ID),
			What: fmt.Sprintf("%s peaks %s over its window", name, said(d)),
			Why:  fmt.Sprintf("It peaks at %s; %s usually lies between %s and %s dBFS.", at(peak), what(stems[0].Role), figure.ShortPlus(w.Lo), figure.ShortPlus(w.Hi)),
			Hear: "all", Do: "trim by " + figure.ShortPlus(inward(-d)) + " dB",
		}
		if d < 0 {
			f.What = fmt.Sprintf("%s peaks %s under its window", name, said(d))
		}
		for _, st := range stems {
			f.Fix = append(f.Fix, trimBy(st, inward(-d))...)
		}
		out = append(out, f)
	}
	for i := range l.Groups {
		if g := &l.Groups[i]; g.Role != session.Bass || !l.wrongOrder() {
			tell(name(g), g.Level.Peak, g.Window, g.Stems...)
		}
	}
	kick := l.Group(session.Kick)
	for _, row := range l.Rows {
		st := row.Stem
		near := st.Role == session.Melodic && kick != nil && float64(kick.Level.Peak-row.Peak()) < l.Song.LevelRules().MelodyGap-enough
		if !st.Mute && st.Role != session.Kick && st.Role != session.Bass && !near {
			tell(st.Name, row.Peak(), row.Window, st)
		}
	}
	return out
}

func what(r session.Role) string {
	switch r {
	case session.Kick:
		return "a kick"
	case session.Bass:
		return "a bass"
	case session.Snare:
		return "a snare or clap"
	case session.Hats:
		return "a hat"
	case session.Perc:
		return "percussion"
	case session.Drums:
		return "drums in one file"
	case session.Voice:
		return "a voice"
	case session.Melodic:
		return "a melodic part"
	case session.Texture:
		return "a texture"
	}
	return "an effect"
}

// trims tells of trims too large, and of gain taken away and given back.
func (l *Ledger) trims() []find.Finding {
	var out []find.Finding
	for i := range l.Song.Stems {
		st := &l.Song.Stems[i]
		for _, step := range session.StemSteps {
			if g := st.Gain(step); math.Abs(g) > bigTrim {
				out = append(out, find.Finding{
					ID:   find.ID("big-trim", st.ID, string(step)),
					What: fmt.Sprintf("%s is trimmed by %s dB at the %s step", st.Name, figure.ShortPlus(g), step),
					Why:  "More than 12 dB at one place is a sign that the source itself should be louder or quieter. Bounce it anew, or pick another sound.", Hear: "all",
				})
			}
		}
		for a, down := range session.StemSteps {
			for _, up := range session.StemSteps[a+1:] {
				back := math.Min(-st.Gain(down), st.Gain(up))
				if back < thrownAway {
					continue
				}
				f := find.Finding{
					ID:   find.ID("thrown-away", st.ID, string(down), string(up)),
					What: fmt.Sprintf("%s loses %.1f dB at the %s step and gets %.1f dB back at the %s", st.Name, -st.Gain(down), down, st.Gain(up), up),
					Why:  "Gain thrown away and made up again hides where the level comes from.", Hear: "all", Do: "let the two cancel; the sound stays as it is",
				}
				if !st.Locked(down) && !st.Locked(up) {
					f.Fix = []session.Edit{
						session.Gain{At: session.At{Stem: st.ID}, Step: down, DB: figure.Tenth(st.Gain(down) + back)},
						session.Gain{At: session.At{Stem: st.ID}, Step: up, DB: figure.Tenth(st.Gain(up) - back)},
					}
				}
				out = append(out, f)
			}
		}
	}
	return out
}

// Over is by how much a stem, while it sounds, lies over the sum of the others in the third-octave in which it does so most,
// dB; None where there is nothing to set it against.
func (l *Ledger) Over(sounds map[string]Sound, stem string) meter.Figure {
	power := func(st *session.Stem, band int) float64 {
		s, ok := sounds[st.Audio]
		if !ok || band >= len(s.Spectrum.Level) || !s.Spectrum.Level[band].Valid() {
			return 0
		}
		db := float64(s.Spectrum.Level[band]) + st.Source + st.Clip + st.Fader
		for _, b := range l.Song.Path(st.Bus) {
			db += b.Fader
		}
		return math.Pow(10, db/10)
	}
	st := l.Song.Stem(stem)
	if st == nil {
		return meter.None
	}
	s, ok := sounds[st.Audio]
	if !ok || st.Mute || s.Sustain <= 0 {
		return meter.None
	}
	loudest, best := 0.0, math.Inf(-1)
	for b := range meter.Bands {
		loudest = max(loudest, power(st, b))
	}
	others := 0
	for b := range meter.Bands {
		own := power(st, b)
		if own <= loudest*math.Pow(10, -bandFloor/10) || own == 0 {
			continue
		}
		rest := 0.0
		for j := range l.Song.Stems {
			if o := &l.Song.Stems[j]; o != st && !o.Mute {
				rest += power(o, b)
			}
		}
		if rest > 0 {
			others++
		}
		best = max(best, dsp.PowerDB(own/s.Sustain/max(rest, 1e-12))) // while it sounds
	}
	if others == 0 {
		return meter.None
	}
	return meter.Figure(best)
}

// unheard tells of stems that lie under the sum of the others in every band.
func (l *Ledger) unheard(sounds map[string]Sound) []find.Finding {
	var out []find.Finding
	for i := range l.Song.Stems {
		st := &l.Song.Stems[i]
		if over := l.Over(sounds, st.ID); over.Valid() && over < inaudible {
			best := float64(over)
			out = append(out, find.Finding{
				ID:   find.ID("unheard", st.ID),
				What: fmt.Sprintf("%s lies %s under the others in every band", st.Name, said(best)),
				Why:  "Nobody will hear it. Mute it and listen whether anything is missing; what is not missed can go.",
				Hear: "all", Fix: trimBy(st, math.Ceil(inaudible-best+8)), Do: "raise it until it can be heard",
				Own: []find.Measure{{Figure: "overothers", Of: st.ID, In: find.AtLeast(-20)}}, Taste: "it may be meant to be felt more than heard",
			})
		}
	}
	return out
}
