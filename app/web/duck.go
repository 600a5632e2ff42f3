package web

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"html/template"
	"mime"
	"net/http"
	"os"
	"sort"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/core/audio/flac"
	"mellowthump/core/audio/wav"
	"mellowthump/core/duck"
	"mellowthump/core/intake"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

type duckSheet struct {
	*view
	Editor   template.HTML
	Strip    template.HTML
	Duck     *move.Duck // at tempo, on or off; nil where there is none
	Off      bool
	Why      string
	Findings []pointOf
	Trigger  string
	Preview  bool
	Worst    []meter.Hit // by their clearance
	School   string
	False    *duck.False
	Fail     string // of the schools' values, as typed
}

// pointOf is one short finding of the duck's.
type pointOf struct{ What, Why string }

// met reports whether a clearance reaches a target as it is shown, to a tenth of a dB.
func met(clearance meter.Figure, target float64) bool { return float64(clearance) > target-0.05 }

// duckFindings judges the duck as it is.
func duckFindings(v *view) []pointOf {
	st := v.State
	var out []pointOf
	target, asked := v.Targets.Clearance, st.After.ClearanceP10
	if v.BassLeads() {
		asked = v.Agree.Lead.P10
	}
	if asked.Valid() && !met(asked, target) {
		remedy := "Press Fit for the least duck that reaches it, or shape it by hand."
		if v.DuckWhy() != "" && st.Readout != nil {
			remedy = "The fit goes by the whole song; this loop may be harder than most of it. A higher cap, another school, or pitch and place on Pocket go further."
		}
		out = append(out, pointOf{
			fmt.Sprintf("Worst tenth in this loop %s dB, %s asked", figure(asked, 1), plot.Signed(target, 1)),
			remedy,
		})
	}
	if r := st.Readout; r != nil {
		if r.Back < r.Of {
			out = append(out, pointOf{
				fmt.Sprintf("Not back before the next hit on %d of %d", r.Of-r.Back, r.Of),
				"Ducks that run into each other flatten the part. Move the last points earlier.",
			})
		}
		if r.Clicks() {
			out = append(out, pointOf{
				fmt.Sprintf("Steepest slope %s dB per ms", figure(r.Steepest, 1)),
				"Over 3 dB per ms a low tone may click. Spread the points, or bend the segment less.",
			})
		}
	}
	return out
}

func (s *Server) duckSheet(v *view) *duckSheet {
	out := &duckSheet{view: v}
	if v.State == nil {
		v.Lead = v.Trouble
		return out
	}
	if d, off := v.Song.Duck(); d != nil {
		out.Off = off
		out.Duck = d
		if at, err := d.AtTempo(v.BPM); err == nil {
			out.Duck = at
		}
		out.Why = v.DuckWhy()
	}
	out.Trigger = v.triggerName()
	out.School = move.CurveSchool
	if out.Duck != nil {
		out.School = out.Duck.School
	}
	v.Lead = fmt.Sprintf("%s at every hit of %s: as little as puts the kick %g dB over the bass in its own octave, on 9 of 10 hits.",
		map[string]string{move.CurveSchool: "One curve", move.CompressorSchool: "A compressor that listens", move.BandSchool: "A dip of one band"}[out.School], out.Trigger, v.Targets.Clearance)
	if v.BassLeads() {
		v.Lead = fmt.Sprintf("The bass leads, so the kick makes room behind its attack: as little as puts the bass %g dB over it from 60 ms after the hit, on 9 of 10 hits.", v.Targets.Clearance)
	}
	out.Findings = duckFindings(v)
	e := plot.Editor{
		Width: 774, Height: 310,
		Kick: plot.Calm(v.State.Pair.Meter.Kick), Before: plot.Calm(v.State.Before.Bass), Bass: plot.Calm(v.State.After.Bass),
		Offset: v.envelopeOffset(), Hits: v.State.After.Hits, Duck: out.Duck, BPM: v.BPM,
		Handover: v.State.After.HandoverMedian, BassName: v.BassName(),
	}
	if v.BassLeads() {
		e.KickBefore = plot.Calm(v.State.Without.Meter.Kick)
	}
	if out.Duck != nil && out.Duck.Keyed() && v.State.Gain != nil {
		m := v.State.Pair.Meter
		for ms := 0; ms*v.Rate/1000 < len(v.State.Gain); ms++ {
			e.Gain = append(e.Gain, v.State.Gain[ms*v.Rate/1000])
		}
		e.GainFrom = float64(m.Range.From+m.Offset) / float64(v.Rate)
	}
	out.Editor = plot.DuckEditor(e)
	strip := v.strip("duck-strip", 774, 88)
	if len(strip.Hits) > hitsDrawn/2 {
		strip.Rows = 2
	}
	if len(strip.Hits) > hitsDrawn {
		strip.Hits = worstInOrder(strip.Hits, hitsDrawn)
		if strip.Was != nil {
			strip.Was = worstOf(strip.Was, strip.Hits)
		}
	}
	out.Strip = plot.HitStrip(strip)
	out.Worst = worstInOrder(v.judgedHits(), worstShown)
	sort.SliceStable(out.Worst, func(i, j int) bool { return clearOf(out.Worst[i]) < clearOf(out.Worst[j]) })
	return out
}

