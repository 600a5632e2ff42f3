// Package print is the stage Print in the browser: how loud, what does it cost, what goes out?
package print

import (
	"context"
	"embed"
	"errors"
	"fmt"
	"html/template"
	"io/fs"
	"math"
	"net/http"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/app/worker"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/print"
	"mellowthump/core/session"
)

//go:embed *.html *.css *.js
var files embed.FS

type handlers struct{ *shell.Server }

// Stage returns the stage.
func Stage(s *shell.Server) *shell.Stage {
	h := &handlers{s}
	return &shell.Stage{
		Stage:    &print.Stage,
		OnMaster: session.PrintMove,
		Files:    []fs.FS{files},
		Sheet:    h.sheet,
		Try:      h.try,
		Routes: func(g *gin.RouterGroup) {
			g.POST("/print/solve", h.LimitForm, h.solve)
			g.GET("/print/costs", h.Whole, h.costs)
			g.GET("/print/who", h.Whole, h.who)
			g.GET("/print/goes", h.goes)
			g.GET("/print/sheet", h.sheetPage)
			g.POST("/print/goes", h.LimitForm, h.goOut)
			g.POST("/print/goes/:job/cancel", h.LimitForm, h.stopGoing)
			g.GET("/print/goes/:job", h.fetch)
		},
		Jobs:    map[string]worker.Kind{shell.PrintJob: {Run: h.runGoes}},
		Scripts: []string{"print.js"},
	}
}

// school is a school of the last stage.
type school struct{ Key, Name, Does string }

var schools = []school{
	{"none", "untouched", "the premaster as it is: the loudness is left to mastering"},
	{"clip", "clip, then ceiling", "a soft clip takes the tips, a limiter the rest"},
	{"limit", "limiter", "a limiter alone"},
	{"two", "two limiters", "a slow one first; the second takes at most 1.5 dB"},
}

type sheet struct {
	*shell.View
	Rules   session.Print
	Schools []school
	*print.PrintedLoop
	Picture template.HTML
	Rows    []row
	Chains  []*shell.Chain
	Service string
	On      bool
	Silent  bool
}

type row struct {
	Name, Unit, Def string
	Decimals        int
	Before, Now     meter.Figure
}

func (h *handlers) sheet(c *gin.Context, v *shell.View) (any, error) {
	out := &sheet{View: v, Rules: v.PrintRules(), Schools: schools, On: v.Printed()}
	v.Lead = v.Trouble
	if len(v.Stems) == 0 {
		return out, nil
	}
	var err error
	if out.PrintedLoop, err = print.PrintedOn(c.Request.Context(), v.Bench); err != nil {
		return nil, err
	}
	p := out.PrintedLoop
	if out.Silent = !p.Before.Loudness.Valid(); out.Silent {
		v.Lead = "The loop is silent: there is nothing to print. Choose a stretch that sounds on the deck and press “judge it”."
		return out, nil
	}
	out.Rows = rows(p)
	if err := h.JudgeLater(c, v); err != nil {
		return nil, err
	}
	v.Lead = lead(out)
	out.Service = service(p)
	out.Picture = plot.PrintHits(
		plot.Printing{
			Hits:   p.Hits,
			Rate:   v.Rate,
			Frames: v.Win.Frames(),
			Beats:  v.Beats(float64(v.Win.From)/float64(v.Rate), float64(v.Win.To)/float64(v.Rate)),
			From:   float64(v.Win.From) / float64(v.Rate),
			Kick:   v.KickName(),
			Bass:   v.BassName(),
		},
	)
	for _, at := range v.Places() {
		if at == (session.At{}) {
			out.Chains = append(out.Chains, v.ChainAt(at))
		}
	}
	return out, nil
}

