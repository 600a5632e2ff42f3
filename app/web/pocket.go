package web

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/core/duck"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

type pocketSheet struct {
	*view
	Strip    template.HTML
	Worst    []meter.Hit
	Figures  *meter.HitFigures
	Findings []pocket.Finding
	Home     [2]float64
	Hidden   int // hits that the picture leaves out

	Mirror    template.HTML
	NudgePlot template.HTML
	Chain     []chainRow
}

// chainRow is a move that stands in a chain, but for ducks.
type chainRow struct {
	Stem   *session.Stem
	Move   move.Move
	Values string
}

const (
	hitsARow   = 14
	hitsDrawn  = 112 // more are too small to read; the worst are drawn
	worstShown = 6
)

// agreement is what is found about pitch and phase of kick and bass in the loop.
type agreement struct {
	Line   []meter.BassNote // of the bass as it is tuned, in the song
	Notes  []pocket.NoteUse
	Nudge  *pocket.Nudge
	Layers []pocket.Layer
	Lead   meter.BassLead // where the bass leads
	Led    meter.BassLead // before the duck, likewise
	Spread meter.Figure   // of the notes' levels, dB
	Steps  int
}

// fillAgreement works it out; everything is kept by content.
func (s *Server) fillAgreement(ctx context.Context, v *view) error {
	if v.State == nil {
		return nil
	}
	a := &agreement{Spread: meter.None}
	st, rate := v.State, float64(v.Rate)
	from, to := float64(v.Win.From)/rate, float64(v.Win.To)/rate
	if b := v.ByRole(session.Bass); len(b) > 0 {
		a.Line = pocket.TuneLine(intake.Line(v.Facts[b[0].Audio], b[0].MIDI), b[0])
	}
	a.Notes = pocket.Notes(a.Line, st.After.Hits, from, to)
	var err error
	a.Nudge, err = mix.Cached(s.Renderer.Cache, mix.Key("nudge", st.Without.Key()), func() (*pocket.Nudge, int, error) {
		return pocket.FindNudge(st.Without.Meter, st.Without.Mono), 8192, nil
	})
	if err != nil {
		return err
	}
	pad := int(0.5 * rate)
	if a.Layers, err = pocket.Layers(s.Renderer, &v.Song.Song, mix.Window{From: v.Win.From, To: v.Win.To + pad}); err != nil {
		return err
	}
	a.Spread, a.Steps = pocket.LevelSteps(a.Line, st.Without.Bass20(s.Renderer), float64(st.Without.Meter.Offset)/rate)
	if v.Leader == session.BassLeads {
		if a.Led, err = duck.Lead(s.Renderer, st.Without, st.Before, a.Line); err != nil {
			return err
		}
		a.Lead, err = duck.Lead(s.Renderer, st.Pair, st.After, a.Line)
	}
	v.Agree = a
	return err
}

// pocketFindings judges the loop as it sounds now.
func pocketFindings(v *view) []pocket.Finding {
	a := v.Agree
	var line *meter.Pitch
	if b := v.ByRole(session.Bass); len(b) > 0 && len(a.Notes) > 0 {
		if f := v.Facts[b[0].Audio].Fundamental; f != nil {
			note, _ := meter.Note(a.Notes[0].Hz)
			line = &meter.Pitch{Hz: a.Notes[0].Hz, Note: note, Cents: a.Notes[0].Cents, Confidence: f.Confidence}
		}
	} else if len(b) > 0 {
		line = v.Facts[b[0].Audio].Fundamental
	}
	judged := pocket.Judge(v.State.After, v.Targets.Clearance, v.KickName(), v.BassName(), line)
	if v.Leader == session.BassLeads { // the kick's own clearance is not what is asked then
		judged = slices.DeleteFunc(judged, func(f pocket.Finding) bool { return f.Link == "duck" })
		judged = append(pocket.JudgeLead(a.Lead, v.Targets.Clearance, v.KickName(), v.BassName()), judged...)
	}
	judged = append(judged, pocket.OffNote(v.State.Pair.Meter.HomeHz, a.Notes, len(v.State.After.Hits), v.KickName(), v.BassName())...)
	judged = append(judged, pocket.Agree(a.Nudge, a.Layers, v.BassName())...)
	return append(judged, pocket.Steady(a.Spread, a.Steps, v.BassName())...)
}