// readPoints reads the points of the form: ms-0, db-0, bend-0 and so on.
func readPoints(c *gin.Context, song *session.Song) (*move.Duck, error) {
	d, bpm := &move.Duck{School: "curve", Trigger: song.DuckTrigger()}, song.BPM
	for i := 0; ; i++ {
		n := strconv.Itoa(i)
		at, ok := c.GetPostForm("at-" + n)
		if !ok {
			break
		}
		if i >= move.DuckPoints {
			return nil, badInput(c, "points", fmt.Errorf("a duck curve holds at most %d points", move.DuckPoints))
		}
		ms, note, err := move.ParseTime(at, bpm)
		if err != nil {
			return nil, badInput(c, "points", fmt.Errorf("point %d: %w", i+1, err))
		}
		db, err := move.ParseNumber(c.PostForm("db-"+n), "dB")
		if err != nil {
			return nil, badInput(c, "points", fmt.Errorf("point %d: %w", i+1, err))
		}
		bend := 0.0
		if b := strings.TrimSpace(c.PostForm("bend-" + n)); b != "" {
			if bend, err = move.ParseNumber(b, ""); err != nil {
				return nil, badInput(c, "points", fmt.Errorf("point %d: %w", i+1, err))
			}
		}
		d.Points = append(d.Points, move.Point{MS: ms, Note: note, DB: db, Bend: bend})
	}
	if err := d.Validate(); err != nil {
		return nil, badInput(c, "points", err)
	}
	return d, nil
}

// setPoints stores the curve as it was dragged, moved or typed.
func (s *Server) setPoints(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		d, err := readPoints(c, song)
		if err != nil {
			return "", err
		}
		was, _ := song.Duck()
		song.SetDuck(d, false, "")
		return pointsSummary(was, d), nil
	})
}

// pointsSummary says what of a curve changed; empty where nothing did.
func pointsSummary(was, d *move.Duck) string {
	if was == nil || len(was.Points) != len(d.Points) {
		return fmt.Sprintf("Draw a duck of %s dB", plot.Signed(d.Depth(), 1))
	}
	changed, at := 0, 0
	for i := range d.Points {
		if d.Points[i] != was.Points[i] {
			changed, at = changed+1, i
		}
	}
	switch changed {
	case 0:
		return ""
	case 1:
		p := d.Points[at]
		return fmt.Sprintf("Duck point %d to %s ms, %s dB", at+1, plot.Signed(p.MS, 1), plot.Signed(p.DB, 1))
	}
	return "Change the duck curve"
}

// previewPoints shows what a curve would do while it is dragged: nothing is stored.
func (s *Server) previewPoints(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	d, err := readPoints(c, &song.Song)
	if err != nil {
		c.Status(http.StatusNoContent) // a point dragged past its neighbour: keep the last picture
		return
	}
	song.SetDuck(d, false, "")
	v := &view{Song: song, Stage: "duck"}
	if full, err := s.view(c, song, "duck", nil); err != nil {
		s.failWith(c, err)
		return
	} else {
		v = full
	}
	sheet := s.duckSheet(v)
	sheet.Preview = true
	s.write(c, http.StatusOK, "duckpreview", sheet)
}

