package levels

import (
	"fmt"
	"math"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/shell"
	"mellowthump/core/field"
	"mellowthump/core/session"
)

// setGain changes one gain at one step.
func (h *handlers) setGain(c *gin.Context) {
	h.WorkOut(c, "levels", "gain", func(*session.Song) (session.Edit, error) {
		db, err := field.Number(c.PostForm("db"), "dB")
		if err != nil {
			return nil, shell.BadInput("gain", err)
		}
		return session.Gain{At: session.ParseAt(c.PostForm("of")), Step: session.Step(c.PostForm("step")), DB: db}, nil
	})
}

// locks reads which of some steps are ticked as locked.
func locks(c *gin.Context, steps []session.Step) []session.Step {
	var out []session.Step
	for _, step := range steps {
		if c.PostForm("lock-"+string(step)) != "" {
			out = append(out, step)
		}
	}
	return out
}

// setStemRouting changes where a stem goes, its pan and width, its sends and locks.
func (h *handlers) setStemRouting(c *gin.Context) {
	h.WorkOut(c, "levels", "detail", func(song *session.Song) (session.Edit, error) {
		pan, err := field.Number(c.PostForm("pan"), "%")
		if err != nil {
			return nil, shell.BadInput("detail", fmt.Errorf("the pan %w", err))
		}
		width, err := field.Number(c.PostForm("width"), "%")
		if err != nil {
			return nil, shell.BadInput("detail", fmt.Errorf("the width %w", err))
		}
		e := session.Route{
			Stem: c.Param("stem"), Pan: pan / 100, Width: math.Round(1e6*(width/100-1)) / 1e6,
			Mute: c.PostForm("mute") != "", Bus: c.PostForm("bus"), Locks: locks(c, session.StemSteps),
		}
		for _, b := range song.Buses {
			text := strings.TrimSpace(c.PostForm("send-" + b.ID))
			if text == "" || text == "–" {
				continue
			}
			db, err := field.Number(text, "dB")
			if err != nil {
				return nil, shell.BadInput("detail", fmt.Errorf("the send to %s %w", b.Name, err))
			}
			e.Sends = append(e.Sends, session.Send{Bus: b.ID, Level: db, Pre: c.PostForm("pre-"+b.ID) != ""})
		}
		if at, ok := c.GetPostForm("trigger-at"); ok {
			e.TriggerAt = &at
		}
		return e, nil
	})
}

// addBus makes a new bus.
func (h *handlers) addBus(c *gin.Context) {
	h.Edit(c, "levels", "bus", session.AddBus{Name: strings.TrimSpace(c.PostForm("name"))})
}

// setBus changes a bus's name, where it goes, its mute and its lock.
func (h *handlers) setBus(c *gin.Context) {
	h.Edit(c, "levels", "detail", session.SetBus{
		ID: c.Param(
			"bus",
		), Name: strings.TrimSpace(c.PostForm("name")), Bus: c.PostForm("bus"), Mute: c.PostForm("mute") != "", Locks: locks(c, []session.Step{session.BusStep}),
	})
}

// removeBus takes a bus away; what went to it goes where it went.
func (h *handlers) removeBus(c *gin.Context) {
	h.Edit(c, "levels", "detail", session.RemoveBus{ID: c.Param("bus")})
}

// setMaster changes the master's lock.
func (h *handlers) setMaster(c *gin.Context) {
	h.Edit(c, "levels", "detail", session.LockMaster{Locked: len(locks(c, []session.Step{session.MasterStep})) > 0})
}

// setRules changes the windows and targets of the song.
func (h *handlers) setRules(c *gin.Context) {
	h.WorkOut(c, "levels", "rules", func(song *session.Song) (session.Edit, error) {
		if c.PostForm("reset") != "" {
			return session.SetLevels{}, nil
		}
		rules := song.LevelRules().Copy()
		if err := field.Read(rules.Fields(), c.GetPostForm); err != nil {
			return nil, shell.BadInput("rules", err)
		}
		return session.SetLevels{Levels: &rules}, nil
	})
}