func (s *Server) pocketSheet(v *view) *pocketSheet {
	out := &pocketSheet{view: v}
	if v.State == nil {
		v.Lead = v.Trouble
		return out
	}
	out.Figures = &v.State.After
	out.Findings = pocketFindings(v)
	v.Lead = pocket.Sentence(v.State.After, v.Targets.Clearance, v.KickName(), v.BassName())
	if v.Leader == session.BassLeads {
		v.Lead = pocket.LeadSentence(v.Agree.Lead, v.Targets.Clearance, v.KickName(), v.BassName())
	}
	out.Home[0], out.Home[1] = meter.HomeBand(v.State.Pair.Meter.HomeHz)
	m := v.State.Pair.Meter
	spectra, err := mix.Cached(s.Renderer.Cache, mix.Key("fine", v.State.Pair.Key()), func() ([2][]float64, int, error) {
		return [2][]float64{m.FineSpectrum(m.KickSound()), m.FineSpectrum(v.State.Pair.Mono)}, 16 * meter.FineBins, nil
	})
	if err == nil {
		mirror := plot.Mirror{Kick: spectra[0], Bass: spectra[1], HomeHz: m.HomeHz, BassName: v.BassName()}
		for _, n := range v.Agree.Notes {
			mirror.Notes = append(mirror.Notes, n.Hz)
		}
		out.Mirror = plot.Mirrored(mirror)
	}
	if n := v.Agree.Nudge; n != nil {
		out.NudgePlot = plot.Nudge(plot.NudgeCurve{MS: n.MS, As: n.As, Flipped: n.Flipped, Best: n.Best.MS, BestFlip: n.Best.Flip, BestSum: n.BestSum})
	}
	for i := range v.Stems {
		for _, m := range v.Stems[i].Moves {
			if m.Params.Kind() != move.KindDuck {
				out.Chain = append(out.Chain, chainRow{Stem: &v.Stems[i], Move: m, Values: pocket.Values(m.Params)})
			}
		}
	}

	strip := v.strip("pocket-strip", 760, 128)
	strip.Details = true
	if over := len(strip.Hits) - hitsDrawn; over > 0 {
		out.Hidden = over
		strip.Hits = worstInOrder(strip.Hits, hitsDrawn)
		if strip.Was != nil {
			strip.Was = worstOf(strip.Was, strip.Hits)
		}
	}
	strip.Rows = (len(strip.Hits) + hitsARow - 1) / hitsARow
	if strip.Rows > 2 {
		strip.Height = 96
	}
	out.Strip = plot.HitStrip(strip)
	out.Worst = worstInOrder(v.judgedHits(), worstShown)
	sort.SliceStable(out.Worst, func(i, j int) bool { return clearOf(out.Worst[i]) < clearOf(out.Worst[j]) })
	return out
}

// clearOf orders hits by their clearance; those that have none come last.
func clearOf(h meter.Hit) float64 {
	if h.Clearance.Valid() {
		return float64(h.Clearance)
	}
	return math.Inf(1)
}

// worstInOrder returns the n hits with the least clearance, in the order of time.
func worstInOrder(hits []meter.Hit, n int) []meter.Hit {
	h := append([]meter.Hit(nil), hits...)
	sort.SliceStable(h, func(i, j int) bool { return clearOf(h[i]) < clearOf(h[j]) })
	h = h[:min(n, len(h))]
	sort.Slice(h, func(i, j int) bool { return h[i].At < h[j].At })
	return h
}

