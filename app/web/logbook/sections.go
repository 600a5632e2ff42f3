package logbook

import (
	"context"
	"errors"
	"fmt"
	"html/template"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/bench"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// sectionsView is where parts come and go: the picture, and the song's sections, or those that are proposed.
type sectionsView struct {
	*shell.View
	Picture  template.HTML
	Rows     []sectionRow
	Proposed bool
	Keyed    bool           // a keyed duck works on the song, which rests in no section
	Figures  bool           // they come after
	Tempo    *pair.Proposal // what the hits say of tempo or first bar, where the song's are others
}

type sectionRow struct {
	session.Section
	Place  string // where it begins, as it is typed
	Bars   string // how long it is
	Span   session.Span
	Typed  typedSection // what its fields show: what was typed, where that was refused
	Judged bool         // it is the judged stretch
	Who    string       // who is missing
	Late   bool         // it lies behind the song's end
}

// missingNamed is how many stems are named that a section is without; more are counted.
const missingNamed = 3

// typedSection is a section as it is typed; Depth is that of the ducks, % of what they are everywhere.
type typedSection struct{ Name, Place, Depth string }

// placeOf names a time as a person types it: a bar where it begins one.
func placeOf(s *session.Song, at float64) string {
	if bar, ok := strings.CutSuffix(s.Position(at), ".1.00"); ok {
		return bar
	}
	return s.Position(at)
}

// seconds is the song's length, s.
func seconds(v *shell.View) float64 { return float64(v.Length) / math.Max(1, float64(v.Rate)) }

// sections puts in what the part shows.
func (h *handlers) sections(v *shell.View) sectionsView {
	out := sectionsView{View: v}
	song := v.Song.Song
	if out.Proposed = len(song.Sections) == 0; out.Proposed {
		if song.Sections = v.Bench.ProposeSections(); len(song.Sections) == 1 {
			song.Sections = nil // they play throughout
		}
	}
	for i, e := range song.Sections {
		row := sectionRow{Section: e, Place: placeOf(&song, e.From), Span: song.SectionSpan(i, seconds(v))}
		row.Typed = typedSection{e.Name, row.Place, figure.Short(100 * (1 - e.Shallower))}
		if v.Error("sections") != "" && v.Typed("at", "") == strconv.Itoa(i) {
			row.Typed = typedSection{v.Typed("name", row.Typed.Name), v.Typed("from", row.Typed.Place), v.Typed("depth", row.Typed.Depth)}
		}
		n := (row.Span.To - row.Span.From) / song.BarSeconds()
		row.Bars = figure.Short(math.Round(10*n) / 10)
		row.Late = row.Span.To <= row.Span.From
		if missing := v.Bench.Missing(row.Span.From, row.Span.To); len(missing) > missingNamed {
			row.Who = "without " + figure.Count(len(missing), "stem")
		} else if len(missing) > 0 {
			row.Who = "without " + figure.List(missing, "and")
		}
		rate := float64(v.Rate)
		row.Judged = math.Abs(float64(v.Win.From)/rate-row.Span.From)+math.Abs(float64(v.Win.To)/rate-row.Span.To) < 0.01
		out.Rows = append(out.Rows, row)
	}
	d, off := song.Duck()
	out.Keyed = d != nil && !off && d.Keyed()
	out.Picture = sectionsPicture(v, &song, out.Proposed, nil)
	out.Figures = !out.Proposed
	for _, p := range pair.Proposals(v.Bench, nil) {
		if p.Field == "bpm" || p.Field == "grid" {
			out.Tempo = &p
		}
	}
	return out
}

// sectionsPicture draws the song with its sections; under are the hits under the target.
func sectionsPicture(v *shell.View, song *session.Song, proposed bool, under [][2]float64) template.HTML {
	p := plot.Sections{
		Seconds:  seconds(v),
		Bar:      song.BarSeconds(),
		Grid:     song.Grid,
		Names:    [2]string{v.KickName(), v.BassName()},
		Proposed: proposed,
		Under:    under,
		Kick:     shell.SumOverview(v, session.Kick, seconds(v)),
		Bass:     shell.SumOverview(v, session.Bass, seconds(v)),
	}
	for _, e := range song.Sections {
		m := plot.SectionMark{Name: e.Name, From: e.From, Place: placeOf(song, e.From)}
		switch {
		case e.Rests():
			m.Note = "ducks rest"
		case e.Shallower > 0:
			m.Note = fmt.Sprintf("ducks %s %%", figure.Short(100*(1-e.Shallower)))
		}
		p.Marks = append(p.Marks, m)
	}
	for i := range song.Stems {
		st := &song.Stems[i]
		strip := plot.SectionStrip{Name: st.Name, Role: string(st.Role)}
		for _, s := range v.Bench.PlaysIn(st) {
			strip.Plays = append(strip.Plays, [2]float64{s.From, s.To})
		}
		p.Strips = append(p.Strips, strip)
	}
	return plot.SongSections(p)
}

var (
	errNoSection = errors.New("that section is no longer there; reload to see the song as it is")
	errDepth     = errors.New("the depth of the ducks in a section is typed from 0 to 100 %; 0 lets them rest")
)

// setSections changes the song's sections in one of the ways in which a person does.
func (h *handlers) setSections(c *gin.Context) {
	h.WorkOut(c, "log", "sections", func(song *session.Song) (session.Edit, error) {
		e, err := h.sectionsEdit(c, song)
		if err != nil && c.Request.Context().Err() == nil {
			return nil, shell.BadInput("sections", err)
		}
		return e, err
	})
}

func (h *handlers) sectionsEdit(c *gin.Context, song *session.Song) (session.Edit, error) {
	all := slices.Clone(song.Sections)
	b, err := h.Bench(c.Request.Context(), song)
	if err != nil {
		return nil, err
	}
	end := float64(b.Length) / math.Max(1, float64(song.Rate))
	i, err := strconv.Atoi(c.DefaultPostForm("at", "0"))
	if do := c.Param("do"); (do == "set" || do == "drop") && (err != nil || i < 0 || i >= len(all)) {
		return nil, errNoSection
	}
	switch c.Param("do") {
	case "propose":
		all = b.ProposeSections()
		if len(all) < 2 {
			return nil, errors.New("the stems play throughout, or for less than eight bars: cut the song by hand where you hear a new part")
		}
		return session.SetSections{Sections: all, Said: "Sections where parts come and go: " + strconv.Itoa(len(all))}, nil
	case "clear":
		return session.SetSections{Said: "No sections"}, nil
	case "cut":
		from, err := song.ParsePosition(c.PostForm("cut"))
		if err != nil {
			return nil, err
		}
		if from >= end-session.LeastLoop {
			return nil, fmt.Errorf("the song ends at bar %s", placeOf(song, end))
		}
		return cutAt(song, all, from, strings.TrimSpace(c.PostForm("called"))), nil
	case "drop":
		return dropped(song, all, i), nil
	case "set":
		return changed(c, song, all, i, end)
	}
	return nil, errNoSection
}

// cutAt begins a section at a place; what lies before the first becomes one too.
func cutAt(song *session.Song, all []session.Section, from float64, name string) session.SetSections {
	if name == "" {
		name = fmt.Sprintf("Part %d", len(all)+1)
	}
	less := 0.0
	if i := song.SectionAt(from); i >= 0 {
		less = all[i].Shallower // it was a part of that
	}
	if len(all) == 0 && from > 0 {
		all = append(all, session.Section{Name: "Part 1"})
		if name == "Part 1" {
			name = "Part 2"
		}
	}
	all = append(all, session.Section{Name: name, From: from, Shallower: less})
	slices.SortStableFunc(all, func(a, b session.Section) int {
		if a.From < b.From {
			return -1
		}
		return 1
	})
	return session.SetSections{Sections: all, Said: fmt.Sprintf("Section %s from bar %s", name, placeOf(song, from))}
}

// dropped joins a section to the one before it, the first to the one after.
func dropped(song *session.Song, all []session.Section, i int) session.SetSections {
	name := all[i].Name
	if i == 0 && len(all) > 1 {
		all[1].From = all[0].From
	}
	all = slices.Delete(all, i, i+1)
	if len(all) == 0 {
		return session.SetSections{Said: "No sections"}
	}
	return session.SetSections{Sections: all, Said: fmt.Sprintf("Join %s to %s", name, all[max(0, i-1)].Name)}
}

// changed gives a section what its row says: its name, where it begins, how deep the ducks are.
func changed(c *gin.Context, song *session.Song, all []session.Section, i int, end float64) (session.Edit, error) {
	was := all[i]
	e := &all[i]
	e.Name = strings.TrimSpace(c.PostForm("name"))
	if at := strings.TrimSpace(c.PostForm("from")); at != placeOf(song, was.From) {
		var err error
		if e.From, err = song.ParsePosition(at); err != nil {
			return nil, err
		}
		if e.From >= end {
			return nil, fmt.Errorf("the song ends at bar %s", placeOf(song, end))
		}
	}
	depth, err := field.Number(c.PostForm("depth"), "%")
	if err != nil || !(depth >= 0 && depth <= 100) {
		return nil, errDepth
	}
	e.Shallower = math.Round(1e4*(1-depth/100)) / 1e4
	var said []string
	if e.Name != was.Name {
		said = append(said, fmt.Sprintf("Section %s is %s", was.Name, e.Name))
	}
	if e.From != was.From {
		said = append(said, fmt.Sprintf("%s begins at bar %s", e.Name, placeOf(song, e.From)))
	}
	switch {
	case e.Shallower == was.Shallower:
	case e.Rests():
		said = append(said, "The ducks rest in "+e.Name)
	case e.Shallower == 0:
		said = append(said, "The ducks are as deep in "+e.Name+" as everywhere")
	default:
		said = append(said, fmt.Sprintf("The ducks have %s %% of their depth in %s", figure.Short(depth), e.Name))
	}
	return session.SetSections{Sections: all, Said: strings.Join(said, "; ")}, nil
}

// sectionFigures is what is measured of a section.
type sectionFigures struct {
	Name            string
	Trouble         string // why kick and bass have no figures there
	Hits, Under     int
	Met             bool // nine of ten hits reach the target
	P10, Peak, LUFS meter.Figure
	Off             meter.Figure // how far off its window what is furthest lies
	Furthest        string
}

// P10Text and the others are the figures as they are shown.
func (f sectionFigures) P10Text() string { return shell.Figure(f.P10, figure.Of("p10").Decimals) }
func (f sectionFigures) PeakText() string {
	return shell.Figure(f.Peak, figure.Of("premaster").Decimals)
}
func (f sectionFigures) LUFSText() string {
	return shell.Figure(f.LUFS, figure.Of("loudness").Decimals)
}
func (f sectionFigures) OffText() string { return shell.Figure(f.Off, figure.Of("offwindow").Decimals) }

type sectionFiguresView struct {
	*shell.View
	Picture template.HTML
	Rows    []sectionFigures
	Target  float64
}

// figures answers with the figures of each section, and with the picture in which the hits under the target are hatched.
func (h *handlers) sectionFigures(c *gin.Context) {
	v := h.Look(c, "log")
	if v == nil {
		return
	}
	out := sectionFiguresView{View: v, Target: v.Targets.Clearance}
	var under [][2]float64
	for i, e := range v.Sections {
		b := v.Bench.Section(i)
		if b == nil {
			continue
		}
		row, hits, err := measured(c.Request.Context(), b)
		if err != nil {
			h.FailWith(c, err)
			return
		}
		row.Name = e.Name
		out.Rows, under = append(out.Rows, row), append(under, hits...)
	}
	out.Picture = sectionsPicture(v, &v.Song.Song, false, under)
	h.Write(c, http.StatusOK, "sectionfigures", out)
}

// measured takes the figures of a section on its bench; under are its hits under the target, from and to, s.
func measured(ctx context.Context, b *bench.Bench) (row sectionFigures, under [][2]float64, err error) {
	row = sectionFigures{P10: meter.None, Peak: meter.None, LUFS: meter.None, Off: meter.None}
	loud, err := b.Loudness(ctx, mix.SoloAll)
	if err != nil {
		return row, nil, err
	}
	row.Peak, row.LUFS = loud.Peak, loud.Integrated
	l, err := levels.LedgerOn(ctx, b, b.Whole())
	if err != nil {
		return row, nil, err
	}
	name, db := l.FurthestOff()
	row.Furthest, row.Off = name, meter.Figure(db)
	st, err := pair.On(ctx, b)
	if t := bench.Trouble(err); t != "" {
		row.Trouble = map[bool]string{true: "the ducks rest", false: "no kick against bass"}[errors.Is(err, mix.ErrRests)]
		return row, nil, nil
	}
	if err != nil {
		return row, nil, err
	}
	asked := b.Song.Targets.Clearance - 0.05
	row.Met = pair.MetBy(st.After, b.Song.Targets.Clearance)
	row.Hits, row.Under, row.P10 = len(st.After.Hits), st.After.Under(asked), st.After.ClearanceP10
	for _, hit := range st.After.Hits {
		if hit.Clearance.Valid() && float64(hit.Clearance) < asked {
			under = append(under, [2]float64{hit.At, hit.At + hit.Window/1000})
		}
	}
	return row, under, nil
}
