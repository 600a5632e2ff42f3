package room

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"

	"golang.org/x/sync/errgroup"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// before is what is rendered ahead of a window, so that filters have settled when it begins, s.
const before = 0.25

// Cellar is what lies under kick and bass in 20 to 150 Hz over a window, as it sounds behind the master.
type Cellar struct {
	Under meter.Figure // the rest under kick and bass, dB; None where either is silent there

	Energy     float64        // of kick and bass, which Under is against
	Pair, Rest []meter.Figure // third-octaves from 20 Hz to 20 kHz, RMS, dBFS, mean of the channels
}

// Share is what a part brings to the cellar.
type Share struct {
	At    session.At
	Name  string
	Under meter.Figure // under kick and bass, dB
	Part  float64      // of what all parts bring, 0 to 1
}

// rests are the stems that are neither kick nor bass and sound.
func rests(song *session.Song) []*session.Stem {
	var out []*session.Stem
	for i := range song.Stems {
		if st := &song.Stems[i]; !st.Mute && st.Role != session.Kick && st.Role != session.Bass {
			out = append(out, st)
		}
	}
	return out
}

// only returns the song with the other stems muted: those that keep names are heard through their buses and the master.
func only(song *session.Song, keep func(*session.Stem) bool) session.Song {
	c := *song
	c.Stems = slices.Clone(song.Stems)
	for i := range c.Stems {
		c.Stems[i].Mute = c.Stems[i].Mute || !keep(&c.Stems[i])
	}
	return c
}

// wide is a window with what is rendered before it, and in how many frames of the render it begins.
func wide(song *session.Song, w mix.Window) (mix.Window, int) {
	lead := int(before * float64(song.Rate))
	return mix.Window{From: w.From - lead, To: w.To}, lead
}

// heard renders what some stems bring to the mix, over a window.
func heard(ctx context.Context, r *mix.Renderer, song *session.Song, keep func(*session.Stem) bool, w mix.Window) (audio.Buffer, string, error) {
	c := only(song, keep)
	return r.Solo(ctx, &c, mix.SoloAll, w)
}

// lowEnergy is the energy in 20 to 150 Hz of all channels from a frame on.
func lowEnergy(x audio.Buffer, from int) float64 {
	band, err := meter.WideBand(float64(x.Rate))
	if err != nil {
		return 0
	}
	sum := 0.0
	y := make([]float32, x.Frames())
	for _, ch := range x.Ch {
		dsp.NewFilter(band).Process(y, ch)
		for _, v := range y[min(from, len(y)):] {
			sum += float64(v) * float64(v)
		}
	}
	return sum
}

// Measure measures the cellar of a song as it is over a window.
func Measure(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) (*Cellar, error) {
	in, lead := wide(song, w)
	pair, pairKey, err := r.Solo(ctx, song, mix.SoloBoth, in)
	if err != nil {
		return nil, err
	}
	rest, restKey, err := heard(ctx, r, song, func(st *session.Stem) bool { return st.Role != session.Kick && st.Role != session.Bass }, in)
	if err != nil {
		return nil, err
	}
	return mix.Cached(r.Cache, mix.Key("cellar", pairKey, restKey), func() (*Cellar, int, error) {
		c := &Cellar{Under: meter.None}
		under := lowEnergy(pair, lead)
		if e := lowEnergy(rest, lead); e > 0 && under > 0 {
			c.Under = meter.Figure(dsp.PowerDB(under / e))
		}
		for k, x := range []audio.Buffer{pair, rest} {
			s, err := meter.MeasureSpectrum(audio.Memory{Buffer: x.Slice(lead, x.Frames())})
			if err != nil {
				return nil, 0, err
			}
			if k == 0 {
				c.Pair = s.Level
			} else {
				c.Rest = s.Level
			}
		}
		c.Energy = under
		return c, 4096, nil
	})
}