// addPoint puts a point into the middle of the longest segment, or at a given place.
func (s *Server) addPoint(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		was, off := song.Duck()
		if was == nil || was.Keyed() {
			d := startingDuck(song.Leader)
			d.Trigger = song.DuckTrigger()
			song.SetDuck(d, false, "")
			return fmt.Sprintf("Draw a duck of %s dB", plot.Signed(d.Depth(), 1)), nil
		}
		d, err := was.AtTempo(song.BPM)
		if err != nil {
			return "", badInput(c, "points", err)
		}
		if len(d.Points) >= move.DuckPoints {
			return "", badInput(c, "points", fmt.Errorf("a duck curve holds at most %d points", move.DuckPoints))
		}
		at, longest := 0.0, 0.0
		for i := 1; i < len(d.Points); i++ {
			if l := d.Points[i].MS - d.Points[i-1].MS; l > longest {
				longest, at = l, d.Points[i-1].MS+l/2
			}
		}
		p := move.Point{MS: tenth(at), DB: tenth(d.GainDB(tenth(at)))}
		d.Points = append(d.Points, p)
		sort.SliceStable(d.Points, func(i, j int) bool { return d.Points[i].MS < d.Points[j].MS })
		if err := d.Validate(); err != nil {
			return "", badInput(c, "points", err)
		}
		song.SetDuck(d, off, "")
		return fmt.Sprintf("Add a duck point at %s ms", plot.Signed(p.MS, 1)), nil
	})
}

func tenth(v float64) float64 {
	if v < 0 {
		return float64(int(v*10-0.5)) / 10
	}
	return float64(int(v*10+0.5)) / 10
}

// startingDuck is what drawing begins with: the middle of the usual depth, common practice. Where the
// bass leads it is on the kick, whose attack stays.
func startingDuck(leader session.Leader) *move.Duck {
	if leader == session.BassLeads {
		return &move.Duck{School: "curve", Trigger: session.KickTrigger, Points: []move.Point{
			{MS: 20, DB: 0}, {MS: 30, DB: -6}, {MS: 250, DB: -6}, {MS: 300, DB: 0},
		}}
	}
	return &move.Duck{School: "curve", Trigger: session.KickTrigger, Points: []move.Point{
		{MS: -5, DB: 0}, {MS: 0, DB: -6}, {MS: 80, DB: -6}, {MS: 160, DB: 0},
	}}
}

func (s *Server) removePoint(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		was, off := song.Duck()
		i, err := strconv.Atoi(c.PostForm("i"))
		if was == nil || was.Keyed() || err != nil || i <= 0 || i >= len(was.Points)-1 {
			return "", badInput(c, "points", errors.New("the first and the last point hold the curve at 0 dB and stay"))
		}
		d := *was
		d.Points = append(append([]move.Point(nil), was.Points[:i]...), was.Points[i+1:]...)
		song.SetDuck(&d, off, "")
		return fmt.Sprintf("Remove duck point %d", i+1), nil
	})
}

// fit finds the least duck over the whole song, so that what is exported holds everywhere.
func (s *Server) fit(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		school := c.PostForm("school")
		if school == "" {
			school = move.CurveSchool
			if d, _ := song.Duck(); d != nil {
				school = d.School
			}
		}
		if schoolLabel(school) == "" {
			return "", badInput(c, "fit", fmt.Errorf("no school is called %q", school))
		}
		was, _ := song.Duck()
		f, err := s.fitInto(c.Request.Context(), song, school)
		if t := trouble(err); t != "" {
			return "", badInput(c, "fit", errors.New(t))
		}
		if err != nil {
			return "", err
		}
		if f.Duck == nil {
			if was == nil {
				return "", &inputError{Field: "fit", Sentence: f.Reason}
			}
			return "Fit: " + f.Reason, nil
		}
		switch d := f.Duck; d.School {
		case move.CompressorSchool:
			return fmt.Sprintf("Fit a keyed compressor, threshold %s dB", plot.Signed(d.Comp.Threshold, 1)), nil
		case move.BandSchool:
			return fmt.Sprintf("Fit a keyed band dip of %s dB", plot.Signed(d.Band.Range, 1)), nil
		}
		return fmt.Sprintf("Fit a duck of %s dB", plot.Signed(f.Duck.Depth(), 1)), nil
	})
}

