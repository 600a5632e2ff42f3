package room

import (
	"cmp"
	"context"
	"math"
	"runtime"
	"slices"
	"sync"
	"sync/atomic"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
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

// Hearing renders a sound.
type Hearing func(ctx context.Context) (audio.Buffer, error)

// heard is what some stems bring to the mix, over a window, and what identifies it.
func heard(r *mix.Renderer, song *session.Song, keep func(*session.Stem) bool, w mix.Window) (key string, x Hearing, err error) {
	c := only(song, keep)
	return hearing(r, &c, w)
}

// hearing is the whole of a song over a window: rendered where it is asked for, and not kept.
func hearing(r *mix.Renderer, song *session.Song, w mix.Window) (key string, x Hearing, err error) {
	key, err = r.Identity(song, mix.SoloAll, w)
	return key, func(ctx context.Context) (audio.Buffer, error) {
		b, _, err := r.Solo(mix.Passing(ctx), song, mix.SoloAll, w)
		return b, err
	}, err
}

// abreast does something for each of n parts, as many at once as there are processors, and says how far it is.
func abreast(ctx context.Context, n int, f func(ctx context.Context, i int) error) error {
	g, inner := group.WithContext(ctx)
	g.SetLimit(runtime.GOMAXPROCS(0))
	var done atomic.Int64
	for i := range n {
		g.Go(func() error {
			err := inner.Err()
			if err == nil {
				err = f(inner, i)
			}
			mix.Did(ctx, float64(done.Add(1))/float64(n))
			return err
		})
	}
	return g.Wait()
}

// is picks one stem.
func is(id string) func(*session.Stem) bool {
	return func(st *session.Stem) bool { return st.ID == id }
}

// besides picks all but kick and bass.
func besides(st *session.Stem) bool { return st.Role != session.Kick && st.Role != session.Bass }

// Shares works out what each stem and bus brings to the cellar over a window: stems first, the loudest first. Parts that
// are not alike add up by their energies. It takes long the first time.
func (c *Cellar) Shares(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Share, error) {
	in, lead := wide(song, w)
	under, all := c.Energy, 0.0
	var parts []Share
	energy := map[string]float64{}
	for _, st := range rests(song) {
		e, err := lowIn(ctx, r, song, is(st.ID), in, lead)
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

// end is one of its ends.
func (c *Cut) end(side Side) *End {
	if side == High {
		return &c.High
	}
	return &c.Low
}

// End is one end of a stem: how far it can go unheard, and what it frees when the mix's corner is taken. Figures are
// those of the mix without Room's cuts.
type End struct {
	Alone, Mix float64      // Hz; 0: nothing can go
	All        float64      // where every stem is cut at this end at once
	Cellar     meter.Figure // by how much the rest falls in 20 to 150 Hz, dB
	OnBus      meter.Figure // by how much the peak of what goes through its bus falls, dB; None without a bus
	Premaster  meter.Figure // by how much the peak of the mix falls, dB
	Strongest  float64      // Hz: the middle of the third-octave in which most of it lies
}

// Cuts works out for every stem that is neither kick nor bass what of it may go unheard, over a window; in the order of
// the song. It takes long the first time; of a song in which one stem was turned, the others are not listened to again.
func Cuts(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window) ([]Cut, error) {
	plain := song.Uncut()
	in, lead := wide(song, w)
	wholeKey, whole, err := hearing(r, &plain, in)
	if err != nil {
		return nil, err
	}
	crowd, err := Gather(ctx, r, &plain, w)
	if err != nil {
		return nil, err
	}
	a := &cutting{r: r, song: &plain, in: in, lead: lead, slope: song.RoomRules().Slope, crowd: crowd, whole: kept(whole), stems: rests(&plain)}
	mix.Doing(ctx, "Listening for what may go")
	out := make([]Cut, len(a.stems))
	if a.all, err = lowIn(ctx, r, &plain, besides, in, lead); err != nil {
		return nil, err
	}
	if err := abreast(ctx, len(a.stems), func(ctx context.Context, i int) error {
		st := a.stems[i]
		var err error
		b := plain.Bus(st.Bus)
		out[i], err = mix.Cached(ctx, r.Cache, mix.Key("room cut", st.ID, st.Bus, crowd.key, wholeKey, a.slope), func() (Cut, int, error) {
			var bus audio.Buffer
			if b != nil {
				var err error
				if bus, err = a.bus(ctx, b.ID); err != nil {
					return Cut{}, 0, err
				}
			}
			c, err := a.cut(ctx, i, bus)
			return c, 1024, err
		})
		if out[i].Stem, out[i].Bus = st.ID, ""; b != nil {
			out[i].Bus = b.Name
		}
		return err
	}); err != nil {
		return nil, err
	}
	mix.Doing(ctx, "Listening to all cuts at once")
	all, err := mix.Cached(ctx, r.Cache, mix.Key("room all", crowd.key, a.slope), func() ([]Cut, int, error) {
		c := slices.Clone(out)
		err := a.together(ctx, c, Low)
		if err == nil {
			err = a.together(ctx, c, High)
		}
		return c, 64 * len(c), err
	})
	for i := range all {
		out[i].Low.All, out[i].High.All = all[i].Low.All, all[i].High.All
	}
	return out, err
}

// cutting is what is needed to judge the cuts of a song's stems.
type cutting struct {
	r           *mix.Renderer
	song        *session.Song
	in          mix.Window
	lead, slope int
	crowd       *Crowd
	whole       Hearing
	buses       sync.Map // of the buses' ids: what goes through each, a Hearing
	stems       []*session.Stem
	all         float64 // energy of all stems together in 20 to 150 Hz
}

// kept is a sound that is rendered once and held as long as whoever listens to it.
func kept(x Hearing) Hearing {
	var mu sync.Mutex
	var b audio.Buffer
	done := false
	return func(ctx context.Context) (audio.Buffer, error) {
		mu.Lock()
		defer mu.Unlock()
		if done {
			return b, nil
		}
		var err error
		b, err = x(ctx)
		done = err == nil
		return b, err
	}
}

// bus is what goes through a bus.
func (a *cutting) bus(ctx context.Context, id string) (audio.Buffer, error) {
	x, _ := a.buses.LoadOrStore(id, kept(func(ctx context.Context) (audio.Buffer, error) {
		b, _, err := a.r.Solo(mix.Passing(ctx), a.song, mix.SoloBus(id), a.in)
		return b, err
	}))
	return x.(Hearing)(ctx)
}

// index is a stem's place in the crowd.
func (a *cutting) index(i int) int {
	return slices.IndexFunc(a.crowd.Stems, func(st *session.Stem) bool { return st.ID == a.stems[i].ID })
}

func (a *cutting) part(i int) *Excited { return a.crowd.each[a.index(i)] }

// key identifies what a stem brings to the mix.
func (a *cutting) key(i int) string { return a.crowd.keys[a.index(i)] }

// sound is what a stem brings to the mix.
func (a *cutting) sound(i int) Hearing {
	_, x, err := heard(a.r, a.song, is(a.stems[i].ID), a.in)
	if err != nil {
		return func(context.Context) (audio.Buffer, error) { return audio.Buffer{}, err }
	}
	return x
}

// trimmed is what is known of a stem behind a cut.
func (a *cutting) trimmed(ctx context.Context, i int, side Side, hz float64) (*Trimmed, error) {
	return mix.Cached(ctx, a.r.Cache, mix.Key("trimmed", a.key(i), side, hz, a.slope, a.lead, a.song.RoomRules().Playback), func() (*Trimmed, int, error) {
		t := Trim(a.part(i), side, hz, a.slope)
		return t, t.Bytes(), nil
	})
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

func (a *cutting) cut(ctx context.Context, i int, bus audio.Buffer) (Cut, error) {
	var c Cut
	own := a.part(i)
	x, err := a.sound(i)(ctx)
	if err != nil {
		return c, err
	}
	held := func(context.Context) (audio.Buffer, error) { return x, nil }
	if c.Spectrum, err = mix.Cached(ctx, a.r.Cache, mix.Key("room spectrum", a.key(i), a.lead), func() ([]meter.Figure, int, error) {
		s, err := meter.MeasureSpectrum(audio.Memory{Buffer: x.Slice(a.lead, x.Frames())})
		return s.Level, 8 * len(s.Level), err
	}); err != nil {
		return c, err
	}
	rest, err := a.beside(ctx, own, x)
	if err != nil {
		return c, err
	}
	for side, end := range map[Side]*End{Low: &c.Low, High: &c.High} {
		at := func(hz float64) (*Trimmed, error) { return a.trimmed(ctx, i, side, hz) }
		if end.Alone, end.Mix, err = Corner(ctx, own, held, rest, side, at); err != nil {
			return c, err
		}
		end.OnBus = meter.None
		if bus.Frames() > 0 {
			end.OnBus = 0
		}
		if end.Mix == 0 {
			continue
		}
		if err := a.frees(ctx, i, side, end, x, bus, c.Spectrum); err != nil {
			return c, err
		}
	}
	return c, nil
}

// beside is the mix without a stem as an ear takes it, in the frames in which the stem sounds: as it adds up, not by energies,
// for what plays the same notes adds up or takes away.
func (a *cutting) beside(ctx context.Context, own *Excited, x audio.Buffer) ([][]float64, error) {
	whole, err := a.whole(ctx)
	if err != nil {
		return nil, err
	}
	rest, e := less(whole, x), a.crowd.ear
	out, power := make([][]float64, len(own.at)), make([]float64, e.Frame/2+1)
	for _, i := range own.Sounding() {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		out[i] = make([]float64, len(e.Hz))
		e.Power(power, rest, own.at[i])
		e.Excite(out[i], power, 0, len(e.Hz))
	}
	return out, nil
}

// frees works out what a cut frees: of the cellar by energy, of the peaks as they add up.
func (a *cutting) frees(ctx context.Context, i int, side Side, end *End, x, bus audio.Buffer, was []meter.Figure) error {
	f := side.cut(end.Mix, a.slope)
	changed, err := filtered(x, f)
	if err != nil {
		return err
	}
	taken := less(x, changed)
	peak := func(x audio.Buffer) meter.Figure { return meter.PeakDB(x.Slice(a.lead, x.Frames()).Ch...) }
	if a.all > 0 {
		own, err := lowIn(ctx, a.r, a.song, is(a.stems[i].ID), a.in, a.lead)
		if err != nil {
			return err
		}
		now, err := mix.Cached(ctx, a.r.Cache, mix.Key("low energy cut", a.key(i), f, a.lead), func() (float64, int, error) {
			return lowEnergy(changed, a.lead), 8, nil
		})
		if err != nil {
			return err
		}
		if left := a.all - own + now; left > 0 {
			end.Cellar = meter.Figure(math.Max(0, dsp.PowerDB(a.all/left)))
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
	whole, err := a.whole(ctx)
	if err != nil {
		return err
	}
	end.Premaster = falls(whole)
	if bus.Frames() > 0 {
		end.OnBus = falls(bus)
	}
	s, err := f.Sections(float64(x.Rate))
	best := 0.0
	for k, l := range was { // a third-octave loses as much as its middle
		h := dsp.Response(s, math.Min(meter.BandHz(k), 0.49*float64(x.Rate)), float64(x.Rate))
		if e := power(l) * (1 - real(h)*real(h) - imag(h)*imag(h)); e > best {
			best, end.Strongest = e, meter.BandHz(k)
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
