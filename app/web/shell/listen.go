package shell

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/compare"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// What the deck's Before side can mean: the choices, and in the addresses of its audio what they come to.
const (
	againstBrought = "brought"
	againstStage   = "stage"
	againstMove    = "move" // without what is tried, or without the move that was chosen
	againstNow     = "now"
	againstTried   = "on" // what is tried, without itself
)

// listening is what the deck plays, as whoever listens chose it. It is no part of the song: nothing of it is an edit. It
// stands in the song's cookie and in the deck's addresses.
type listening struct {
	Solo    mix.Solo
	Loop    mix.Window
	Own     bool   // the loop is not the judged stretch
	Against string // what Before means
	Without string // the move that it is without: "s1/m3"
	Try     string // what After tries: "duck/band", "finding/pocket/nudge"; empty: the song as it is
	Taken   bool   // After plays what is taken away: Before less After
	Ear     string // how it is listened to (compare.Throughs); empty: as it is
	Down    bool   // a finished track is 10 dB down, not as loud as the song
}

// listenCookie is the cookie of a song that holds what is listened to; it ends with the browser.
const listenCookie = "listen"

// keptOf reads the cookie.
func keptOf(c *gin.Context) url.Values {
	text := c.GetString(listenCookie) // as this answer sets it
	if text == "" {
		text, _ = c.Cookie(listenCookie)
	}
	kept, _ := url.ParseQuery(text)
	return kept
}

// setKept sets the cookie.
func setKept(c *gin.Context, kept url.Values) {
	kept.Set("v", "1") // never empty
	c.Set(listenCookie, kept.Encode())
	c.SetSameSite(http.SameSiteStrictMode)
	c.SetCookie(listenCookie, kept.Encode(), 0, "/songs/"+c.Param("id"), "", false, true)
}

// followJudged lets the deck play the judged stretch again.
func followJudged(c *gin.Context) {
	kept := keptOf(c)
	kept.Del("loop")
	setKept(c, kept)
}

// listens reads the choices: those that stand in said (nil: none), else those of the cookie. A loop that the song is too
// short for is the judged stretch.
func (v *View) listens(c *gin.Context, said url.Values) (listening, error) {
	kept := keptOf(c)
	get := func(key string) string {
		if said.Has(key) {
			return said.Get(key)
		}
		return kept.Get(key)
	}
	l := listening{Solo: solo(c), Loop: v.Win, Against: get("against"), Without: get("without"), Try: said.Get("try"), Taken: said.Get("taken") != "", Ear: get("ear"), Down: get("down") != ""}
	if _, ok := compare.ThroughOf(l.Ear); !ok {
		l.Ear = ""
	}
	if bus := l.Solo.Bus(); bus != "" && v.Song.Bus(bus) == nil {
		l.Solo = mix.SoloBoth
	}
	span, err := v.loopOf(said, get("loop"))
	if err != nil {
		return l, err
	}
	if span != nil {
		rate := float64(v.Rate)
		end := math.Min(span.To*rate, float64(v.Length))
		if w := (mix.Window{From: int(math.Round(span.From * rate)), To: int(math.Round(end))}); w.Frames() >= int(session.LeastLoop*rate)-1 {
			l.Own = max(w.From-v.Win.From, v.Win.From-w.From, w.To-v.Win.To, v.Win.To-w.To) > 1
			if l.Own {
				l.Loop = w
			}
		}
	}
	if at, id, ok := strings.Cut(l.Without, "/"); !ok {
		l.Without = ""
	} else if _, ok := v.Song.WithoutMove(session.ParseAt(at), id); !ok {
		l.Without = ""
	}
	if l.Try != "" && !said.Has("against") {
		l.Against = againstMove
	}
	return l, nil
}