// worstOf returns the hits of was that stand at the same times as picked.
func worstOf(was, picked []meter.Hit) []meter.Hit {
	at := map[float64]meter.Hit{}
	for _, h := range was {
		at[h.At] = h
	}
	out := make([]meter.Hit, len(picked))
	for i, h := range picked {
		out[i] = at[h.At]
	}
	return out
}

// strip gathers what a strip of the loop's hits needs.
func (v *view) strip(id string, width, height float64) plot.Strip {
	st := v.State
	p := plot.Strip{
		ID: id, Width: width, Height: height, Rows: 1, Target: v.Targets.Clearance,
		Kick: plot.Calm(st.Pair.Meter.Kick), Bass: plot.Calm(st.After.Bass), Before: plot.Calm(st.Before.Bass),
		Offset: v.envelopeOffset(), Hits: v.judgedHits(), Bars: v.Position,
	}
	if st.Readout != nil {
		p.Was = v.mirrored(st.Before.Hits, v.Agree.Led)
	}
	return p
}

// judgedHits are the hits of the loop as they sound; where the bass leads, with its clearance over the
// kick instead of the kick's.
func (v *view) judgedHits() []meter.Hit { return v.mirrored(v.State.After.Hits, v.Agree.Lead) }

func (v *view) mirrored(hits []meter.Hit, lead meter.BassLead) []meter.Hit {
	if !v.BassLeads() || len(lead.Clearance) != len(hits) {
		return hits
	}
	out := slices.Clone(hits)
	for i := range out {
		out[i].Clearance = lead.Clearance[i]
	}
	return out
}

// envelopeOffset is the number of envelope steps from the start of the envelopes to the
// start of the song.
func (v *view) envelopeOffset() int {
	return -int(float64(v.State.Pair.Meter.Offset)/float64(v.Rate)/meter.EnvelopeStep + 0.5)
}

// HomeNote names the kick's settled pitch.
func (p *pocketSheet) HomeNote() string {
	note, cents := meter.Note(p.State.Pair.Meter.HomeHz)
	return fmt.Sprintf("%s %s c", note, signedPlus(cents))
}

func signedPlus(v float64) string {
	s := plot.Signed(v, 0)
	if v > 0 && s != "0" {
		return "+" + s
	}
	return s
}

// pocketParts loads the song with its loop judged, for what comes after the page.
func (s *Server) pocketParts(c *gin.Context) *view {
	song := s.load(c)
	if song == nil {
		return nil
	}
	v, err := s.view(c, song, "pocket", nil)
	if err != nil {
		s.failWith(c, err)
		return nil
	}
	return v
}

// kickOptions shows the kick at other pitches against the whole line.
func (s *Server) kickOptions(c *gin.Context) {
	v := s.pocketParts(c)
	if v == nil {
		return
	}
	data := map[string]any{"ID": v.ID, "Target": v.Targets.Clearance}
	if v.State != nil {
		options, err := pocket.KickOptions(c.Request.Context(), s.Renderer, &v.Song.Song, v.Win, v.Agree.Line)
		if err != nil {
			s.failWith(c, err)
			return
		}
		var bars []plot.OptionBar
		best := options[0]
		for _, o := range options {
			bars = append(bars, plot.OptionBar{Semitones: o.Semitones, Clearance: o.Clearance})
			if o.P10.Valid() && (!best.P10.Valid() || o.P10 > best.P10) {
				best = o
			}
		}
		data["Options"], data["Best"], data["Picture"] = options, best, plot.Options(bars, v.Targets.Clearance)
	}
	s.write(c, http.StatusOK, "kickoptions", data)
}

// places shows what would place kick and bass, each rendered.
func (s *Server) places(c *gin.Context) {
	v := s.pocketParts(c)
	if v == nil {
		return
	}
	data := map[string]any{"ID": v.ID}
	if v.State != nil {
		p, err := pocket.Proposals(c.Request.Context(), s.Renderer, &v.Song.Song, v.Win, v.linePitch())
		if err != nil {
			s.failWith(c, err)
			return
		}
		data["Proposals"] = p
	}
	s.write(c, http.StatusOK, "places", data)
}

