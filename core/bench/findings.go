package bench

import (
	"context"
	"fmt"
	"slices"

	"mellowthump/core/duck"
	"mellowthump/core/find"
	"mellowthump/core/intake"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// Intake is what is told about the files: by stem, its own findings.
func (b *Bench) Intake() []find.Finding {
	var out []find.Finding
	twins := b.twins()
	for i := range b.Song.Stems {
		out = append(out, b.ofStem(&b.Song.Stems[i], twins)...)
	}
	return out
}

// OfStem picks the findings about one stem's file.
func OfStem(all []find.Finding, stem string) []find.Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f find.Finding) bool { return f.Hear != "stem:"+stem })
}

func (b *Bench) ofStem(st *session.Stem, twins map[string]*find.Finding) []find.Finding {
	a := b.Facts[st.Audio]
	if a == nil {
		return nil
	}
	out := intake.Findings(st.Role, a)
	if slices.ContainsFunc(st.Moves, func(m move.Move) bool { _, tune := m.Params.(*move.Tune); return tune && !m.Off }) { // it is tuned here; Pocket tells how it stands then
		out = slices.DeleteFunc(out, func(f find.Finding) bool { return f.ID == "off-tune" })
	}
	if a.Damage != "" {
		out = append([]find.Finding{{ID: "file-damaged", What: "Its audio file is " + a.Damage + ": it plays as silence", Why: "The figures are those it had. Bring the same file again and it is mended; or replace it by another, or remove it."}}, out...)
	}
	if t := twins[st.ID]; t != nil {
		out = append(out, *t)
	}
	if g := a.Guess(st.Name); g.Doubt != "" && g.Role == st.Role {
		out = append(out, find.Finding{ID: "doubtful-role", What: g.Doubt, Why: "Its name says " + string(g.Role) + ". Choose the role that is right."})
	}
	if rate := b.Song.Rate; a.Rate != rate && rate > 0 {
		out = append(out, find.Finding{ID: "other-rate", What: fmt.Sprintf("%g kHz among stems at %g kHz", float64(a.Rate)/1000, float64(rate)/1000), Why: "It is resampled; a bounce at the song's rate is the safer way."})
	}
	var all []*intake.Analysis
	for _, o := range b.Song.Stems {
		all = append(all, b.Facts[o.Audio])
	}
	short := intake.Short(a, all)
	out = append(out, short...)
	if k := b.Song.TriggerStem(); k != nil && st.Role == session.Bass && len(short) == 0 && b.Facts[k.Audio] != nil {
		out = append(out, intake.Against(a, b.Facts[k.Audio])...)
	}
	for i := range out {
		out[i].ID, out[i].Stage, out[i].Hear = find.ID(out[i].ID, st.ID), "intake", "stem:"+st.ID
	}
	return out
}

// twins names what stems have twins of, by id. Each pair is compared once.
func (b *Bench) twins() map[string]*find.Finding {
	out := map[string]*find.Finding{}
	prints := map[string]*intake.Print{}
	of := func(sha string) *intake.Print {
		if prints[sha] == nil {
			prints[sha] = intake.NewPrint(b.Facts[sha])
		}
		return prints[sha]
	}
	for i := range b.Song.Stems {
		st := &b.Song.Stems[i]
		for j := range i {
			o := &b.Song.Stems[j]
			if o.Audio == st.Audio && o.Split() && st.Split() || b.Facts[o.Audio] == nil || b.Facts[st.Audio] == nil {
				continue // head and tail of one file are no twins
			}
			if out[st.ID] = intake.Twin(o.Name, of(st.Audio).Likeness(of(o.Audio))); out[st.ID] != nil {
				break
			}
		}
	}
	return out
}

// Levels is what is told about the levels over a window.
func (b *Bench) Levels(ctx context.Context, w mix.Window) ([]find.Finding, error) {
	if len(b.Song.Stems) == 0 {
		return nil, nil
	}
	l, err := b.Ledger(ctx, w)
	if err != nil {
		return nil, err
	}
	return levels.Judge(l, b.Sounds(), func(frame int) string {
		return b.Song.Position(float64(frame) / float64(b.Song.Rate))
	}), nil
}

// Pocket is what is told about the agreement of kick and bass over the loop, as it sounds now. The error is that of Pair
// where they cannot be judged.
func (b *Bench) Pocket(ctx context.Context) ([]find.Finding, error) {
	st, err := b.Pair(ctx)
	if err != nil {
		return nil, err
	}
	a, err := b.Agreement(ctx)
	if err != nil {
		return nil, err
	}
	song, target := b.Song, b.Song.Targets.Clearance
	kick, bass := b.KickName(), b.BassName()
	judged := pocket.Judge(st.After, target, kick, bass, b.linePitch(a))
	if song.Leader == session.BassLeads { // the kick's own clearance is not what is asked then
		judged = slices.DeleteFunc(judged, func(f find.Finding) bool { return f.Other == "duck" })
		judged = append(pocket.JudgeLead(a.Lead, target, kick, bass), judged...)
	}
	judged = append(judged, pocket.OffNote(st.Pair.Meter.HomeHz, a.Notes, len(st.After.Hits), kick, bass)...)
	judged = append(judged, pocket.Agree(a.Nudge, a.Layers, bass)...)
	judged = append(judged, pocket.Steady(a.Spread, a.Steps, bass)...)
	for i := range judged {
		f := &judged[i]
		f.Stage = "pocket"
		switch f.ID { // what the whole song is needed for
		case "bass-off-tune":
			f.Fix = b.Detune()
		case "nudge":
			f.Fix = a.Nudge.Advice(song, f.What, bass)
		}
	}
	return judged, nil
}

// Detune is the fix of a bass that is out of tune: each by the error of its commonest note.
func (b *Bench) Detune() []session.Edit {
	var out []session.Edit
	for _, st := range b.Song.ByRole(session.Bass) {
		if e, err := pocket.DetuneEdit(st, intake.Line(b.Facts[st.Audio], st.MIDI), nil, false); err == nil {
			out = append(out, e)
		}
	}
	return out
}

// linePitch is the pitch of the bass's commonest note in the loop, or of the whole of it; nil where it is not known.
func (b *Bench) linePitch(a *Agreement) *meter.Pitch {
	basses := b.Song.ByRole(session.Bass)
	if len(basses) == 0 {
		return nil
	}
	f := b.Facts[basses[0].Audio].Fundamental
	if len(a.Notes) == 0 || f == nil {
		if len(a.Notes) == 0 {
			return f
		}
		return nil
	}
	note, _ := meter.Note(a.Notes[0].Hz)
	return &meter.Pitch{Hz: a.Notes[0].Hz, Note: note, Cents: a.Notes[0].Cents, Confidence: f.Confidence}
}

// Duck is what is told about the song's own duck over the loop. The error is that of Pair where kick and bass cannot be
// judged.
func (b *Bench) Duck(ctx context.Context) ([]find.Finding, error) {
	st, err := b.Pair(ctx)
	if err != nil {
		return nil, err
	}
	asked, target := st.After.ClearanceP10, b.Song.Targets.Clearance
	met := duck.MetBy(st.After, target)
	if b.Song.Leader == session.BassLeads {
		a, err := b.Agreement(ctx)
		if err != nil {
			return nil, err
		}
		asked = a.Lead.P10
		met = duck.Met(asked, target)
	}
	return duck.Judge(st, asked, met, target, b.Song.Fitted()), nil
}
