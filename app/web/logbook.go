package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/meter"
)

type logSheet struct {
	*view
	Takes   []takeRow
	History []store.Revision
}

type takeRow struct {
	store.Take
	Numbers takeNumbers
	Now     bool
}

// takeNumbers is what was measured when a take was saved.
type takeNumbers struct {
	ClearanceMedian meter.Figure `json:"clearance_median_db"`
	ClearanceP10    meter.Figure `json:"clearance_p10_db"`
	Depth           meter.Figure `json:"depth_db"`
	BassLoss        meter.Figure `json:"bass_loss_lu"`
	Peak            meter.Figure `json:"peak_dbfs"`
	Loudness        meter.Figure `json:"loudness_lufs"`
	Loop            string       `json:"loop"`
}

const historyShown = 40

func (s *Server) logSheet(c *gin.Context, v *view) (*logSheet, error) {
	out := &logSheet{view: v}
	takes, err := s.Store.Takes(c.Request.Context(), v.ID)
	if err != nil {
		return nil, err
	}
	for _, t := range takes {
		row := takeRow{Take: t, Now: t.Revision == v.Rev}
		if err := json.Unmarshal([]byte(t.Numbers), &row.Numbers); err != nil {
			return nil, fmt.Errorf("the numbers of take %q: %w", t.Name, err)
		}
		out.Takes = append(out.Takes, row)
	}
	if out.History, err = s.Store.History(c.Request.Context(), v.ID, historyShown); err != nil {
		return nil, err
	}
	v.Lead = "No takes yet. Save one when it sounds right; nothing you do after it can overwrite it."
	if n := len(takes); n > 0 {
		v.Lead = count(n, "take") + ". Every change below is kept; going back makes a new change, so nothing is lost."
	}
	return out, nil
}

// saveTake names the song as it is now, with its numbers.
func (s *Server) saveTake(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	stage := currentStage(c)
	name, note := strings.TrimSpace(c.PostForm("name")), strings.TrimSpace(c.PostForm("note"))
	_ = c.Request.ParseForm()
	var wrong error
	switch {
	case name == "":
		wrong = errors.New("a take needs a name")
	case len([]rune(name)) > 80:
		wrong = errors.New("the take's name is longer than 80 characters")
	case len([]rune(note)) > 2000:
		wrong = errors.New("the note is longer than 2000 characters")
	}
	if wrong != nil {
		s.fail(c, http.StatusUnprocessableEntity, sentence(wrong.Error()))
		return
	}
	v, err := s.view(c, song, stage, nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	n := takeNumbers{ClearanceMedian: meter.None, ClearanceP10: meter.None, Depth: meter.None, BassLoss: meter.None,
		Peak: v.Levels.Peak, Loudness: v.Levels.Integrated, Loop: v.Bars()}
	if st := v.State; st != nil {
		n.ClearanceMedian, n.ClearanceP10 = st.After.ClearanceMedian, st.After.ClearanceP10
		if st.Readout != nil {
			n.Depth, n.BassLoss = st.Readout.Depth, st.Readout.BassLoss
		}
	}
	if len(v.Stems) == 0 {
		n.Peak, n.Loudness, n.Loop = meter.None, meter.None, ""
	}
	if err := s.Store.SaveTake(c.Request.Context(), song.ID, song.Rev, name, note, n); err != nil {
		s.failWith(c, err)
		return
	}
	c.Header("HX-Trigger", "take-saved")
	s.answer(c, stage, http.StatusOK, nil)
}

func (s *Server) returnToTake(c *gin.Context) {
	base, _ := strconv.ParseInt(c.PostForm("rev"), 10, 64)
	take, _ := strconv.ParseInt(c.Param("take"), 10, 64)
	if base == 0 {
		base = -1
	}
	if _, err := s.Store.Return(c.Request.Context(), c.Param("id"), base, take); err != nil {
		s.failWith(c, err)
		return
	}
	s.answer(c, "log", http.StatusOK, nil)
}
