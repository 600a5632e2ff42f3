package compare

import (
	"cmp"
	"fmt"
	"html/template"
	"net/http"
	"slices"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/app/web/shell"
	"mellowthump/core/compare"
	"mellowthump/core/session"
)

// devicesView is what vanishes on the stand-ins.
type devicesView struct {
	*shell.View
	Says    string
	Devices []deviceColumn
	Stems   []deviceRow
}

type deviceColumn struct {
	compare.OnDevice
	Response template.HTML
	Notes    string // unheard of all; empty: the bass has none
}

type deviceRow struct {
	Name  string
	Role  session.Role
	Cells []deviceCell
	worst float64 // the most that is missing of it anywhere
}

type deviceCell struct {
	compare.StemThere
	Bar   template.HTML
	Share string
	Gone  bool // most of what is heard in the room is not heard there
	Title string
}

// devices answers with what vanishes on each stand-in.
func (h *handlers) devices(c *gin.Context) {
	v := h.Look(c, "compare")
	if v == nil {
		return
	}
	all, err := compare.DevicesOn(c.Request.Context(), v.Bench)
	if err != nil {
		h.FailWith(c, err)
		return
	}
	out := devicesView{View: v, Says: worst(all)}
	for _, d := range all {
		col := deviceColumn{OnDevice: d, Response: plot.Response(d.Device)}
		if d.Notes != nil && len(d.Notes.Notes) > 0 {
			col.Notes = fmt.Sprintf("%d of %d", len(d.Notes.Unheard()), len(d.Notes.Notes))
		}
		out.Devices = append(out.Devices, col)
	}
	for _, st := range v.Stems {
		row := deviceRow{Name: st.Name, Role: st.Role}
		for _, d := range all {
			for _, s := range d.Stems {
				if s.ID != st.ID {
					continue
				}
				cell := deviceCell{StemThere: s, Gone: s.Missing() > gone*float64(s.Room) && s.Missing() > 0.05}
				cell.Share = "silent"
				if s.Room.Valid() {
					cell.Share = fmt.Sprintf("%.0f %%", 100*s.There)
					cell.Bar = plot.HeardBar("heard-"+d.ID+"-"+s.ID, float64(s.Room), float64(s.There))
					cell.Title = fmt.Sprintf(
						"%s on %s: heard in %.0f %% of the frames in which it sounds, %.0f %% in the room; it loses %s dB against the mix",
						s.Name,
						d.Name,
						100*s.There,
						100*s.Room,
						shell.Figure(s.Lost, 1),
					)
				}
				row.Cells, row.worst = append(row.Cells, cell), max(row.worst, s.Missing())
			}
		}
		if len(row.Cells) > 0 {
			out.Stems = append(out.Stems, row)
		}
	}
	slices.SortStableFunc(out.Stems, func(a, b deviceRow) int { return cmp.Compare(b.worst, a.worst) }) // the worst first
	h.Write(c, http.StatusOK, "comparedevices", out)
}

// gone is from which share of its heard frames on a stem is said to vanish.
const gone = 0.4

// worst says what vanishes most, on the stand-in that loses most.
func worst(all []compare.OnDevice) string {
	best, most := "", 0.0
	for _, d := range all {
		var lost []string
		score := 0.0
		if n := len(d.Vanished.Unheard); n > 0 {
			lost = append(lost, fmt.Sprintf("%d of %d kick hits", n, d.Hits))
			score += float64(n) / float64(d.Hits)
		}
		if d.Notes != nil {
			if n := len(d.Notes.Unheard()); n > 0 {
				lost = append(lost, fmt.Sprintf("%d of %d bass notes", n, len(d.Notes.Notes)))
				score += float64(n) / float64(len(d.Notes.Notes))
			}
		}
		for _, s := range d.Stems {
			if m := s.Missing(); m > gone*float64(s.Room) && m > 0.05 {
				lost = append(lost, fmt.Sprintf("%s (heard in %.0f %% of its frames, %.0f %% in the room)", s.Name, 100*s.There, 100*s.Room))
				score += m
			}
		}
		if score > most {
			best, most = fmt.Sprintf("Most is lost on %s: %s.", d.Name, strings.Join(lost, ", ")), score
		}
	}
	if best == "" {
		return "Nothing that is heard in the room vanishes on any of them."
	}
	return best
}
