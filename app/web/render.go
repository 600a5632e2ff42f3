package web

import (
	"bytes"
	"fmt"
	"html/template"
	"log/slog"
	"math"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/gin-gonic/gin"

	"mellowthump/app/web/plot"
	"mellowthump/core/levels"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// write renders a template to the end before anything is sent.
func (s *Server) write(c *gin.Context, status int, name string, data any) {
	var b bytes.Buffer
	if err := s.pages.ExecuteTemplate(&b, name, data); err != nil {
		slog.Error("a template failed", "template", name, "err", err)
		c.String(500, "The page could not be drawn.")
		return
	}
	c.Data(status, "text/html; charset=utf-8", b.Bytes())
}

func (s *Server) part(name string, data any) (template.HTML, error) {
	var b bytes.Buffer
	err := s.pages.ExecuteTemplate(&b, name, data)
	return template.HTML(b.String()), err
}

func (s *Server) funcs() template.FuncMap {
	return template.FuncMap{
		"fig":     figure,
		"num":     func(v float64, decimals int) string { return plot.Signed(v, decimals) },
		"plain":   func(v float64) string { return strings.Replace(fmt.Sprintf("%g", v), "-", "−", 1) },
		"typed":   typed,
		"glyph":   func(r session.Role) template.HTML { return plot.Glyph(string(r)) },
		"clock":   clock,
		"when":    when,
		"said":    sentence,
		"ms":      func(s float64) float64 { return 1000 * s },
		"percent": func(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) },
		"def":     func(key string) string { return definitions[key] },
		"roles":   func() any { return session.Roles },
		"inc":     func(i int) int { return i + 1 },
		"over":    func(a, b meter.Figure) bool { return a.Valid() && float64(a) >= float64(b) },
		"cell":    func(v ...any) []any { return v },
		"schools": func() any { return move.Schools },
		"anchors": func() any { return levels.Anchors },
		"signed":  signedTenth,
		"signed0": func(n int) string { return signedPlus(float64(n)) },
		"figure":  func(v float64) meter.Figure { return meter.Figure(v) },
		"float":   func(f meter.Figure) float64 { return float64(f) },
		"sub":     func(a, b float64) float64 { return a - b },
		"minus":   func(a float64, b int) float64 { return a - float64(b) },
		"fig10":   func(f float64) string { return strconv.FormatFloat(f, 'f', 1, 64) },
		"abs":     func(f meter.Figure) meter.Figure { return max(f, -f) },
	}
}

// figure shows a measured number; a dash where there is none.
func figure(f meter.Figure, decimals int) string {
	if !f.Valid() {
		return "–"
	}
	return plot.Signed(float64(f), decimals)
}

// typed shows a number in a field as a person would type it, to a thousandth: what a field
// shows is what the next edit of the form sends back.
func typed(v float64) string {
	return strconv.FormatFloat(math.Round(v*1000)/1000+0, 'f', -1, 64)
}

// clock shows seconds as 1:23.4.
func clock(s float64) string {
	m := int(s) / 60
	return fmt.Sprintf("%d:%04.1f", m, s-float64(60*m))
}

func when(stamp string) string {
	t, err := time.Parse(time.RFC3339Nano, stamp)
	if err != nil {
		return stamp
	}
	return t.Local().Format("2 Jan 2006, 15:04")
}

// sentence makes an error's text one: a capital first, a full stop last.
func sentence(s string) string {
	s = strings.TrimSpace(s)
	r, n := utf8.DecodeRuneInString(s)
	s = string(unicode.ToUpper(r)) + s[n:]
	if !strings.HasSuffix(s, ".") {
		s += "."
	}
	return s
}

// definitions are the sentences that define the figures on screen; docs/numbers.md has them
// at length.
var definitions = map[string]string{
	"peak":      "Sample peak: the largest sample, in dB under full scale.",
	"truepeak":  "True peak: the largest value between samples too, ITU-R BS.1770-5, in dB true peak.",
	"rms":       "RMS level, plain: a full-scale sine reads −3.01 dBFS.",
	"lufs":      "Integrated loudness, ITU-R BS.1770-5, gated. A mono file is measured as one channel.",
	"pitch":     "The commonest fundamental by energy, with the nearest note (A4 = 440 Hz) and the distance in cents.",
	"settles":   "The pitch the kick settles on: the energy-weighted median of its instantaneous frequency, median over the hits.",
	"clearance": "Kick over bass in the kick's home octave over the hit's window, in dB. Under 0 buried, 0 to 6 fighting, 6 to 12 clear, over 12 apart.",
	"lead":      "Bass over kick in the octave of the note that sounds, from 60 ms after each hit to the next, in dB: the mirror of clearance, for where the bass leads.",
	"p10":       "The 10th percentile over the hits: nine of ten hits do better.",
	"overlap":   "The share of the kick's low end (20 to 150 Hz) that the bass covers over the hit's window.",
	"handover":  "The time after the hit from which the bass is at least the kick in 20 to 150 Hz for 20 ms. 0: the kick never leads.",
	"phase":     "Energy of the pair over the energies of both, 20 to 150 Hz: +3.01 dB adds fully, 0 unrelated, negative cancels.",
	"cost":      "Peak of kick and bass together minus the larger of their own peaks, in the hit's window.",
	"sumpeak":   "Sample peak of kick and bass together over the loop.",
	"loss":      "Loudness of the part that makes room (the bass, or the kick where the bass leads) before minus after, K-weighted, over the whole loop, in LU.",
	"losslow":   "Energy of the part that makes room in 20 to 150 Hz, before over after, whole loop, in dB.",
	"depth":     "The deepest gain: of the curve, or of what the keyed duck does over the loop.",
	"share":     "The share of the loop during which the gain is under −3 dB.",
	"back":      "Hits whose own duck has let go (gain over −0.5 dB) by the time the next one comes.",
	"slope":     "The fastest change of the gain. Over 3 dB per ms it may click.",
	"freed":     "Peak of kick and bass together before the duck minus after it.",
	"mixfreed":  "Peak of the whole mix over the loop before the ducks minus after them: it may be raised by that. 0 where another part makes the peak.",
	"nudge":     "Phase sum of the energies of all hits in 20 to 150 Hz with the bass moved by that much; gain and lose count the hits that come out half a dB better or worse.",
	"noteshare": "Share of the time in which a note of the bass sounds in the loop.",
	"notecents": "The note's settled pitch against equal temperament, A4 = 440 Hz, in cents.",
	"step":      "Peak of the sample that is largest at this step, measured in a real render, in dB under full scale.",
	"stepload":  "Integrated loudness at this step, ITU-R BS.1770-5. A mono part is measured as one channel.",
	"window":    "Where the peak of such a part usually lies: common practice, no published source. It can be changed under Windows.",
	"sum":       "Peak of the master as the parts join it one after another, each a real sum. A bus's fader is a gain; nothing is added up in decibels.",
	"shares":    "Energy of each part at the worst sample of each of the loudest stretches of 50 ms, over that of all parts.",
	"landed":    "The gain between the old file and the new: by least squares where both hold the same sound, else by RMS. It landed when it is within 0.3 dB of the plan.",
	"headroom":  "Distance of the premaster's peak over the loop from full scale, 0 dBFS.",
	"premaster": "Sample peak of everything together over the loop.",
	"loudness":  "Integrated loudness of everything together over the loop, ITU-R BS.1770-5.",
	"offset":    "What the After side is turned by so that both are equally loud, BS.1770 integrated over the loop.",
}