// Shares works out what each stem and bus brings to the cellar over a window: stems first, the loudest first. Parts that
// are not alike add up by their energies. It takes long the first time.
func (c *Cellar) Shares(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Share, error) {
	in, lead := wide(song, w)
	under, all := c.Energy, 0.0
	var parts []Share
	energy := map[string]float64{}
	for _, st := range rests(song) {
		x, key, err := heard(ctx, r, song, func(o *session.Stem) bool { return o.ID == st.ID }, in)
		if err != nil {
			return nil, err
		}
		e, err := mix.Cached(r.Cache, mix.Key("low energy", key, lead), func() (float64, int, error) { return lowEnergy(x, lead), 8, nil })
		if err != nil {
			return nil, err
		}
		energy[st.ID] = e
		all += e
	}
	add := func(at session.At, name string, e float64) {
		s := Share{At: at, Name: name, Under: meter.None}
		if e > 0 && under > 0 {
			s.Under = meter.Figure(dsp.PowerDB(under / e))
		}
		if all > 0 {
			s.Part = e / all
		}
		parts = append(parts, s)
	}
	for _, st := range rests(song) {
		add(session.At{Stem: st.ID}, st.Name, energy[st.ID])
	}
	slices.SortStableFunc(parts, func(a, b Share) int { return cmp.Compare(b.Part, a.Part) })
	for i := range song.Buses {
		b, e := &song.Buses[i], 0.0
		for _, st := range rests(song) {
			if song.Reaches(st, b.ID) {
				e += energy[st.ID]
			}
		}
		if e > 0 {
			add(session.At{Bus: b.ID}, b.Name, e)
		}
	}
	return parts, nil
}

// Cut is what may go of a stem unheard, at each end.
type Cut struct {
	Stem      string
	Low, High End
	Spectrum  []meter.Figure // third-octaves of what it brings to the mix without Room's cuts, dBFS
	Bus       string         // its bus's name; empty: straight to the master
}

// End is one end of a stem: how far it can go unheard, and what it frees when the mix's corner is taken. Figures are
// those of the mix without Room's cuts.
type End struct {
	Alone, Mix float64      // Hz; 0: nothing can go
	All        float64      // of the low end: where every stem is cut at once
	Cellar     meter.Figure // by how much the rest falls in 20 to 150 Hz, dB
	OnBus      meter.Figure // by how much the peak of what goes through its bus falls, dB; None without a bus
	Premaster  meter.Figure // by how much the peak of the mix falls, dB
	Strongest  float64      // Hz: the middle of the third-octave in which most of it lies
}

// Cuts works out for every stem that is neither kick nor bass what of it may go unheard, over a window; in the order of
// the song. It takes long the first time.
func Cuts(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Cut, error) {
	plain := song.Uncut()
	in, lead := wide(song, w)
	rules := song.RoomRules()
	whole, wholeKey, err := r.Solo(ctx, &plain, mix.SoloAll, in)
	if err != nil {
		return nil, err
	}
	ear, err := earOf(r, song)
	if err != nil {
		return nil, err
	}
	mix.Doing(ctx, "Listening for what may go")
	rest, restKey, err := heard(ctx, r, &plain, func(st *session.Stem) bool { return st.Role != session.Kick && st.Role != session.Bass }, in)
	if err != nil {
		return nil, err
	}
	stems := rests(&plain)
	alone := func(ctx context.Context, i int) (audio.Buffer, string, error) { // kept by the renderer as far as there is room
		return heard(ctx, r, &plain, func(o *session.Stem) bool { return o.ID == stems[i].ID }, in)
	}
	out, keys := make([]Cut, len(stems)), make([]string, len(stems))
	g, gctx := errgroup.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	done := make(chan bool, len(stems))
	for i, st := range stems {
		g.Go(func() error {
			own, ownKey, err := alone(gctx, i)
			if err != nil {
				return err
			}
			keys[i] = ownKey
			var bus audio.Buffer
			busKey := ""
			if b := plain.Bus(st.Bus); b != nil {
				if bus, busKey, err = r.Solo(gctx, &plain, mix.SoloBus(b.ID), in); err != nil {
					return err
				}
			}
			a := &cutting{ear: ear, own: own, bus: bus, whole: whole, rest: rest, lead: lead, slope: rules.Slope}
			out[i], err = mix.Cached(r.Cache, mix.Key("room cut", ownKey, wholeKey, restKey, busKey, rules.Slope, rules.Playback, lead), func() (Cut, int, error) {
				c, err := a.cut(gctx)
				return c, 1024, err
			})
			out[i].Stem, out[i].Bus = st.ID, ""
			if b := plain.Bus(st.Bus); b != nil {
				out[i].Bus = b.Name
			}
			done <- true
			mix.Did(ctx, float64(len(done))/float64(len(stems)))
			return err
		})
	}
	if err := g.Wait(); err != nil {
		return nil, err
	}
	mix.Doing(ctx, "Listening to all cuts at once")
	pair, pairKey, err := r.Solo(ctx, &plain, mix.SoloBoth, in)
	if err != nil {
		return nil, err
	}
	all, err := mix.Cached(r.Cache, mix.Key("room all", keys, pairKey, wholeKey, rules.Slope, rules.Playback, lead), func() ([]Cut, int, error) {
		c := slices.Clone(out)
		return c, 64 * len(c), together(ctx, ear, pair, func(ctx context.Context, i int) (audio.Buffer, error) {
			x, _, err := alone(ctx, i)
			return x, err
		}, c, lead, rules.Slope)
	})
	for i := range all {
		out[i].Low.All = all[i].Low.All
	}
	return out, err
}