// loopOf reads a loop: typed as places, or in seconds as "12.5-28.5"; nil is the judged stretch.
func (v *View) loopOf(said url.Values, text string) (*session.Span, error) {
	var span session.Span
	if said.Has("first") {
		var err error
		if span.From, span.To, err = readPlaces(&v.Song.Song, said.Get("first"), said.Get("last")); err != nil {
			return nil, err
		}
	} else {
		from, to, ok := strings.Cut(text, "-")
		if !ok {
			return nil, nil
		}
		var err1, err2 error
		span.From, err1 = strconv.ParseFloat(from, 64)
		span.To, err2 = strconv.ParseFloat(to, 64)
		if err1 != nil || err2 != nil {
			return nil, errLoop
		}
	}
	return &span, span.CheckLoop()
}

// seconds writes a loop as it stands in addresses and in the cookie.
func (v *View) seconds(w mix.Window) string {
	rate := float64(v.Rate)
	return fmt.Sprintf("%.6f-%.6f", float64(w.From)/rate, float64(w.To)/rate)
}

// keep keeps the choices for the song's next pages.
func (v *View) keep(c *gin.Context, l listening) {
	kept := url.Values{}
	if l.Own {
		kept.Set("loop", v.seconds(l.Loop))
	}
	if l.Against != "" && l.Try == "" {
		kept.Set("against", l.Against)
	}
	if l.Without != "" {
		kept.Set("without", l.Without)
	}
	if l.Ear != "" {
		kept.Set("ear", l.Ear)
	}
	if l.Down {
		kept.Set("down", "1")
	}
	setKept(c, kept)
	c.SetCookie(soloCookie, string(l.Solo), cookieSeconds, "/", "", false, true)
}

// Choices writes all of them as a query, for whatever changes one.
func (d deckView) Choices() string {
	q := url.Values{"solo": {string(d.Solo)}, "against": {d.Against}, "ear": {d.Ear}}
	if d.Own {
		q.Set("loop", fmt.Sprintf("%.6f-%.6f", d.From, d.To))
	} else {
		q.Set("loop", "judged")
	}
	if d.Taken {
		q.Set("taken", "1")
	}
	if d.Down {
		q.Set("down", "1")
	}
	for key, value := range map[string]string{"without": d.Without, "try": d.Try} {
		if value != "" {
			q.Set(key, value)
		}
	}
	return q.Encode()
}

// befores lists what Before can mean here, and what is chosen of it.
func (v *View) befores(l *listening) (all []beforeChoice) {
	all = []beforeChoice{{againstBrought, "as I brought it"}}
	if v.Stage.Before != nil {
		all = append(all, beforeChoice{againstStage, v.Stage.BeforeName})
	}
	if l.Try != "" {
		label := "as it is now"
		if v.triedOn(l.Try) {
			label = "without it"
		}
		all = append(all, beforeChoice{againstMove, label})
	} else if l.Without != "" {
		at, id, _ := strings.Cut(l.Without, "/")
		chain, name := v.Song.Chain(session.ParseAt(at))
		all = append(all, beforeChoice{againstMove, "without " + strings.ToLower(chain.Move(id).Params.Kind().Label) + ", " + name})
	}
	for _, r := range v.Song.References {
		all = append(all, beforeChoice{againstReference + r.ID, "the track " + r.Name})
	}
	for _, b := range all {
		if b.Value == l.Against {
			return all
		}
	}
	l.Against = againstBrought
	if v.Stage.Before != nil {
		l.Against = againstStage
	}
	return all
}

// of is the chosen meaning as it stands in the address of Before's audio.
func (v *View) of(l listening) string {
	switch {
	case v.reference(l.Against) != nil:
		return l.Against
	case l.Against == againstStage:
		return againstStage + ":" + v.Stage.Key
	case l.Against == againstMove && l.Try != "":
		if v.triedOn(l.Try) {
			return againstTried + ":" + l.Try
		}
		return againstNow
	case l.Against == againstMove:
		return againstMove + ":" + l.Without
	}
	return againstBrought
}

// before gives a song as Before plays it.
func (s *Server) before(song session.Song, of string) (session.Song, bool) {
	kind, what, _ := strings.Cut(of, ":")
	switch kind {
	case againstBrought, "":
		return song.Brought(), true
	case againstNow:
		return song, true
	case againstStage:
		if st := s.stageOf(what); st != nil && st.Before != nil {
			return st.Before(song), true
		}
	case againstMove:
		at, id, _ := strings.Cut(what, "/")
		return song.WithoutMove(session.ParseAt(at), id)
	}
	return song, false
}

