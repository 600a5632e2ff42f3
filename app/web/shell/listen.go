package shell

import (
	"context"
	"errors"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/ask"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/compare"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// listening is what the deck plays, as whoever listens chose it. It is no part of the song: nothing of it is an edit. It
// stands in the song's cookie and in the deck's addresses.
type listening struct {
	Solo    mix.Solo
	Loop    mix.Window
	Own     bool    // the loop is not the judged stretch
	Against string  // what Before means
	Without string  // the move that it is without: "s1/m3"
	Try     ask.Try // what After tries; none: the song as it is
	Taken   bool    // After plays what is taken away, see mix.Taken
	Ear     string  // how it is listened to (compare.Throughs); empty: as it is
	Down    bool    // a finished track is 10 dB down, not as loud as the song
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
	l := listening{
		Solo:    solo(c),
		Loop:    v.Win,
		Against: get("against"),
		Without: get("without"),
		Taken:   said.Get("taken") != "",
		Ear:     get("ear"),
		Down:    get("down") != "",
	}
	var err error
	if l.Try, err = ask.ParseTry(said.Get("try")); err != nil {
		return l, err
	}
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
	if !l.Try.None() && !said.Has("against") {
		l.Against = string(ask.OfMove)
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
	if l.Against != "" && l.Try.None() {
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
	for key, value := range map[string]string{"without": d.Without, "try": d.Try.String()} {
		if value != "" {
			q.Set(key, value)
		}
	}
	return q.Encode()
}

// befores lists what Before can mean here, and what is chosen of it.
func (v *View) befores(l *listening) (all []beforeChoice) {
	all = []beforeChoice{{string(ask.Brought), "as I brought it"}}
	if v.Stage.Before != nil {
		all = append(all, beforeChoice{string(ask.OfStage), v.Stage.BeforeName})
	}
	if !l.Try.None() {
		label := "as it is now"
		if v.triedOn(l.Try) {
			label = "without it"
		}
		all = append(all, beforeChoice{string(ask.OfMove), label})
	} else if l.Without != "" {
		at, id, _ := strings.Cut(l.Without, "/")
		chain, name := v.Song.Chain(session.ParseAt(at))
		all = append(all, beforeChoice{string(ask.OfMove), "without " + strings.ToLower(chain.Move(id).Params.Kind().Label) + ", " + name})
	}
	for _, r := range v.Song.References {
		all = append(all, beforeChoice{ask.Before{As: ask.OfTrack, Of: r.ID}.String(), "the track " + r.Name})
	}
	for _, b := range all {
		if b.Value == l.Against {
			return all
		}
	}
	l.Against = string(ask.Brought)
	if v.Stage.Before != nil {
		l.Against = string(ask.OfStage)
	}
	return all
}

// of is the chosen meaning as it stands in the address of Before's audio.
func (v *View) of(l listening) ask.Before {
	b, err := ask.ParseBefore(l.Against)
	switch {
	case err == nil && b.As == ask.OfTrack && v.reference(b) != nil:
		return b
	case l.Against == string(ask.OfStage):
		return ask.Before{As: ask.OfStage, Of: v.Stage.Key}
	case l.Against == string(ask.OfMove) && !l.Try.None():
		if v.triedOn(l.Try) {
			return ask.Before{As: ask.OfTry, Tried: l.Try}
		}
		return ask.Before{As: ask.Now}
	case l.Against == string(ask.OfMove):
		at, id, _ := strings.Cut(l.Without, "/")
		return ask.Before{As: ask.OfMove, At: session.ParseAt(at), Of: id}
	}
	return ask.Before{As: ask.Brought}
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
	song, w, asked, ok := s.deckSong(c)
	if !ok {
		return
	}
	if side == "before.wav" && asked.Of.As == ask.OfTrack {
		s.referenceAudio(c, song, w, asked)
		return
	}
	b, err := s.sideAudio(c.Request.Context(), song, w, asked, side == "after.wav")
	s.sendDeck(c, b, asked.Ear != "" && asked.Ear != "mono" && asked.Ear != "side", err)
}

// sideAudio renders one side of the deck.
func (s *Server) sideAudio(ctx context.Context, song *store.Song, w mix.Window, a ask.Side, after bool) (audio.Buffer, error) {
	if !after {
		heard, err := s.before(ctx, song, a.Of)
		if err != nil {
			return audio.Buffer{}, err
		}
		return s.heard(ctx, &heard, a.Solo, w, a.Ear)
	}
	heard, _, err := s.try(ctx, song, a.Try, a.Page)
	if err != nil || !a.Taken {
		if err != nil {
			return audio.Buffer{}, err
		}
		return s.heard(ctx, &heard, a.Solo, w, a.Ear)
	}
	base, err := s.before(ctx, song, a.Of)
	if err != nil {
		return audio.Buffer{}, err
	}
	b, err := s.Renderer.Taken(ctx, &base, &heard, a.Solo, w)
	if err != nil {
		return b, err
	}
	through, _ := compare.ThroughOf(a.Ear)
	return through.Listen(b, song.RoomRules().Playback)
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
func (s *Server) referenceAudio(c *gin.Context, song *store.Song, w mix.Window, a ask.Side) {
	v := &View{Song: song}
	ref := v.reference(a.Of)
	if ref == nil {
		s.FailWith(c, errAddress)
		return
	}
	var err error
	if v.Bench, err = s.Bench(c.Request.Context(), &song.Song); err != nil {
		s.FailWith(c, err)
		return
	}
	b, err := s.referenceHeard(c.Request.Context(), v, *ref, w, a.Ear, a.Down)
	s.sendDeck(c, b, true, err)
}

// deckSong reads an address of the deck's, and the revision and the window that it names; where it cannot, it answers.
func (s *Server) deckSong(c *gin.Context) (*store.Song, mix.Window, ask.Side, bool) {
	a, err := ask.ParseSide(c.Request.URL.Query())
	no := func() (*store.Song, mix.Window, ask.Side, bool) {
		s.Fail(c, http.StatusBadRequest, errAddress.Sentence)
		return nil, mix.Window{}, a, false
	}
	if err != nil {
		return no()
	}
	song, err := s.Store.At(c.Request.Context(), c.Param("id"), a.Rev)
	if err != nil {
		s.FailWith(c, err)
		return nil, mix.Window{}, a, false
	}
	length, err := s.Renderer.Length(&song)
	if err != nil {
		s.FailWith(c, err)
		return nil, mix.Window{}, a, false
	}
	if a.From >= length || float64(a.To-a.From) > (session.MostLoop+1)*float64(song.Rate) {
		return no()
	}
	return &store.Song{ID: c.Param("id"), Rev: a.Rev, Song: song}, mix.Window{From: a.From, To: min(a.To, length)}, a, true
}

// deckKeys are the values by which a page asks for another deck.
var deckKeys = []string{"solo", "loop", "first", "last", "against", "without", "try", "taken", "ear", "down"}

// matching measures by how much a deck's sides differ in loudness, and puts it in.
type matching func(context.Context, *deckView) error

// fillDeck puts in what the deck shows and plays, but for what has to be rendered: that is the matching's, which reads no request.
// Long because all that the deck plays comes of one reading of what is listened to.
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
	var page url.Values
	if !l.Try.None() {
		page = PageQuery(c, v.Stage.Key)
		for _, own := range deckKeys { // what the deck asks for is no part of the page
			page.Del(own)
		}
	}
	after, name, err := s.try(c.Request.Context(), v.Song, l.Try, page)
	if err != nil {
		return nil, err
	}
	d := &v.Deck
	d.Trying = name
	of := v.of(l)
	var match matching
	if ref := v.reference(of); ref != nil { // it is turned, and After stays as it is
		d.Offset, d.Moved, d.Track = 0, true, ref.Name
		match = func(ctx context.Context, d *deckView) (err error) {
			d.Turned, err = s.turnedBy(ctx, v, *ref, l.Loop, l.Down)
			return err
		}
	} else {
		before, err := s.before(c.Request.Context(), v.Song, of)
		if errors.Is(err, errAddress) {
			before, err = v.Song.Brought(), nil
		}
		if err != nil {
			return nil, err
		}
		match = func(ctx context.Context, d *deckView) error { return s.matched(ctx, &before, &after, d) }
	}
	side := ask.Side{Rev: v.Rev, Solo: l.Solo, From: l.Loop.From, To: l.Loop.To, Ear: l.Ear}
	b, a := side, side
	b.Of, b.Down = of, d.Track != "" && l.Down
	a.Try, a.Page = l.Try, page
	d.Parts = v.parts()
	if l.Taken && d.Track == "" {
		a.Of, a.Taken = of, true
	}
	if l.Ear != "" || a.Taken { // no hand is followed in what is taken away
		d.Parts = nil
	}
	d.Before, d.After = "/songs/"+v.ID+"/deck/before.wav?"+b.Query(), "/songs/"+v.ID+"/deck/after.wav?"+a.Query()
	return match, nil
}
