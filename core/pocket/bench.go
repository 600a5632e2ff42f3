package pocket

import (
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/session"
	"mellowthump/core/stage"
)

// Findings is what is told about the agreement of kick and bass over the loop, as it sounds now. The error is that of Pair
// where they cannot be judged.
func Findings(ctx context.Context, b *bench.Bench) ([]find.Finding, error) {
	st, err := pair.On(ctx, b)
	if err != nil {
		return nil, err
	}
	a, err := AgreementOn(ctx, b)
	if err != nil {
		return nil, err
	}
	song, target := b.Song, b.Song.Targets.Clearance
	kick, bass := b.KickName(), b.BassName()
	judged := Judge(st.After, target, kick, bass, linePitch(b, a))
	if share, ok := pair.Asked(song); ok {
		_, h, err := pair.HiddenOn(ctx, b)
		if err != nil {
			return nil, err
		}
		judged = judgeHidden(judged, h, share, kick, bass)
	}
	if song.Leader == session.BassLeads { // the kick's own clearance is not what is asked then
		judged = slices.DeleteFunc(judged, func(f find.Finding) bool { return f.Other == stage.Duck })
		judged = append(JudgeLead(st.Lead, target, kick, bass), judged...)
	}
	if p, err := b.KickPitch(); err != nil {
		return nil, err
	} else if p.Settled { // else there is nothing to tune
		judged = append(judged, OffNote(p.Hz, a.Notes, len(st.After.Hits), kick, bass)...)
	}
	judged = append(judged, Agree(a.Nudge, a.Layers, bass)...)
	judged = append(judged, Steady(a.Spread, a.Steps, bass)...)
	for i := range judged {
		f := &judged[i]
		switch f.ID { // what the whole song is needed for
		case "bass-off-tune":
			f.Fix = DetuneOn(b)
		case "kick-off-note":
			f.Fix = kickFix(b, a, len(st.After.Hits))
		case "nudge":
			f.Fix = a.Nudge.Advice(song, f.What, bass)
		}
	}
	return judged, nil
}

// layerNear is how near the pitch of another kick has to lie, to be tuned with it, cents.
const layerNear = 25.0

// kickFix tunes the kick to the note that it is held against, and with it every other kick that has its pitch.
func kickFix(b *bench.Bench, a *Agreement, hits int) []session.Edit {
	lead := b.Song.TriggerStem()
	p, err := b.KickPitch()
	if err != nil || lead == nil {
		return nil
	}
	by := -math.Round(float64(KickOff(p.Hz, a.Notes, hits)))
	var out session.Together
	for _, st := range b.Song.ByRole(session.Kick) {
		if f := b.Facts[st.Audio]; st.ID != lead.ID {
			if f == nil || f.Kick == nil || !f.Kick.Settled || math.Abs(1200*math.Log2(f.Kick.Hz/p.Hz)+st.Tuned()) > layerNear {
				continue
			}
		}
		said := fmt.Sprintf("Tune %s by %s cents", st.Name, figure.Short(by))
		out.Edits = append(out.Edits, session.SetMove{At: session.At{Stem: st.ID}, Move: kickTuned(st, by), Said: said})
	}
	return out.Edits
}

// DetuneOn is the fix of a bass that is out of tune: each by the error of its commonest note.
func DetuneOn(b *bench.Bench) []session.Edit {
	var out []session.Edit
	for _, st := range b.Song.ByRole(session.Bass) {
		if e, err := DetuneEdit(st, facts.Line(b.Facts[st.Audio], st.MIDI), nil, false); err == nil {
			out = append(out, e)
		}
	}
	return out
}

// linePitch is the pitch of the bass's commonest note in the loop, or of the whole of it; nil where it is not known.
func linePitch(b *bench.Bench, a *Agreement) *meter.Pitch {
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

// Agreement is what is found about pitch and phase of kick and bass in the loop.
type Agreement struct {
	Line   []meter.BassNote // of the bass as it is tuned, in the song
	Notes  []NoteUse
	Nudge  *Nudge
	Layers []Layer
	Spread meter.Figure // of the notes' levels, dB
	Steps  int
}

// AgreementOn works it out; the error is that of Pair where kick and bass cannot be judged.
func AgreementOn(ctx context.Context, b *bench.Bench) (*Agreement, error) {
	type key struct{}
	return bench.Keep(ctx, b, key{}, func() (*Agreement, error) {
		st, err := pair.On(ctx, b)
		if err != nil {
			return nil, err
		}
		return agreement(ctx, b, st)
	})
}

func agreement(ctx context.Context, b *bench.Bench, st *pair.State) (*Agreement, error) {
	a := &Agreement{Spread: meter.None, Line: b.Line()}
	rate := float64(b.Song.Rate)
	a.Notes = Notes(a.Line, st.After.Hits, float64(b.Loop.From)/rate, float64(b.Loop.To)/rate)
	var err error
	a.Nudge, err = mix.Cached(ctx, b.Renderer.Cache, mix.Key("nudge", st.Without.Key()), func() (*Nudge, int, error) {
		n, err := FindNudge(st.Without.Meter, st.Without.Bass)
		return n, 8192, err
	})
	if err != nil {
		return nil, err
	}
	pad := int(0.5 * rate)
	if a.Layers, err = Layers(ctx, b.Renderer, b.Song, mix.Window{From: b.Loop.From, To: b.Loop.To + pad}); err != nil {
		return nil, err
	}
	a.Spread, a.Steps = LevelSteps(a.Line, st.Without.Bass20(ctx, b.Renderer), float64(st.Without.Meter.Offset)/rate)
	return a, nil
}

// CommonNote is the note that the bass plays most of the time in the loop, as a pitch that is sure; nil where none is
// known.
func (a *Agreement) CommonNote() *meter.Pitch {
	if a == nil || len(a.Notes) == 0 {
		return nil
	}
	n := a.Notes[0]
	return &meter.Pitch{Hz: n.Hz, Note: n.Note, Cents: n.Cents, Confidence: 1}
}

// judgeHidden tells of a kick that is hidden in the place of one that is not clear, where the aim is by hearing.
func judgeHidden(judged []find.Finding, h pair.Hidden, share float64, kick, bass string) []find.Finding {
	judged = slices.DeleteFunc(judged, func(f find.Finding) bool { return f.Group == find.Fit })
	if h.Within(share) {
		return judged
	}
	return append([]find.Finding{{
		ID:   "under",
		What: fmt.Sprintf("%s hides %s %% of %s in one hit of ten", upper(bass), figure.Signed(float64(h.P90), 0), lower(kick)),
		Why:  fmt.Sprintf("%s %% are asked. What is hidden of a kick is not heard, however loud it is turned.", figure.Short(share)),
		Hear: "both", Do: "Duck the bass as little as it takes.",
		Other: stage.Duck, Group: find.Fit,
	}}, judged...)
}