// pageQuery is the query of the page that asks: what is tried may depend on what it shows.
func pageQuery(c *gin.Context) string {
	if u, err := url.Parse(c.GetHeader("HX-Current-URL")); err == nil && u.RawQuery != "" {
		return "&" + u.RawQuery
	}
	return ""
}

// deckData answers with the deck as it is listened to: its loop, what is heard of the song, what Before means, what After
// tries. Nothing of it is an edit.
func (s *Server) deckData(c *gin.Context) {
	v := s.Look(c, s.CurrentStage(c))
	if v == nil {
		return
	}
	l, err := v.listens(c, c.Request.URL.Query())
	wrong := ""
	if err != nil { // it stays as it was
		wrong = Sentence(err.Error())
		if l, err = v.listens(c, nil); err != nil {
			l = listening{Solo: solo(c), Loop: v.Win}
		}
	} else {
		v.keep(c, l)
	}
	match, err := s.fillDeck(c, v, l)
	if err == nil {
		err = match(c.Request.Context(), &v.Deck)
	}
	if err != nil {
		s.FailWith(c, err)
		return
	}
	v.Deck.Wrong = wrong
	status := http.StatusOK
	if wrong != "" {
		v.Deck.First, v.Deck.Last = c.Query("first"), c.Query("last")
		status = http.StatusUnprocessableEntity
	}
	s.Write(c, status, "deckdata", v)
}

// deckAudio plays one side of the deck: the loop of a revision as a 24-bit WAV. The address
// holds all that the sound depends on, so it may be kept.
func (s *Server) deckAudio(c *gin.Context) {
	side := c.Param("side")
	if side != "before.wav" && side != "after.wav" {
		s.Fail(c, http.StatusNotFound, "The deck has two sides, before and after.")
		return
	}
	song, w, ok := s.deckSong(c)
	if !ok {
		return
	}
	whole := *song
	ear := c.Query("ear")
	if side == "before.wav" && strings.HasPrefix(c.Query("of"), againstReference) {
		s.referenceAudio(c, song, w, ear)
		return
	}
	if side == "before.wav" {
		var err error
		if *song, ok, err = s.beforeOf(c, *song, c.Query("of")); err != nil {
			s.FailWith(c, err)
			return
		}
		if !ok {
			s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
			return
		}
	} else if _, err := s.try(c, song, c.Query("try")); err != nil {
		s.FailWith(c, err)
		return
	}
	var b audio.Buffer
	var err error
	if of := c.Query("taken"); of != "" && side == "after.wav" {
		base, ok, e := s.beforeOf(c, whole, of)
		if e != nil {
			s.FailWith(c, e)
			return
		}
		if !ok {
			s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
			return
		}
		if b, err = s.Renderer.Taken(c.Request.Context(), &base, song, solo(c), w); err == nil {
			through, _ := compare.ThroughOf(ear)
			b, err = through.Listen(b, song.RoomRules().Playback)
		}
	} else {
		b, err = s.heard(c.Request.Context(), song, solo(c), w, ear)
	}
	s.sendDeck(c, b, ear != "" && ear != "mono" && ear != "side", err)
}

// sendDeck answers with what one side plays; what may rise over full scale goes out as floating point.
func (s *Server) sendDeck(c *gin.Context, b audio.Buffer, over bool, err error) {
	if err != nil {
		s.FailWith(c, err)
		return
	}
	depth := wav.Int24
	if over {
		depth = wav.Float32
	}
	c.Header("Cache-Control", "private, max-age=3600, immutable")
	SendWAV(c, b, depth)
}

// referenceAudio plays a finished track as Before.
func (s *Server) referenceAudio(c *gin.Context, song *session.Song, w mix.Window, ear string) {
	v := &View{Song: &store.Song{ID: c.Param("id"), Song: *song}}
	ref := v.reference(c.Query("of"))
	if ref == nil {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return
	}
	var err error
	if v.Bench, err = s.Bench(c.Request.Context(), song); err != nil {
		s.FailWith(c, err)
		return
	}
	b, err := s.referenceHeard(c.Request.Context(), v, *ref, w, ear, c.Query("down") != "")
	s.sendDeck(c, b, true, err)
}