// cutting is what is needed to judge the cuts of one stem.
type cutting struct {
	ear              *meter.Ear
	own              audio.Buffer // what it brings to the mix
	bus, whole, rest audio.Buffer
	lead, slope      int
}

// less is a sound without another.
func less(x, y audio.Buffer) audio.Buffer {
	out := audio.New(x.Rate, len(x.Ch), x.Frames())
	for c, ch := range out.Ch {
		t := y.Ch[min(c, len(y.Ch)-1)]
		for i := range ch {
			ch[i] = x.Ch[c][i] - t[i]
		}
	}
	return out
}

func (a *cutting) cut(ctx context.Context) (Cut, error) {
	own, err := Excite(ctx, a.ear, a.own, a.lead)
	if err != nil {
		return Cut{}, err
	}
	others, err := Excite(ctx, a.ear, less(a.whole, a.own), a.lead)
	if err != nil {
		return Cut{}, err
	}
	var c Cut
	s, err := meter.MeasureSpectrum(audio.Memory{Buffer: a.own.Slice(a.lead, a.own.Frames())})
	if err != nil {
		return c, err
	}
	c.Spectrum = s.Level
	for side, end := range map[Side]*End{Low: &c.Low, High: &c.High} {
		if end.Alone, end.Mix, err = Corner(ctx, own, others, side, a.slope); err != nil {
			return c, err
		}
		end.OnBus = meter.None
		if a.bus.Frames() > 0 {
			end.OnBus = 0
		}
		if end.Mix == 0 {
			continue
		}
		changed, err := filtered(a.own, side.cut(end.Mix, a.slope))
		if err != nil {
			return c, err
		}
		if err := a.frees(end, changed, c.Spectrum); err != nil {
			return c, err
		}
	}
	return c, nil
}

// frees works out what a changed stem frees: of the cellar by energy, of the peaks as they add up.
func (a *cutting) frees(end *End, changed audio.Buffer, was []meter.Figure) error {
	taken := less(a.own, changed)
	peak := func(x audio.Buffer) meter.Figure { return meter.PeakDB(x.Slice(a.lead, x.Frames()).Ch...) }
	if all := lowEnergy(a.rest, a.lead); all > 0 {
		if left := all - lowEnergy(a.own, a.lead) + lowEnergy(changed, a.lead); left > 0 {
			end.Cellar = meter.Figure(math.Max(0, dsp.PowerDB(all/left)))
		} else {
			end.Cellar = emptied
		}
	}
	falls := func(x audio.Buffer) meter.Figure {
		if by := peak(x) - peak(less(x, taken)); by.Valid() {
			return by
		}
		return 0
	}
	end.Premaster = falls(a.whole)
	if a.bus.Frames() > 0 {
		end.OnBus = falls(a.bus)
	}
	s, err := meter.MeasureSpectrum(audio.Memory{Buffer: changed.Slice(a.lead, changed.Frames())})
	best := 0.0
	for i, l := range s.Level {
		if e := power(was[i]) - power(l); e > best {
			best, end.Strongest = e, meter.BandHz(i)
		}
	}
	return err
}

// emptied stands for a cellar of which nothing is left, dB.
const emptied = 60.0

// power is the mean square of a level; that of none is 0.
func power(l meter.Figure) float64 {
	if !l.Valid() {
		return 0
	}
	return math.Pow(10, float64(l)/10)
}