// fitSchool fits a duck of one school; where the bass leads, the kick's own curve.
func (s *Server) fitSchool(ctx context.Context, song *session.Song, w mix.Window, school string) (duck.Fitted, error) {
	if song.Leader != session.BassLeads {
		return duck.FitSchool(ctx, s.Renderer, song, w, school)
	}
	line, err := s.bassLine(ctx, song)
	if err != nil {
		return duck.Fitted{}, err
	}
	return duck.FitSongLead(ctx, s.Renderer, song, w, line)
}

// fitInto gives a song the duck that a school's fit over the whole of it finds, or takes its duck away
// where none is needed.
func (s *Server) fitInto(ctx context.Context, song *session.Song, school string) (duck.Fitted, error) {
	n, err := s.Renderer.PairLength(song)
	if err != nil {
		return duck.Fitted{}, err
	}
	f, err := s.fitSchool(ctx, song, mix.Window{To: n}, school)
	if err != nil {
		return f, err
	}
	if f.Duck == nil {
		song.SetDuck(nil, false, "")
		return f, nil
	}
	d := *f.Duck
	d.Trigger = song.DuckTrigger()
	song.SetDuck(&d, false, f.Reason)
	return f, nil
}

// setTargets changes the clearance asked and the cap of the depth.
func (s *Server) setTargets(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		was := song.Targets
		var err error
		if song.Targets.Clearance, err = move.ParseNumber(c.PostForm("clearance"), "dB"); err != nil {
			return "", badInput(c, "targets", fmt.Errorf("the clearance %w", err))
		}
		if song.Targets.MaxDepth, err = move.ParseNumber(c.PostForm("depth"), "dB"); err != nil {
			return "", badInput(c, "targets", fmt.Errorf("the cap %w", err))
		}
		if c.PostForm("ahead-asked") != "" { // an unticked box sends nothing
			song.Targets.NoAhead = c.PostForm("ahead") == ""
		}
		if err := song.Validate(); err != nil {
			return "", badInput(c, "targets", err)
		}
		if c.PostForm("fit") != "" { // dragged along what it costs
			school := move.CurveSchool
			if d, _ := song.Duck(); d != nil {
				school = d.School
			}
			_, err := s.fitInto(c.Request.Context(), song, school)
			if t := trouble(err); t != "" {
				return "", badInput(c, "fit", errors.New(t))
			}
			if err != nil {
				return "", err
			}
			return fmt.Sprintf("Ask %g dB of clearance and fit", song.Targets.Clearance), nil
		}
		if was == song.Targets {
			return "", nil
		}
		ahead := ""
		if was.NoAhead != song.Targets.NoAhead {
			ahead = map[bool]string{true: ", no look-ahead", false: ", with look-ahead"}[song.Targets.NoAhead]
		}
		return fmt.Sprintf("Ask %g dB of clearance, at most %g dB of depth%s", song.Targets.Clearance, song.Targets.MaxDepth, ahead), nil
	})
}

// switchDuck turns the duck off and on.
func (s *Server) switchDuck(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		d, off := song.Duck()
		if d == nil {
			return "", nil
		}
		song.SetDuck(d, !off, song.DuckWhy())
		if off {
			return "Duck on", nil
		}
		return "Duck off", nil
	})
}

func (s *Server) dropDuck(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		if d, _ := song.Duck(); d == nil {
			return "", nil
		}
		song.SetDuck(nil, false, "")
		return "Take the duck away", nil
	})
}

// costView is what the trade-off and the whole song say; it comes after the page.
type costView struct {
	*view
	Trade  template.HTML
	Fitted duck.Fitted
	Bound  meter.Figure // the least that any curve loses for the clearance that the song's own curve has, dB
	Whole  *duck.State
	Ends   float64 // the last clearance that can be reached, dB
	Notes  *duck.PerNote
	Lead   meter.BassLead // where the bass leads: after and
	Led    meter.BassLead // before
}

// ByNote reports whether the song's duck follows the notes already.
func (v costView) ByNote() bool {
	d, _ := v.Song.Duck()
	return d != nil && len(d.Parts) > 0
}