// deckSong reads the revision and the window that an address of the deck's names; where it cannot, it answers.
func (s *Server) deckSong(c *gin.Context) (*session.Song, mix.Window, bool) {
	no := func() (*session.Song, mix.Window, bool) {
		s.Fail(c, http.StatusBadRequest, "That is no address of the deck's.")
		return nil, mix.Window{}, false
	}
	rev, err := strconv.ParseInt(c.Query("rev"), 10, 64)
	from, err1 := strconv.Atoi(c.Query("from"))
	to, err2 := strconv.Atoi(c.Query("to"))
	if err != nil || err1 != nil || err2 != nil || from < 0 || to <= from || to-from > audio.MaxSeconds*audio.MaxRate {
		return no()
	}
	song, err := s.Store.At(c.Request.Context(), c.Param("id"), rev)
	if err != nil {
		s.FailWith(c, err)
		return nil, mix.Window{}, false
	}
	length, err := s.Renderer.Length(&song)
	if err != nil {
		s.FailWith(c, err)
		return nil, mix.Window{}, false
	}
	if from >= length || float64(to-from) > (session.MostLoop+1)*float64(song.Rate) {
		return no()
	}
	return &song, mix.Window{From: from, To: min(to, length)}, true
}

// matching measures by how much a deck's sides differ in loudness, and puts it in.
type matching func(context.Context, *deckView) error

// fillDeck puts in what the deck shows and plays, but for what has to be rendered: that is the matching's, which reads no request.
func (s *Server) fillDeck(c *gin.Context, v *View, l listening) (matching, error) {
	out := deckView{Befores: v.befores(&l), Offset: meter.None, LUFS: [2]meter.Figure{meter.None, meter.None}}
	for _, b := range out.Befores {
		if b.Value == l.Against {
			out.BeforeName = b.Label
		}
	}
	out.listening = l
	v.Deck = out
	if v.Length == 0 {
		v.Deck.Song = v.deckStrip(nil, nil)
		return func(context.Context, *deckView) error { return nil }, nil
	}
	if err := s.fillStrip(v); err != nil {
		return nil, err
	}
	after := v.Song.Song
	name, err := s.try(c, &after, l.Try)
	if err != nil {
		return nil, err
	}
	d := &v.Deck
	d.Trying = name
	var match matching
	if ref := v.reference(l.Against); ref != nil { // it is turned, and After stays as it is
		d.Offset, d.Moved, d.Track = 0, true, ref.Name
		match = func(ctx context.Context, d *deckView) (err error) {
			d.Turned, err = s.turnedBy(ctx, v, *ref, l.Loop, l.Down)
			return err
		}
	} else {
		before, ok, err := s.beforeOf(c, v.Song.Song, v.of(l))
		if err != nil {
			return nil, err
		}
		if !ok {
			before = v.Song.Brought()
		}
		match = func(ctx context.Context, d *deckView) error { return s.matched(ctx, &before, &after, d) }
	}
	query := fmt.Sprintf("?rev=%d&solo=%s&from=%d&to=%d", v.Rev, url.QueryEscape(string(l.Solo)), l.Loop.From, l.Loop.To)
	d.Before = "/songs/" + v.ID + "/deck/before.wav" + query + "&of=" + url.QueryEscape(v.of(l))
	d.After = "/songs/" + v.ID + "/deck/after.wav" + query
	d.Parts = v.parts()
	if l.Ear != "" {
		d.Before, d.After = d.Before+"&ear="+l.Ear, d.After+"&ear="+l.Ear
		d.Parts = nil
	}
	if d.Track != "" && l.Down {
		d.Before += "&down=1"
	}
	if l.Taken && d.Track == "" {
		d.After += "&taken=" + url.QueryEscape(v.of(l))
		d.Parts = nil // no hand is followed in what is taken away
	}
	if l.Try != "" {
		d.After += "&try=" + url.QueryEscape(l.Try) + pageQuery(c)
	}
	return match, nil
}