func rows(p *print.PrintedLoop) []row {
	return []row{
		{"loudness", "LUFS", "lufs", 1, p.Before.Loudness, p.Now.Loudness},
		{"true peak", "dBTP", "truepeak", 1, p.Before.TruePeak, p.Now.TruePeak},
		{"crest", "dB", "", 1, p.Before.Crest, p.Now.Crest},
		{"attack of the hits", "dB", "printattack", 1, p.Before.Attack, p.Now.Attack},
		{"clearance in 9 of 10 hits", "dB", "p10", 1, p.Before.Clearance, p.Now.Clearance},
		{"clipped", "%", "clipped", 1, p.Before.Clipped, p.Now.Clipped},
		{"most reduction", "dB", "reduction", 1, p.Before.Most, p.Now.Most},
		{"reduction where it works", "dB", "", 1, p.Before.Mean, p.Now.Mean},
	}
}

// reached is how near to the loudness that is asked a print has to come, LU.
const reached = 0.3

func lead(out *sheet) string {
	p := out.PrintedLoop
	if !out.On {
		return fmt.Sprintf(
			"The premaster is untouched: %s LUFS, %s dBTP. Ask for a loudness and solve it, or leave it to mastering.",
			shell.Figure(p.Before.Loudness, 1),
			shell.Figure(p.Before.TruePeak, 1),
		)
	}
	said := []string{fmt.Sprintf("%s LUFS", shell.Figure(p.Now.Loudness, 1))}
	if out.Rules.School != "none" && math.Abs(float64(p.Now.Loudness)-out.Rules.LUFS) > reached {
		said[0] += fmt.Sprintf(", where %s were asked", figure.Signed(out.Rules.LUFS, 1))
	}
	if p.Now.Clipped.Valid() {
		most := 0.0
		for _, h := range p.Hits {
			most = math.Max(most, h.Shaved)
		}
		said = append(said, fmt.Sprintf("at most %s dB shaved", figure.Short(most)))
	}
	if p.Now.Most.Valid() {
		said = append(said, fmt.Sprintf("at most %s dB turned down", shell.Figure(p.Now.Most, 1)))
	}
	if d := p.Before.Attack - p.Now.Attack; d.Valid() {
		said = append(said, fmt.Sprintf("the hits' attack %s dB less", figure.Short(float64(d))))
	}
	return strings.Join(said, ", ") + "."
}

// service says what a service that evens loudness out makes of it.
func service(p *print.PrintedLoop) string {
	if !p.Now.Loudness.Valid() || !p.Before.Loudness.Valid() {
		return ""
	}
	off := float64(p.Now.Loudness) - print.Service
	if off <= 0.05 {
		return fmt.Sprintf("A service that evens loudness out to %s LUFS (common practice) takes nothing off.", figure.Signed(print.Service, 0))
	}
	out := fmt.Sprintf(
		"A service that evens loudness out to %s LUFS (common practice) turns this down by %s dB",
		figure.Signed(print.Service, 0),
		figure.Short(off),
	)
	// played equally loud, the peaks of each stand so far over its loudness
	if gain := (float64(p.Before.TruePeak) - float64(p.Before.Loudness)) - (float64(p.Now.TruePeak) - float64(p.Now.Loudness)); gain > 0.1 {
		out += fmt.Sprintf(": there, the premaster's hits would stand %s dB higher", figure.Short(gain))
	}
	return out + "."
}

// asked reads what a print is to be.
func asked(school, lufs, ceiling string) (session.Print, error) {
	p, typed := session.Print{}, map[string]string{"school": school, "lufs": lufs, "ceiling": ceiling}
	return p, field.Read(p.Fields(), func(name string) (string, bool) { return typed[name], true })
}

// solve finds the chain for what is asked, and puts it on the master.
func (h *handlers) solve(c *gin.Context) {
	h.WorkOut(c, "print", "solve", func(song *session.Song) (session.Edit, error) {
		return h.solved(c.Request.Context(), song, c.PostForm("school"), c.PostForm("lufs"), c.PostForm("ceiling"))
	})
}