// NotesHelp reports whether following the notes saves any bass that can be seen in the figure.
func (v costView) NotesHelp() bool { return v.Notes != nil && v.Notes.Same-v.Notes.Loss >= 0.05 }

// bassLine is the line of the first bass, as it is tuned.
func (s *Server) bassLine(ctx context.Context, song *session.Song) ([]meter.BassNote, error) {
	basses := song.ByRole(session.Bass)
	if len(basses) == 0 {
		return nil, nil
	}
	a, err := s.Store.Facts(ctx, basses[0].Audio)
	if err != nil {
		return nil, err
	}
	return pocket.TuneLine(intake.Line(a, basses[0].MIDI), basses[0]), nil
}

// perNote lets the curve's depth follow the notes of the bass, or makes it the same for all again.
func (s *Server) perNote(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		d, off := song.Duck()
		if d == nil || d.Keyed() || song.Leader == session.BassLeads {
			return "", badInput(c, "points", errors.New("only a drawn curve on the bass can follow its notes"))
		}
		if c.PostForm("same") != "" {
			one := *d
			one.Parts = nil
			song.SetDuck(&one, off, "")
			return "The same depth for every note", nil
		}
		n, err := s.Renderer.PairLength(song)
		if err != nil {
			return "", err
		}
		line, err := s.bassLine(c.Request.Context(), song)
		if err != nil {
			return "", err
		}
		p, err := duck.FitSongPerNote(c.Request.Context(), s.Renderer, song, mix.Window{To: n}, line)
		if t := trouble(err); t != "" {
			return "", badInput(c, "points", errors.New(t))
		}
		if err != nil {
			return "", err
		}
		if p == nil {
			return "", badInput(c, "points", errors.New("no note of the bass is known"))
		}
		song.SetDuck(p.Duck, off, "")
		return "The duck's depth follows the notes", nil
	})
}

func (s *Server) duckCost(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	n, err := s.Renderer.PairLength(&song.Song)
	if err != nil {
		s.failWith(c, err)
		return
	}
	out := costView{view: &view{Song: song}}
	w := mix.Window{From: 0, To: n}
	if out.Fitted, err = s.fitSchool(c.Request.Context(), &song.Song, w, move.CurveSchool); err == nil {
		out.Whole, err = duck.Measure(c.Request.Context(), s.Renderer, &song.Song, w)
	}
	if err == nil {
		var line []meter.BassNote
		if line, err = s.bassLine(c.Request.Context(), &song.Song); err == nil {
			if out.BassLeads() {
				out.Lead, err = duck.Lead(s.Renderer, out.Whole.Pair, out.Whole.After, line)
				if err == nil {
					out.Led, err = duck.Lead(s.Renderer, out.Whole.Without, out.Whole.Before, line)
				}
			} else {
				out.Notes, err = duck.FitSongPerNote(c.Request.Context(), s.Renderer, &song.Song, w, line)
			}
		}
	}
	if err != nil {
		if trouble(err) == "" {
			s.failWith(c, err)
			return
		}
		s.write(c, http.StatusOK, "duckcost", out)
		return
	}
	trade := out.Fitted.Trade
	out.Bound = meter.None
	if !out.BassLeads() {
		if trade, err = duck.SongTradeOff(c.Request.Context(), s.Renderer, &song.Song, w); err != nil {
			s.failWith(c, err)
			return
		}
		if out.Whole.Readout != nil {
			out.Bound = duck.BoundAt(trade, float64(out.Whole.After.ClearanceP10))
		}
	}
	var pts []plot.TradePoint
	for _, t := range trade {
		pts = append(pts, plot.TradePoint{Clearance: t.Clearance, Loss: t.Loss, Bound: t.Bound})
		out.Ends = t.Clearance
	}
	out.Trade = plot.Trade(pts, song.Targets.Clearance, string(song.Ducked()))
	s.write(c, http.StatusOK, "duckcost", out)
}

// Under tells how many hits of the whole song miss the target.
func (v costView) Under() int {
	if v.BassLeads() {
		return v.Lead.Under(v.Targets.Clearance)
	}
	return v.Whole.After.Under(v.Targets.Clearance)
}

