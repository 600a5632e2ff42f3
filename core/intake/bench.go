package intake

import (
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/bench"
	"mellowthump/core/facts"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// FindingsOn is what is told about the files: by stem, its own findings.
func FindingsOn(b *bench.Bench) []find.Finding {
	var out []find.Finding
	twins := twins(b)
	for i := range b.Song.Stems {
		out = append(out, ofStem(b, &b.Song.Stems[i], twins)...)
	}
	return out
}

// OfStem picks the findings about one stem's file.
func OfStem(all []find.Finding, stem string) []find.Finding {
	return slices.DeleteFunc(slices.Clone(all), func(f find.Finding) bool { return f.Hear != "stem:"+stem })
}

// RoleAsked is the kind of the finding that asks for a role that is not sure.
const RoleAsked = "unsure-role"

// asked asks for the role of a stem; that it is the one guessed is its fix.
func asked(st *session.Stem, g facts.Guess) find.Finding {
	why := fmt.Sprintf("It is guessed, %.0f %% sure: %s.", 100*g.Confidence, g.Reason)
	if g.Doubt != "" {
		why = fmt.Sprintf("Its name says so; %s.", g.Doubt)
	}
	if g.Confidence < facts.Sure {
		why += " Nothing is changed on a guess: say what it is."
	}
	return find.Finding{
		ID: RoleAsked, What: g.Question(st.Name), Why: why,
		Hear: "stem:" + st.ID, Fix: []session.Edit{session.SetRole{Stems: []string{st.ID}, Role: g.Role}}, Apply: "It is",
		Do: "Say that it is, or choose another role in the list", Taste: "only you know",
	}
}

// within tells of what is in a file already: a duck, or a kick among drums.
func within(b *bench.Bench, st *session.Stem, a *facts.Analysis) (out []find.Finding) {
	if a.Portrait != nil && a.Portrait.Ducked > 0 && st.Role == session.Bass {
		out = append(out, find.Finding{
			ID: "ducked-already", What: fmt.Sprintf("ducked already, by about %.0f dB", a.Portrait.Ducked),
			Why:  "Its level dips and comes back while its tones go on. What is ducked twice pumps; bounce it without, or let it be.",
			Hear: "stem:" + st.ID, Notice: true,
		})
	}
	if p := a.Portrait; p != nil && len(p.LowHits) > 0 && st.Role == session.Drums && !st.Mute && b.Song.TriggerStem() == nil {
		out = append(out, find.Finding{
			ID: "kick-within", What: fmt.Sprintf("the kick is in it, with %s, and no stem is a kick", figure.Count(len(p.LowHits), "hit")),
			Why: "What is not apart can neither be ducked against nor set beside a bass.",
			Do:  "Take " + st.Name + " apart on Body: its kick becomes a stem of its own, and leads",
		})
	}
	return out
}

func ofStem(b *bench.Bench, st *session.Stem, twins map[string]*find.Finding) []find.Finding {
	a := b.Facts[st.Audio]
	if a == nil {
		return nil
	}
	out := Findings(st.Role, a)
	if slices.ContainsFunc(
		st.Moves,
		func(m move.Move) bool { _, tune := m.Params.(*move.Tune); return tune && !m.Off },
	) { // it is tuned here; Pocket tells how it stands then
		out = slices.DeleteFunc(out, func(f find.Finding) bool { return f.ID == "off-tune" })
	}
	if a.Damage != "" {
		out = append(
			[]find.Finding{
				{
					ID:   "file-damaged",
					What: "Its audio file is " + a.Damage + ": it plays as silence",
					Why:  "The figures are those it had. Bring the same file again and it is mended; or replace it by another, or remove it.",
				},
			},
			out...)
	}
	if r, ok := rumbleOf(st.Role, a); ok && st.Move(session.IntakeRumble) == nil {
		out = append(out, r.finding(st))
	}
	if t := twins[st.ID]; t != nil {
		out = append(out, *t)
	}
	out = append(out, within(b, st, a)...)
	if g, ok := facts.Unsure(st, a); ok {
		out = append(out, asked(st, g))
	}
	if rate := b.Song.Rate; a.Rate != rate && rate > 0 {
		out = append(
			out,
			find.Finding{
				ID:   "other-rate",
				What: fmt.Sprintf("%g kHz among stems at %g kHz", float64(a.Rate)/1000, float64(rate)/1000),
				Why:  "It is resampled; a bounce at the song's rate is the safer way.",
			},
		)
	}
	var all []*facts.Analysis
	for _, o := range b.Song.Stems {
		all = append(all, b.Facts[o.Audio])
	}
	short := Short(a, all)
	out = append(out, short...)
	if k := b.Song.TriggerStem(); k != nil && st.Role == session.Bass && len(short) == 0 && b.Facts[k.Audio] != nil {
		out = append(out, Against(a, b.Facts[k.Audio])...)
	}
	for i := range out {
		out[i].ID, out[i].Hear = find.ID(out[i].ID, st.ID), "stem:"+st.ID
	}
	return out
}

// twins names what stems have twins of, by id. Each pair is compared once.
func twins(b *bench.Bench) map[string]*find.Finding {
	out := map[string]*find.Finding{}
	prints := map[string]*facts.Fingerprint{}
	of := func(sha string) *facts.Fingerprint {
		if prints[sha] == nil {
			prints[sha] = facts.NewFingerprint(b.Facts[sha])
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
			if o.Mute || st.Mute { // they are not heard together
				continue
			}
			like := of(st.Audio).Likeness(of(o.Audio))
			if o.Flipped() != st.Flipped() {
				like = -like
			}
			if out[st.ID] = Twin(st, o, like); out[st.ID] != nil {
				break
			}
		}
	}
	return out
}

// pairSum takes the figure of two stems behind their chains over the loop: the energy of both together over the sum of their
// energies, dB: 3 for the same sound twice, 0 for two that have nothing to do with each other.
func pairSum(ctx context.Context, b *bench.Bench, m find.Measure) (meter.Figure, error) {
	var of [2]audio.Buffer
	var keys []string
	for i, id := range []string{m.Of, m.By} {
		st := b.Song.Stem(id)
		if st == nil || st.Mute {
			return 0, nil
		}
		x, key, err := b.Renderer.Stem(mix.Passing(ctx), b.Song, st, b.Loop)
		if err != nil {
			return meter.None, err
		}
		of[i], keys = x, append(keys, key)
	}
	return mix.Cached(ctx, b.Renderer.Cache, mix.Key("pairsum", keys[0], keys[1]), func() (meter.Figure, int, error) {
		x, y := of[0].Mono(), of[1].Mono()
		sum, apart := 0.0, meter.Energy(x)+meter.Energy(y)
		for i := range min(len(x), len(y)) {
			v := float64(x[i]) + float64(y[i])
			sum += v * v
		}
		if apart == 0 {
			return meter.None, 8, nil
		}
		return meter.Figure(10 * math.Log10(math.Max(sum/apart, 1e-9))), 8, nil
	})
}