func (h *handlers) solved(ctx context.Context, song *session.Song, school, lufs, ceiling string) (session.Edit, error) {
	p, err := asked(school, lufs, ceiling)
	if err != nil {
		return nil, shell.BadInput("solve", err)
	}
	if p.School == "none" {
		return session.SetPrint{Print: p}, nil
	}
	b, err := h.Bench(ctx, song)
	if err != nil {
		return nil, err
	}
	s, err := print.SolveOn(ctx, b, p)
	if err != nil {
		return nil, err
	}
	if s == nil {
		return nil, shell.BadInput("solve", errors.New("the loop is silent: there is nothing to make louder"))
	}
	why := fmt.Sprintf("%s LUFS asked", figure.Signed(p.LUFS, 1))
	if !s.Reached {
		why = fmt.Sprintf("%s LUFS asked; %s is as near as this school comes", figure.Signed(p.LUFS, 1), shell.Figure(s.After.Loudness, 1))
	}
	return session.SetPrint{Print: p, Moves: s.Chain, Why: why}, nil
}

// try works out the print that is heard before it is made: "solve:school:lufs:ceiling".
func (h *handlers) try(ctx context.Context, song *store.Song, t ask.Try) (session.Edit, error) {
	if !t.Is("solve", 3) {
		return nil, &shell.InputError{Field: "solve", Sentence: "There is nothing of that name to hear."}
	}
	return h.solved(ctx, &song.Song, t.Args[0], t.Args[1], t.Args[2])
}

// costs answers with what loudness costs by the school that is chosen, beside a limiter alone.
func (h *handlers) costs(c *gin.Context) {
	v := h.Look(c, "print")
	if v == nil {
		return
	}
	rules := v.PrintRules()
	if rules.School == "none" {
		rules.School = "clip"
	}
	plain := rules
	plain.School = "limit"
	var own, limit []print.Cost
	g, ctx := group.WithContext(c.Request.Context())
	g.Go(func() (err error) {
		own, err = print.CostsOn(ctx, v.Bench, rules)
		return err
	})
	if rules.School != "limit" {
		g.Go(func() (err error) {
			limit, err = print.CostsOn(ctx, v.Bench, plain)
			return err
		})
	}
	if err := g.Wait(); err != nil {
		h.FailWith(c, err)
		return
	}
	out := map[string]any{"ID": v.ID, "Own": own}
	if len(own) > 1 {
		out["Picture"] = plot.LoudnessCost(own, limit, rules.LUFS)
	}
	h.Write(c, http.StatusOK, "printcosts", out)
}

// culprit is a stem with its share of the limiters' work.
type culprit struct {
	Name string
	Of   float64
	Bar  template.HTML
}

// who answers with who made the limiters work.
func (h *handlers) who(c *gin.Context) {
	v := h.Look(c, "print")
	if v == nil {
		return
	}
	w, stems, err := print.WhoOn(c.Request.Context(), v.Bench)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := map[string]any{"ID": v.ID, "On": w != nil}
	if w != nil && len(w.Shares) > 0 {
		var all []culprit
		rest := 0.0
		for i, s := range w.Shares {
			if i >= 5 || s.Of < 0.02 {
				rest += s.Of
				continue
			}
			st := stems[s.Part]
			all = append(all, culprit{st.Name, s.Of, plot.ShareBar("share-"+st.ID, string(st.Role), s.Of)})
		}
		if rest > 0.005 {
			all = append(all, culprit{"the others", rest, plot.ShareBar("share-rest", "", rest)})
		}
		out["All"] = all
		type place struct {
			At, By string
			From   float64
			Most   float64
		}
		var places []place
		for _, p := range w.Places {
			by := ""
			if len(p.Shares) > 0 {
				by = fmt.Sprintf("%s %.0f %%", stems[p.Shares[0].Part].Name, 100*p.Shares[0].Of)
			}
			at := float64(v.Win.From+p.From) / float64(v.Rate)
			places = append(places, place{v.Position(at), by, at, p.Most})
		}
		out["Places"] = places
		if w.Trim >= 0 && w.Saves >= 0.05 {
			out["Saves"] = fmt.Sprintf("1 dB off %s would save %s dB of the deepest reduction.", stems[w.Trim].Name, figure.Short(w.Saves))
		}
	}
	h.Write(c, http.StatusOK, "printwho", out)
}
