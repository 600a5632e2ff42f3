package shell

import (
	"fmt"
	"net/http"
	"net/url"
	"strconv"
	"time"

	"github.com/gin-gonic/gin"

	"mellowthump/core/care"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

// Rest is how long is listened since the last rest, and what is left of the day at the level that its user read off a sound
// level meter. It stands in a cookie: it is of a person, not of a song.
type Rest struct {
	Minutes int
	Level   float64 // dBA; 0: none was typed
	Used    float64 // of the day's limit
	Wrong   string
}

const (
	restCookie = "rest"
	restDay    = 24 * time.Hour
)

// restOf reads the cookie, counts the time since it was written, and writes it: who was away for a rest begins anew.
func restOf(c *gin.Context, now time.Time) Rest {
	text := c.GetString(restCookie)
	if text == "" {
		text, _ = c.Cookie(restCookie)
	}
	kept, _ := url.ParseQuery(text)
	number := func(key string) float64 { v, _ := strconv.ParseFloat(kept.Get(key), 64); return v }
	at := func(key string) time.Time { return time.Unix(int64(number(key)), 0) }
	began, seen, day := at("began"), at("seen"), at("day")
	r := Rest{Level: number("level"), Used: number("used")}
	if gap := now.Sub(seen); gap < 0 || gap > time.Duration(care.RestFor)*time.Minute {
		began, seen = now, now
	}
	if away := now.Sub(day); away < 0 || away > restDay {
		day, r.Used = now, 0
	}
	if !(r.Level >= care.LeastDBA && r.Level <= care.MostDBA) {
		r.Level = 0
	}
	if !(r.Used >= 0 && r.Used < 1000) {
		r.Used = 0
	}
	if r.Level > 0 {
		r.Used += care.Dose(now.Sub(seen).Hours(), r.Level)
	}
	r.Minutes = int(now.Sub(began).Minutes())
	r.keep(c, began, now, day)
	return r
}

func (r Rest) keep(c *gin.Context, began, seen, day time.Time) {
	unix := func(t time.Time) string { return strconv.FormatInt(t.Unix(), 10) }
	kept := url.Values{"began": {unix(began)}, "seen": {unix(seen)}, "day": {unix(day)}, "used": {strconv.FormatFloat(r.Used, 'g', 12, 64)}}
	if r.Level > 0 {
		kept.Set("level", strconv.FormatFloat(r.Level, 'g', 6, 64))
	}
	c.Set(restCookie, kept.Encode())
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(restCookie, kept.Encode(), int((2 * restDay).Seconds()), "/", "", false, true)
}

// Due reports whether a rest would do good.
func (r Rest) Due() bool { return r.Minutes >= care.RestAfter }

// Over reports whether the day's limit is used up.
func (r Rest) Over() bool { return r.Level > 0 && r.Used >= 1 }

// Since says how long it is since the last rest.
func (r Rest) Since() string {
	if r.Minutes < 1 {
		return "just begun"
	}
	return spell(float64(r.Minutes)/60) + " since a rest"
}

// Left says what is left of the day at that level.
func (r Rest) Left() string {
	if r.Over() {
		return "the day’s limit is used up"
	}
	return spell((1-r.Used)*care.Hours(r.Level)) + " left today"
}

// Shown is the level as it is typed.
func (r Rest) Shown() string {
	if r.Level == 0 {
		return ""
	}
	return figure.Short(r.Level)
}

// spell writes hours as "2 h 5 min".
func spell(hours float64) string {
	if hours >= 24 {
		return "more than a day"
	}
	min := int(60*hours + 1e-9)
	switch {
	case min < 60:
		return fmt.Sprintf("%d min", min)
	case min%60 == 0:
		return fmt.Sprintf("%d h", min/60)
	}
	return fmt.Sprintf("%d h %d min", min/60, min%60)
}

// setRest takes the level that was read off a sound level meter, or takes it away.
func (s *Server) setRest(c *gin.Context) {
	r := restOf(c, time.Now())
	if text := c.PostForm("level"); text == "" {
		r.Level = 0
	} else if v, err := field.Number(text, "dBA"); err != nil {
		r.Wrong = Sentence("the level " + err.Error())
	} else if !(v >= care.LeastDBA && v <= care.MostDBA) {
		r.Wrong = fmt.Sprintf("A level of %g dBA is outside %g to %g.", v, care.LeastDBA, care.MostDBA)
	} else {
		r.Level = v
	}
	kept, _ := url.ParseQuery(c.GetString(restCookie))
	at := func(key string) time.Time { n, _ := strconv.ParseInt(kept.Get(key), 10, 64); return time.Unix(n, 0) }
	r.keep(c, at("began"), at("seen"), at("day"))
	status := http.StatusOK
	if r.Wrong != "" {
		status = http.StatusUnprocessableEntity
	}
	s.Write(c, status, "rest", &View{Rest: r})
}
