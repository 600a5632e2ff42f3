package shell

import (
	"math"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/gin-gonic/gin"
)

// The time since the last rest is counted over visits, begins anew after ten minutes away, and so does the day after a day;
// what is used of the limit goes by the level that was typed.
func TestRest(t *testing.T) {
	gin.SetMode(gin.TestMode)
	var cookie *http.Cookie
	begin := time.Date(2026, 11, 27, 22, 0, 0, 0, time.UTC)
	visit := func(after time.Duration, level float64) Rest {
		rec := httptest.NewRecorder()
		c, _ := gin.CreateTestContext(rec)
		c.Request = httptest.NewRequest(http.MethodGet, "/", nil)
		if cookie != nil {
			c.Request.AddCookie(cookie)
		}
		now := begin.Add(after)
		r := restOf(c, now)
		if level > 0 {
			r.Level = level
			r.keep(c, now.Add(-time.Duration(r.Minutes)*time.Minute), now, begin)
		}
		all := rec.Result().Cookies()
		cookie = all[len(all)-1]
		return r
	}
	if r := visit(0, 91); r.Minutes != 0 || r.Since() != "just begun" || r.Due() {
		t.Errorf("at first: %+v", r)
	}
	for m := 5; m <= 60; m += 5 {
		visit(time.Duration(m)*time.Minute, 0)
	}
	r := visit(65*time.Minute, 0)
	if r.Minutes != 65 || !r.Due() || r.Since() != "1 h 5 min since a rest" {
		t.Errorf("after an hour: %+v, %s", r, r.Since())
	}
	if want := 65.0 / 120; math.Abs(r.Used-want) > 1e-3 || r.Left() != "55 min left today" || r.Over() { // 91 dBA: 2 h a day
		t.Errorf("used %g of the day, %s", r.Used, r.Left())
	}
	r = visit(80*time.Minute, 0) // a quarter of an hour away
	if r.Minutes != 0 || math.Abs(r.Used-65.0/120) > 1e-3 {
		t.Errorf("after a rest: %+v", r)
	}
	for m := 85; m <= 150; m += 5 {
		r = visit(time.Duration(m)*time.Minute, 0)
	}
	if !r.Over() || r.Left() != "the day’s limit is used up" {
		t.Errorf("after two hours at it: %+v", r)
	}
	if r = visit(26*time.Hour, 0); r.Used != 0 || r.Minutes != 0 || r.Level != 91 {
		t.Errorf("on the next day: %+v", r)
	}
	cookie = &http.Cookie{Name: restCookie, Value: "began=x&level=1e99&used=-3"}
	if r = visit(0, 0); r.Level != 0 || r.Used != 0 || r.Minutes != 0 {
		t.Errorf("of a cookie that is none of ours: %+v", r)
	}
}