// linePitch is the commonest note of the bass, nil where it is not known.
func (v *view) linePitch() *meter.Pitch {
	if v.Agree == nil || len(v.Agree.Notes) == 0 {
		return nil
	}
	n := v.Agree.Notes[0]
	return &meter.Pitch{Hz: n.Hz, Note: n.Note, Cents: n.Cents, Confidence: 1}
}

// setLeader says who leads.
func (s *Server) setLeader(c *gin.Context) {
	s.edit(c, "pocket", func(song *session.Song) (string, error) {
		was := song.Leader
		dropped := song.SetLeader(session.Leader(c.PostForm("leader")))
		if err := song.Validate(); err != nil {
			return "", badInput(c, "pocket", err)
		}
		if was == song.Leader {
			return "", nil
		}
		says := map[session.Leader]string{session.KickLeads: "The kick leads", session.BassLeads: "The bass leads"}[song.Leader]
		if dropped {
			says += "; its duck is taken out"
		}
		return says, nil
	})
}

// applyPocket does what a finding or a proposal of the Pocket says.
func (s *Server) applyPocket(c *gin.Context) {
	v := s.pocketParts(c)
	if v == nil {
		return
	}
	action, of, _ := strings.Cut(c.PostForm("action"), ":")
	if v.State == nil && action != "split" { // a sample that holds both may be split where there is no bass yet
		s.fail(c, http.StatusConflict, v.Trouble)
		return
	}
	s.edit(c, "pocket", func(song *session.Song) (string, error) {
		switch action {
		case "detune", "detune-each":
			return v.detune(c, song, action == "detune-each")
		case "flip":
			st := song.Stem(of)
			if st == nil {
				return "", badInput(c, "pocket", errors.New("that stem is no longer there"))
			}
			turnOver(st)
			return "Turn " + st.Name + " over", nil
		case "nudge":
			n := v.Agree.Nudge
			if n == nil || !n.BestSum.Valid() {
				return "", badInput(c, "pocket", errors.New("there is nothing to nudge"))
			}
			ms, flip := n.Best.MS, n.Best.Flip
			if text := c.PostForm("ms"); text != "" {
				typed, err := move.ParseNumber(text, "ms")
				if err != nil {
					return "", badInput(c, "pocket", fmt.Errorf("the nudge %w", err))
				}
				ms, flip = typed, false
			}
			for _, st := range song.ByRole(session.Bass) {
				m := move.Move{ID: "nudge", Why: c.PostForm("why"), Params: &move.Nudge{MS: math.Round(100*(st.Nudged()+ms)) / 100}}
				if c.PostForm("ms") != "" {
					m.Params = &move.Nudge{MS: ms}
				}
				if m.Params.(*move.Nudge).MS == 0 {
					m.Params = nil
				}
				if m.Params != nil {
					if err := m.Params.Validate(); err != nil {
						return "", badInput(c, "pocket", err)
					}
				}
				st.SetMove(m)
				if flip {
					turnOver(st)
				}
			}
			return fmt.Sprintf("Nudge %s by %s ms", v.BassName(), signedTenth(ms)), nil
		case "kick":
			semitones, err := strconv.Atoi(of)
			if err != nil || semitones < -5 || semitones > 5 {
				return "", badInput(c, "pocket", errors.New("the kick is tuned by five semitones at the most"))
			}
			tuned := pocket.TunedKick(song, 100*float64(semitones))
			if err := tuned.Validate(); err != nil {
				return "", badInput(c, "pocket", err)
			}
			*song = tuned
			return fmt.Sprintf("Tune the kick by %+d semitones", semitones), nil
		case "place":
			proposals, err := pocket.Proposals(c.Request.Context(), s.Renderer, song, v.Win, v.linePitch())
			if err != nil {
				return "", err
			}
			for _, p := range proposals {
				if p.ID != of {
					continue
				}
				*song = pocket.With(song, p.Stem.ID, p.Move, !p.On)
				if p.On {
					return "Take out: " + p.Name, nil
				}
				return p.Name, nil
			}
			return "", badInput(c, "pocket", errors.New("that is no longer proposed"))
		case "split":
			at, err := move.ParseNumber(c.PostForm("at"), "ms")
			if err != nil {
				return "", badInput(c, "pocket", fmt.Errorf("the place of the crossfade %w", err))
			}
			fade, err := move.ParseNumber(c.PostForm("fade"), "ms")
			if err != nil {
				return "", badInput(c, "pocket", fmt.Errorf("the crossfade %w", err))
			}
			name := ""
			if st := song.Stem(c.PostForm("stem")); st != nil {
				name = st.Name
			}
			if _, err := song.Split(c.PostForm("stem"), at, fade); err != nil {
				return "", badInput(c, "pocket", err)
			}
			return "Split " + name + " into head and tail", nil
		case "drop":
			stem, id, _ := strings.Cut(of, "/")
			st := song.Stem(stem)
			if st == nil || st.Move(id) == nil {
				return "", badInput(c, "pocket", errors.New("that move is no longer there"))
			}
			st.SetMove(move.Move{ID: id})
			return "Take a move off " + st.Name, nil
		case "switch":
			stem, id, _ := strings.Cut(of, "/")
			st := song.Stem(stem)
			if st == nil || st.Move(id) == nil {
				return "", badInput(c, "pocket", errors.New("that move is no longer there"))
			}
			m := st.Move(id)
			m.Off = !m.Off
			return map[bool]string{true: "Off: ", false: "On: "}[m.Off] + pocket.Values(m.Params) + " on " + st.Name, nil
		}
		return "", badInput(c, "pocket", errors.New("the page asked for something unknown"))
	})
}