// attachment names a download after the song and the stem.
func attachment(c *gin.Context, name string) {
	c.Header("Content-Disposition", mime.FormatMediaType("attachment", map[string]string{"filename": name}))
}

// duckCurve sends the curve as CSV: ms after the hit, gain in dB.
func (s *Server) duckCurve(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	d, _ := song.Duck()
	if d == nil {
		s.fail(c, http.StatusNotFound, "There is no duck to take away yet. Press Fit, or draw one.")
		return
	}
	var rows []duck.CurveRow
	var err error
	if d.Keyed() {
		rows, err = s.measuredCurve(c, song)
	} else {
		rows, err = duck.Curve(d, song.BPM)
	}
	if err != nil {
		s.failWith(c, err)
		return
	}
	attachment(c, fileSafe(song.Name)+" duck curve.csv")
	c.Header("Content-Type", "text/csv; charset=utf-8")
	w := csv.NewWriter(c.Writer)
	w.Write([]string{"ms", "db"})
	for _, r := range rows {
		w.Write([]string{strconv.FormatFloat(r.MS, 'f', 3, 64), strconv.FormatFloat(r.DB, 'f', 3, 64)})
	}
	w.Flush()
}

// duckedStem sends a bass with its duck, over its whole length, as a 24-bit WAV.
func (s *Server) duckedStem(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	st := song.Stem(c.Query("stem"))
	if st == nil {
		if b := song.ByRole(song.Ducked()); len(b) > 0 {
			st = b[0]
		}
	}
	if st == nil {
		s.fail(c, http.StatusNotFound, "There is no bass to take away.")
		return
	}
	n, err := s.stemLength(song, st)
	if err != nil {
		s.failWith(c, err)
		return
	}
	b, _, err := s.Renderer.Stem(&song.Song, st, mix.Window{From: 0, To: n})
	if err != nil {
		s.failWith(c, err)
		return
	}
	if p := meter.PeakDB(b.Ch...); p.Valid() && p > 0 {
		c.Header("X-Clipped", "true")
	}
	switch c.Query("as") {
	case "flac":
		f, err := os.CreateTemp("", "mellowthump-*.flac")
		if err != nil {
			s.failWith(c, err)
			return
		}
		defer os.Remove(f.Name())
		defer f.Close()
		if err := flac.Write(f, b, 24); err != nil {
			s.failWith(c, err)
			return
		}
		attachment(c, fileSafe(st.Name)+" ducked.flac")
		c.File(f.Name())
	case "wav16":
		attachment(c, fileSafe(st.Name)+" ducked.wav")
		sendWAV(c, b, wav.Int16)
	case "wav32":
		attachment(c, fileSafe(st.Name)+" ducked.wav")
		sendWAV(c, b, wav.Float32)
	default:
		attachment(c, fileSafe(st.Name)+" ducked.wav")
		sendWAV(c, b, wav.Int24)
	}
}

// duckHits sends the trigger's hits as a MIDI file.
func (s *Server) duckHits(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	hits, err := s.Renderer.Hits(&song.Song, song.DuckTrigger())
	if err != nil {
		s.failWith(c, err)
		return
	}
	if len(hits) == 0 {
		s.fail(c, http.StatusNotFound, "There are no hits to take away.")
		return
	}
	const key, length = 36, 0.05 // C2, s
	var notes []midi.Note
	for _, h := range hits {
		at := float64(h) / float64(song.Rate)
		notes = append(notes, midi.Note{Start: at, End: at + length, Key: key})
	}
	var out bytes.Buffer
	if err := midi.Write(&out, notes, song.BPM); err != nil {
		s.failWith(c, err)
		return
	}
	attachment(c, fileSafe(song.Name)+" hits.mid")
	c.Data(http.StatusOK, "audio/midi", out.Bytes())
}

func (s *Server) stemLength(song *store.Song, st *session.Stem) (int, error) {
	one := song.Song
	one.Stems = []session.Stem{*st}
	return s.Renderer.Length(&one)
}

// fileSafe makes a name fit for a file.
func fileSafe(name string) string {
	return strings.Map(func(r rune) rune {
		if strings.ContainsRune(`/\:*?"<>|`, r) || r < ' ' {
			return '-'
		}
		return r
	}, name)
}
