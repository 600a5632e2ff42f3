package room

import (
	"cmp"
	"context"
	"fmt"
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/find"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/search"
	"mellowthump/core/session"
)

const (
	coverKey   = 0.0  // dB of a sound over the rest in an ERB from which it is audible: Fletcher's critical ratio, as on Levels
	coverTell  = 0.10 // of a sound's audibility, lost to one other, from which it is told
	coverList  = 0.01 // likewise, from which it is listed
	coverMost  = 3    // pairs that are told
	coverHalf  = 0.5  // of what is lost: a dip gives that back
	dipStep    = 0.1  // dB
	dipLeast   = 0.5
	dipNarrow  = 4.0 // Q
	dipWide    = 0.7
	lostInside = 0.8 // of what is lost lies between the ends that are told
)

// Crowd is all parts of a song by their excitation, frame by frame, over one window.
type Crowd struct {
	ear    *meter.Ear
	Stems  []*session.Stem
	each   []*Excited
	sum    [][]float64 // of all
	energy []float64   // of each, over all its cells
	at     [][]bool    // of each drum: the frames at its hits, in which alone it is judged; nil: all
	keys   []string    // of each: identifies its sound
	key    string      // identifies all of it
	cache  *mix.Cache
}

// Gather listens to every stem as it comes to the mix, over a window. It takes long the first time.
func Gather(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (*Crowd, error) {
	in, lead := wide(song, w)
	ear, err := r.Ear(ctx, song.Rate, song.RoomRules().Playback)
	if err != nil {
		return nil, err
	}
	c := &Crowd{ear: ear, cache: r.Cache}
	for i := range song.Stems {
		if !song.Stems[i].Mute {
			c.Stems = append(c.Stems, &song.Stems[i])
		}
	}
	mix.Doing(ctx, "Listening to every stem")
	c.each = make([]*Excited, len(c.Stems))
	c.keys = make([]string, len(c.Stems))
	if err := abreast(ctx, len(c.Stems), func(ctx context.Context, i int) error {
		key, x, err := heard(r, song, is(c.Stems[i].ID), in)
		if err != nil {
			return err
		}
		c.keys[i] = key
		c.each[i], err = excited(ctx, r, ear, key, x, lead)
		return err
	}); err != nil {
		return nil, err
	}
	if err := c.atHits(r, song, in.From); err != nil {
		return nil, err
	}
	c.key = mix.Key("crowd", c.keys, c.at, lead, song.RoomRules().Playback)
	c.add()
	return c, nil
}

// excited is a sound as an ear takes it, kept.
func excited(ctx context.Context, r *mix.Renderer, ear *meter.Ear, key string, x Hearing, lead int) (*Excited, error) {
	return mix.Cached(ctx, r.Cache, mix.Key("excitation", key, lead, ear.Playback), func() (*Excited, int, error) {
		b, err := x(ctx)
		if err != nil {
			return nil, 0, err
		}
		e, err := Excite(ctx, ear, b, lead)
		if err != nil {
			return nil, 0, err
		}
		return e, e.Bytes(), nil
	})
}

// drumHit is how long after its hits a drum is judged, s.
const drumHit = 0.1

// atHits finds the frames at the hits of kick and snare: a melody may cover what rings on. Those of a drum whose hits are
// not found are all judged.
func (c *Crowd) atHits(r *mix.Renderer, song *session.Song, from int) error {
	c.at = make([][]bool, len(c.Stems))
	for i, st := range c.Stems {
		if st.Role != session.Kick && st.Role != session.Snare {
			continue
		}
		s, id := *song, song.TriggerOf(st.ID)
		if id == "" {
			id = "judged"
			s.Triggers = append(slices.Clip(song.Triggers), session.Trigger{ID: id, Stem: st.ID})
		}
		hits, err := r.Hits(&s, id)
		if err != nil {
			return err
		}
		frames, any := make([]bool, len(c.each[i].at)), false
		for f, at := range c.each[i].at {
			middle := from + at + c.ear.Frame/2
			k, _ := slices.BinarySearch(hits, middle+1)
			frames[f] = k > 0 && float64(middle-hits[k-1]) <= drumHit*float64(song.Rate)
			any = any || frames[f]
		}
		if any {
			c.at[i] = frames
		}
	}
	return nil
}

// judged reports whether a part is judged in a frame.
func (c *Crowd) judged(of, frame int) bool {
	return c.at == nil || of >= len(c.at) || c.at[of] == nil || c.at[of][frame]
}

func (c *Crowd) add() {
	c.energy = make([]float64, len(c.each))
	for i, e := range c.each {
		for k, w := range e.was {
			if c.sum == nil {
				c.sum = make([][]float64, len(e.was))
			}
			if c.sum[k] == nil {
				c.sum[k] = make([]float64, len(w))
			}
			for n, v := range w {
				c.sum[k][n] += v
				if v > c.ear.Quiet[n] && c.judged(i, k) {
					c.energy[i] += v
				}
			}
		}
	}
}

// audible is the share of a part's energy, cell by cell of frame and ERB and over the threshold of hearing, that stands
// over the rest; without is a part that is away, changed by a gain in power for each channel (nil: away whole), -1 none.
func (c *Crowd) audible(of, without int, gain []float64) float64 {
	if c.energy[of] == 0 {
		return 0
	}
	k := math.Pow(10, coverKey/10)
	sum := 0.0
	for f, w := range c.each[of].was {
		if !c.judged(of, f) {
			continue
		}
		for n, v := range w {
			if v <= c.ear.Quiet[n] {
				continue
			}
			rest := c.sum[f][n] - v
			if without >= 0 {
				a := c.each[without].was[f][n]
				if gain != nil {
					a *= 1 - gain[n]
				}
				rest -= a
			}
			if v > rest*k {
				sum += v
			}
		}
	}
	return sum / c.energy[of]
}

// Cover is one part that covers another.
type Cover struct {
	By, Of string  // ids of stems
	Lost   float64 // share of the covered one's energy that would be heard if the other were gone
	Lo, Hi float64 // Hz, between which most of it lies
	hz     float64 // its middle
	by, of int
}

// Covers lists the pairs in which one part covers another, the worst first. Kick and bass against each other are Duck's.
func (c *Crowd) Covers() []Cover {
	var ids []string
	for _, st := range c.Stems {
		ids = append(ids, st.ID)
	}
	all, err := mix.Cached(context.Background(), c.cache, mix.Key("covers", c.key, ids), func() ([]Cover, int, error) {
		each := make([][]Cover, len(c.Stems))
		err := abreast(context.Background(), len(c.Stems), func(_ context.Context, of int) error {
			each[of] = c.over(of)
			return nil
		})
		all := slices.Concat(each...)
		slices.SortStableFunc(all, func(a, b Cover) int { return cmp.Compare(b.Lost, a.Lost) })
		return all, 128 * len(all), err
	})
	if err != nil { // nothing of it can fail
		return nil
	}
	return all
}

// over lists those that cover one part.
func (c *Crowd) over(of int) []Cover {
	if c.energy[of] == 0 || c.audible(of, -1, nil) > 1-coverTell {
		return nil
	}
	lost := make([]float64, len(c.Stems)) // to each alone
	for f, w := range c.each[of].was {
		if !c.judged(of, f) {
			continue
		}
		for n, v := range w {
			rest := c.sum[f][n] - v
			if v <= c.ear.Quiet[n] || v > rest {
				continue
			}
			for by, e := range c.each {
				if by != of && v > rest-e.was[f][n] {
					lost[by] += v
				}
			}
		}
	}
	var out []Cover
	for by, l := range lost {
		if l >= coverList*c.energy[of] && by != of && !(low(c.Stems[by]) && low(c.Stems[of])) {
			out = append(out, c.cover(by, of))
		}
	}
	return out
}

func low(st *session.Stem) bool { return st.Role == session.Kick || st.Role == session.Bass }

// Pair is what one part covers of another; ok is false where either is not there.
func (c *Crowd) Pair(by, of string) (k Cover, ok bool) {
	index := func(id string) int {
		return slices.IndexFunc(c.Stems, func(st *session.Stem) bool { return st.ID == id })
	}
	a, b := index(by), index(of)
	if a < 0 || b < 0 || a == b {
		return k, false
	}
	return c.cover(a, b), true
}

func (c *Crowd) cover(by, of int) Cover {
	k := Cover{By: c.Stems[by].ID, Of: c.Stems[of].ID, by: by, of: of}
	lost, all := make([]float64, len(c.ear.Hz)), 0.0
	for f, w := range c.each[of].was {
		if !c.judged(of, f) {
			continue
		}
		for n, v := range w {
			rest := c.sum[f][n] - v
			if v > c.ear.Quiet[n] && v <= rest && v > rest-c.each[by].was[f][n] {
				lost[n] += v
				all += v
			}
		}
	}
	if all == 0 {
		return k
	}
	k.Lost = all / c.energy[of]
	sum, from, to, middle := 0.0, -1, 0, 0
	for n, v := range lost {
		if sum += v; from < 0 && sum >= all*(1-lostInside)/2 {
			from = n
		}
		if sum < all/2 {
			middle = n + 1
		}
		if sum <= all*(1+lostInside)/2 {
			to = n
		}
	}
	k.Lo, k.Hi, k.hz = c.ear.Hz[from], c.ear.Hz[max(to, from)], c.ear.Hz[min(middle, len(lost)-1)]
	return k
}

// Dip is the smallest bell on the one that covers, after which half of what is lost is heard.
type Dip struct {
	Cover
	Way    Way
	Mid    bool         // in the middle alone
	Bell   *move.Filter // where it works, and how deep
	Params move.Params  // what is put in
	Back   float64      // share of the covered one's energy that it gives back
	Costs  float64      // share of its own audibility that it costs the one that is dipped
	Half   bool         // half is reached within 6 dB
}

// Dip finds it: of the gains in tenths of a decibel the least, up to 6 dB.
func (c *Crowd) Dip(k Cover) (d Dip, ok bool) {
	if k.Lost <= 0 || k.hz == 0 {
		return d, false
	}
	octaves := math.Max(0.25, math.Log2(math.Max(k.Hi/k.Lo, 1.19)))
	q := math.Round(10*math.Max(dipWide, math.Min(dipNarrow, 1/(2*math.Sinh(math.Ln2/2*octaves))))) / 10
	d = Dip{Cover: k, Way: Always, Bell: &move.Filter{Shape: dsp.Bell, Hz: math.Round(k.hz), Q: q}}
	now := c.audible(k.of, -1, nil)
	back := func(tenths int) float64 {
		d.Bell.DB = -float64(tenths) * dipStep
		return c.audible(k.of, k.by, c.gains(d.Bell)) - now
	}
	most := int(math.Round(move.BigCut / dipStep))
	lo, hi := int(dipLeast/dipStep)-1, most
	if d.Half = back(most) >= coverHalf*k.Lost; d.Half {
		hi, _ = search.Least(lo, hi, func(n int) (bool, error) { return back(n) >= coverHalf*k.Lost, nil }) // the deeper, the more is heard
	}
	d.Back = back(hi)
	d.Bell.DB = -math.Round(float64(hi)) / 10
	own := c.audible(k.by, -1, nil)
	if own > 0 {
		d.Costs = math.Max(0, 1-c.dipped(k.by, c.gains(d.Bell))/own)
	}
	d.Params = d.Bell
	return d, d.Back > 0
}

// gains are a bell's gains in power at the channels.
func (c *Crowd) gains(b *move.Filter) []float64 {
	s, err := b.Sections(float64(c.ear.Rate))
	out := make([]float64, len(c.ear.Hz))
	for n, hz := range c.ear.Hz {
		out[n] = 1
		if err == nil {
			h := dsp.Response(s, hz, float64(c.ear.Rate))
			out[n] = real(h)*real(h) + imag(h)*imag(h)
		}
	}
	return out
}

// dipped is the audibility of a part that is itself changed, against the energy that it had.
func (c *Crowd) dipped(of int, gain []float64) float64 {
	sum := 0.0
	for f, w := range c.each[of].was {
		if !c.judged(of, f) {
			continue
		}
		for n, v := range w {
			if g := v * gain[n]; v > c.ear.Quiet[n] && g > c.sum[f][n]-v {
				sum += g
			}
		}
	}
	return sum / math.Max(1e-30, c.energy[of])
}

// dipMove is the id of a dip for a stem.
func dipMove(of string) string { return session.RoomFor + of }

// Edit puts the dip in.
func (d Dip) Edit(song *session.Song) session.Edit {
	at, m := session.At{Stem: d.By}, move.Move{ID: dipMove(d.Of), Params: d.Params, Why: "so that " + nameOf(song, d.Of) + " is heard"}
	if d.Way == Keyed {
		return session.KeyTo{At: at, Stem: d.Of, Move: m}
	}
	return session.SetMove{At: at, Move: m}
}

func nameOf(song *session.Song, id string) string {
	if id == Voice {
		return "the voice"
	}
	if st := song.Stem(id); st != nil {
		return st.Name
	}
	return id
}

// Says says what a dip does and costs.
func (d Dip) Says(song *session.Song) string {
	of, by := nameOf(song, d.Of), nameOf(song, d.By)
	half := "gives half of it back"
	if !d.Half {
		half = fmt.Sprintf("gives %.0f %% back (more than %s dB is no cure)", 100*d.Back, figure.Short(move.BigCut))
	}
	when := ""
	switch d.Way {
	case Keyed:
		when = " while " + of + " sounds"
	case Held:
		when = " in what it holds"
	}
	if d.Mid {
		when += ", in the middle alone,"
	}
	return fmt.Sprintf("%.0f %% of %s would be heard if %s were gone. %s dB on %s at %s Hz%s %s and costs it %.0f %%.",
		100*d.Lost, of, by, figure.Short(d.Bell.DB), by, figure.Short(d.Bell.Hz), when, half, 100*d.Costs)
}

// Told are the findings of the worst pairs that are not dealt with, where a dip gives half back and costs less than was lost.
func (c *Crowd) Told(song *session.Song) []find.Finding {
	var out []find.Finding
	for _, k := range c.Covers() {
		if len(out) == coverMost || k.Lost < coverTell {
			break
		}
		st := song.Stem(k.By)
		if st == nil || st.Move(dipMove(k.Of)) != nil {
			continue
		}
		d, ok := c.Dip(k)
		if !ok || !d.Half || d.Costs >= k.Lost { // a cure that is worse is none; the pair is listed all the same
			continue
		}
		by, of := nameOf(song, k.By), nameOf(song, k.Of)
		out = append(out, find.Finding{
			ID: find.ID("covers", k.By, k.Of), What: fmt.Sprintf("%s covers %s at %.0f–%.0f Hz", by, of, k.Lo, k.Hi),
			Why: d.Says(song), Hear: "all", Apply: "Dip " + by, Do: fmt.Sprintf("Dip %s at %s Hz", by, figure.Short(d.Bell.Hz)),
			Fix: []session.Edit{d.Edit(song)}, Values: by + ": " + move.Words(d.Params), Taste: "who is to stand in front is yours to say",
			Own: []find.Measure{{Figure: "covered", Of: k.Of, By: k.By, In: find.AtMost(10)}},
		})
	}
	return out
}