func turnOver(st *session.Stem) {
	m := move.Move{ID: "flip", Params: &move.Polarity{}}
	if st.Move("flip") != nil {
		m.Params = nil
	}
	st.SetMove(m)
}

// detune takes the error of the bass line away, or sets what was typed.
func (v *view) detune(c *gin.Context, song *session.Song, each bool) (string, error) {
	if len(v.Agree.Notes) == 0 {
		return "", badInput(c, "pocket", errors.New("no note of the bass is known, so there is nothing to tune by"))
	}
	what := ""
	for _, st := range song.ByRole(session.Bass) {
		file := intake.Line(v.Facts[st.Audio], st.MIDI) // as it came
		notes := pocket.Notes(file, nil, 0, math.Inf(1))
		if len(notes) == 0 {
			continue
		}
		cents := -math.Round(notes[0].Cents)
		if text := c.PostForm("cents"); text != "" {
			var err error
			if cents, err = move.ParseNumber(text, "cents"); err != nil {
				return "", badInput(c, "pocket", fmt.Errorf("the detune %w", err))
			}
		}
		if each {
			cents = 0
		}
		m := pocket.Detune(file, cents, each)
		if err := m.Params.Validate(); err != nil {
			return "", badInput(c, "pocket", err)
		}
		what = fmt.Sprintf("Detune %s by %s cents", st.Name, signedPlus(cents))
		if each {
			what = "Tune each note of " + st.Name
		} else if cents == 0 {
			m.Params, what = nil, st.Name+" as it was tuned"
		}
		st.SetMove(m)
	}
	return what, nil
}

// Nudged is by how many ms the bass is moved now.
func (v *view) Nudged() float64 {
	if b := v.ByRole(session.Bass); len(b) > 0 {
		return b[0].Nudged()
	}
	return 0
}

// Detuned is by how many cents the bass is tuned as a whole now.
func (v *view) Detuned() float64 {
	if b := v.ByRole(session.Bass); len(b) > 0 {
		return b[0].Tuned()
	}
	return 0
}
