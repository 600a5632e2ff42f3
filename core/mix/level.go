package mix

import (
	"context"
	"math"
	"sort"

	"golang.org/x/sync/errgroup"
	"gonum.org/v1/gonum/dsp/fourier"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
)

// piece is the number of frames that levels are measured over at a time: what is held in memory
// does not grow with the song.
const piece = 1 << 19

const (
	peakStep  = 0.05 // s: one peak is kept of each such stretch
	peaksKept = 32   // of the worst stretches
)

// Level is how loud one point of the chain is over a window.
type Level struct {
	Peak  meter.Figure // sample peak of the louder channel, dBFS
	At    int          // frame of the song with that peak
	gain  float64      // dB, by which all that was measured is turned
	loud  *meter.Loudness
	worst []int // frames of the loudest stretches, loudest first
}

// Integrated returns the BS.1770 loudness in LUFS. A mono part is measured as one channel.
func (l Level) Integrated() meter.Figure {
	if l.loud == nil {
		return meter.None
	}
	return l.loud.IntegratedAt(l.gain)
}

// Turned returns the level behind a gain in dB: what a pure gain does is known, not measured
// again.
func (l Level) Turned(db float64) Level {
	l.Peak += meter.Figure(db)
	l.gain += db
	return l
}

// levelMeter measures a Level block by block.
type levelMeter struct {
	loud  *meter.Loudness
	step  int
	peaks []spot // of every stretch
	at    int
}

type spot struct {
	peak float32
	at   int
}

func newLevelMeter(rate, channels, from int) *levelMeter {
	return &levelMeter{loud: meter.NewLoudness(rate, channels), step: max(1, int(peakStep*float64(rate))), at: from}
}

func (m *levelMeter) add(b audio.Buffer) {
	m.loud.Add(b)
	n := b.Frames()
	for from := 0; from < n; from += m.step {
		s := spot{at: m.at + from}
		for _, ch := range b.Ch {
			x := ch[from:min(from+m.step, n)]
			if p := meter.Peak(x); p > s.peak {
				s.peak = p
				for i, v := range x {
					if v == p || -v == p {
						s.at = m.at + from + i
						break
					}
				}
			}
		}
		m.peaks = append(m.peaks, s)
	}
	m.at += n
}

func (m *levelMeter) level() Level {
	sort.SliceStable(m.peaks, func(i, j int) bool { return m.peaks[i].peak > m.peaks[j].peak })
	l := Level{Peak: meter.None, loud: m.loud}
	if len(m.peaks) > 0 && m.peaks[0].peak > 0 {
		l.Peak, l.At = meter.Figure(dsp.DB(float64(m.peaks[0].peak))), m.peaks[0].at
	}
	for _, s := range m.peaks[:min(peaksKept, len(m.peaks))] {
		if s.peak > 0 {
			l.worst = append(l.worst, s.at)
		}
	}
	return l
}

// pieces calls f for the pieces of a window, in order.
func pieces(ctx context.Context, w Window, f func(Window) error) error {
	for from := w.From; from < w.To; from += piece {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := f(Window{from, min(from+piece, w.To)}); err != nil {
			return err
		}
	}
	return nil
}

// measured renders a part of the song piece by piece and measures it, once for a key.
func (r *Renderer) measured(ctx context.Context, k string, w Window, render func(Window) (node, error)) (Level, error) {
	return Cached(r.Cache, k, func() (Level, int, error) {
		var m *levelMeter
		err := pieces(ctx, w, func(p Window) error {
			n, err := render(p)
			if err != nil {
				return err
			}
			if m == nil {
				m = newLevelMeter(n.buf.Rate, len(n.buf.Ch), w.From)
			}
			m.add(n.buf)
			return nil
		})
		if err != nil || m == nil {
			return Level{Peak: meter.None}, 0, err
		}
		l := m.level()
		return l, 16 * (w.Frames()/max(1, m.loud.HopFrames()) + 100), nil
	})
}

// StemLevels are the levels of a stem after each of its steps.
type StemLevels struct {
	File  Level // as it came
	Steps map[session.Step]Level
}

// StemLevels measures a stem at each of its steps over a window.
func (r *Renderer) StemLevels(ctx context.Context, song *session.Song, st *session.Stem, w Window) (StemLevels, error) {
	c, err := r.chain(song, st, Window{})
	if err != nil {
		return StemLevels{}, err
	}
	out := StemLevels{Steps: map[session.Step]Level{}}
	out.File, err = r.measured(ctx, key("level of a file", c.Audio, c.Rate, w), w, func(p Window) (node, error) {
		b, err := r.source(c.Audio, c.Rate, p)
		return node{buf: b}, err
	})
	if err != nil {
		return out, err
	}
	out.Steps[session.SourceStep] = out.File.Turned(st.Source)
	clip := out.File.Turned(st.Source + st.Clip)
	out.Steps[session.ClipStep] = clip
	at := stemPlace(st)
	switch {
	case len(c.Moves) == 0 && at.simple():
		out.Steps[session.TrackStep] = clip.Turned(st.Fader)
		return out, nil
	case at.simple(): // the fader turns what comes out of the moves
		at.DB = 0
	}
	track, err := r.measured(ctx, key("level of a stem", c, at, w), w, func(p Window) (node, error) {
		b, k, err := r.chained(song, st, p)
		if err != nil {
			return node{}, err
		}
		return r.sum([]node{{buf: b, key: k, at: at}}, song.Rate, 1, p)
	})
	if at.simple() {
		track = track.Turned(st.Fader)
	}
	out.Steps[session.TrackStep] = track
	return out, err
}

// GroupLevel measures what goes to a bus over a window, behind the bus's duck and before its fader; "" is
// the master, which is measured in stereo.
func (r *Renderer) GroupLevel(ctx context.Context, song *session.Song, bus string, w Window) (Level, error) {
	channels := 1
	if bus == "" {
		channels = 2
	}
	spec, err := r.spec(song, bus, SoloAll)
	if err != nil {
		return Level{}, err
	}
	duck, err := r.busDuck(song, song.Bus(bus))
	if err != nil {
		return Level{}, err
	}
	return r.measured(ctx, key("level of a bus", spec, duck, channels, w), w, func(p Window) (node, error) {
		return r.group(ctx, song, bus, SoloAll, p, channels)
	})
}

// TogetherLevel measures the sum of some stems at the end of their own chains.
func (r *Renderer) TogetherLevel(ctx context.Context, song *session.Song, stems []*session.Stem, w Window) (Level, error) {
	parts := make([]partSpec, len(stems))
	for i, st := range stems {
		c, err := r.chain(song, st, Window{})
		if err != nil {
			return Level{}, err
		}
		parts[i] = partSpec{Chain: &c, At: stemPlace(st)}
	}
	return r.measured(ctx, key("level of some", parts, w), w, func(p Window) (node, error) {
		nodes := make([]node, len(stems))
		for i, st := range stems {
			b, k, err := r.chained(song, st, p)
			if err != nil {
				return node{}, err
			}
			nodes[i] = node{buf: b, key: k, at: stemPlace(st)}
		}
		return r.sum(nodes, song.Rate, 1, p)
	})
}

// partSpec is all that one part of a sum depends on.
type partSpec struct {
	Chain  *chain     `json:",omitempty"`
	Group  []partSpec `json:",omitempty"`
	Clicks []int      `json:",omitempty"`
	Duck   *chain     `json:",omitempty"` // of the group's bus
	At     place
}

// spec is all that what goes to a bus depends on, but for the window.
func (r *Renderer) spec(song *session.Song, bus string, solo Solo) ([]partSpec, error) {
	var out []partSpec
	for _, in := range inputs(song, bus, solo) {
		p := partSpec{At: in.at}
		if in.stem != nil {
			c, err := r.chain(song, in.stem, Window{})
			if err != nil {
				return nil, err
			}
			p.Chain = &c
		} else {
			var err error
			if p.Group, err = r.spec(song, in.bus.ID, solo); err != nil {
				return nil, err
			}
			if p.Duck, err = r.busDuck(song, in.bus); err != nil {
				return nil, err
			}
		}
		out = append(out, p)
	}
	return out, nil
}

// busDuck is what a bus's duck depends on, nil where it has none.
func (r *Renderer) busDuck(song *session.Song, b *session.Bus) (*chain, error) {
	if b == nil || !b.Ducks() {
		return nil, nil
	}
	s, err := r.duckStep(song, b.Duck.Params.(*move.Duck))
	return &chain{Rate: song.Rate, BPM: song.BPM, Moves: []step{s}}, err
}

// contribution is one way in which a stem comes to the master or to a bus, its gains on the way
// added up. Bus faders are but gains, so a sum of buses is the sum of contributions.
type contribution struct {
	stem    *session.Stem
	at      place
	through []*session.Bus // that duck
}

// contributions lists how a stem comes to a bus, behind its duck ("" is the master, behind its fader).
func contributions(song *session.Song, st *session.Stem, bus string) []contribution {
	var out []contribution
	add := func(to string, at place) {
		var through []*session.Bus
		for _, b := range song.Path(to) {
			if b.Ducks() {
				through = append(through, b)
			}
			if b.ID == bus {
				out = append(out, contribution{st, at, through})
				return
			}
			if b.Mute {
				return
			}
			at.DB += b.Fader
		}
		if bus == "" {
			at.DB += song.Master.Fader
			out = append(out, contribution{st, at, through})
		}
	}
	if st.Mute {
		return nil
	}
	add(st.Bus, stemPlace(st))
	for _, e := range st.Sends {
		at := place{DB: e.Level}
		if !e.Pre {
			at = stemPlace(st)
			at.DB += e.Level
		}
		add(e.Bus, at)
	}
	return out
}

// RunningSum measures the master as groups of stems join it one after another, in order. The
// groups hold stems of the song.
func (r *Renderer) RunningSum(ctx context.Context, song *session.Song, groups [][]*session.Stem, w Window) ([]Level, error) {
	parts := make([][]contribution, len(groups))
	specs := make([][]partSpec, len(groups))
	for i, g := range groups {
		for _, st := range g {
			for _, by := range contributions(song, st, "") {
				c, err := r.chain(song, st, Window{}, by.through...)
				if err != nil {
					return nil, err
				}
				parts[i] = append(parts[i], by)
				specs[i] = append(specs[i], partSpec{Chain: &c, At: by.at})
			}
		}
	}
	return Cached(r.Cache, key("running sum", specs, w), func() ([]Level, int, error) {
		meters := make([]*levelMeter, len(groups))
		for i := range meters {
			meters[i] = newLevelMeter(song.Rate, 2, w.From)
		}
		var sums []audio.Buffer
		err := pieces(ctx, w, func(p Window) error {
			sums = sums[:0]
			var g errgroup.Group
			g.SetLimit(2)
			for i := range groups {
				sum := audio.New(song.Rate, 2, p.Frames())
				if i > 0 {
					for c := range sum.Ch {
						copy(sum.Ch[c], sums[i-1].Ch[c])
					}
				}
				sums = append(sums, sum)
				for _, by := range parts[i] {
					b, _, err := r.chained(song, by.stem, p, by.through...)
					if err != nil {
						return err
					}
					by.at.addTo(sum, b, false)
				}
				g.Go(func() error { meters[i].add(sum); return nil }) // beside the next sum
			}
			return g.Wait()
		})
		out := make([]Level, len(groups))
		for i, m := range meters {
			out[i] = m.level()
		}
		return out, 4000 * len(groups), err
	})
}

// Share is a stem's part in the peaks of a bus.
type Share struct {
	Stem  *session.Stem
	Share float64 // of the energy at the worst samples, 0 to 1
}

// Shares tells who causes the peaks of a bus ("" is the master) that were measured as l: the
// share of each stem's energy at the worst sample of each of the loudest stretches of 50 ms.
func (r *Renderer) Shares(ctx context.Context, song *session.Song, bus string, l Level) ([]Share, error) {
	worst := append([]int(nil), l.worst...)
	sort.Ints(worst)
	var out []Share
	total := 0.0
	for i := range song.Stems {
		st := &song.Stems[i]
		energy := 0.0
		for _, by := range contributions(song, st, bus) {
			e, err := r.energyAt(ctx, song, by, worst)
			if err != nil {
				return nil, err
			}
			energy += e
		}
		if energy > 0 {
			out = append(out, Share{st, energy})
			total += energy
		}
	}
	for i := range out {
		out[i].Share /= total
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Share > out[j].Share })
	return out, nil
}

// energyAt sums the energy of a contribution at some frames, which ascend.
func (r *Renderer) energyAt(ctx context.Context, song *session.Song, by contribution, at []int) (float64, error) {
	sum := 0.0
	for i := 0; i < len(at); {
		if err := ctx.Err(); err != nil {
			return 0, err
		}
		w := Window{at[i] - at[i]%peakWindow, at[i] - at[i]%peakWindow + peakWindow}
		b, _, err := r.chained(song, by.stem, w, by.through...)
		if err != nil {
			return 0, err
		}
		ll, rl, lr, rr := by.at.matrix(len(b.Ch))
		for ; i < len(at) && at[i] < w.To; i++ {
			k := at[i] - w.From
			a, c := b.Ch[0][k], b.Ch[len(b.Ch)-1][k]
			left, right := float64(a*ll+c*rl), float64(a*lr+c*rr)
			sum += left*left + right*right
		}
	}
	return sum, nil
}

// peakWindow is the number of frames rendered around a worst sample.
const peakWindow = 1 << 12

// BandLevels returns the mean square of some stems together, at the end of their own chains, in
// each of some bands, Hz: the level that frames of so many samples reach or pass in all but a
// share of the time in which the stems sound. Frames under a part of the loudest one's energy
// count as not sounding.
func (r *Renderer) BandLevels(ctx context.Context, song *session.Song, stems []*session.Stem, w Window, bands []meter.CriticalBand, frame int, share, silent float64) ([]float64, error) {
	parts := make([]partSpec, len(stems))
	for i, st := range stems {
		c, err := r.chain(song, st, Window{})
		if err != nil {
			return nil, err
		}
		parts[i] = partSpec{Chain: &c, At: stemPlace(st)}
	}
	return Cached(r.Cache, key("band levels", parts, w, bands, frame, share, silent), func() ([]float64, int, error) {
		s := newBandFrames(song.Rate, frame, bands)
		err := pieces(ctx, w, func(p Window) error {
			nodes := make([]node, len(stems))
			for i, st := range stems {
				b, k, err := r.chained(song, st, p)
				if err != nil {
					return err
				}
				nodes[i] = node{buf: b, key: k, at: stemPlace(st)}
			}
			n, err := r.sum(nodes, song.Rate, 1, p)
			if err == nil {
				s.add(n.buf)
			}
			return err
		})
		return s.levels(share, silent), 8 * len(bands), err
	})
}

// bandFrames takes the powers of frames in bands.
type bandFrames struct {
	fft    *fourier.FFT
	window []float64
	scale  float64
	edges  [][2]float64 // of the bands, in bins
	frames [][]float64
	total  []float64
}

func newBandFrames(rate, frame int, bands []meter.CriticalBand) *bandFrames {
	s := &bandFrames{fft: fourier.NewFFT(frame), window: make([]float64, frame)}
	power := 0.0
	for i := range s.window {
		s.window[i] = 0.5 - 0.5*math.Cos(2*math.Pi*(float64(i)+0.5)/float64(frame))
		power += s.window[i] * s.window[i]
	}
	s.scale = 2 / (float64(frame) * power)
	bin := float64(rate) / float64(frame)
	for _, b := range bands {
		s.edges = append(s.edges, [2]float64{b.Lo / bin, b.Hi / bin})
	}
	return s
}

// add takes the frames of a buffer, side by side; what is left at its end is not taken.
func (s *bandFrames) add(b audio.Buffer) {
	n := len(s.window)
	x := make([]float64, n)
	var c []complex128
	for at := 0; at+n <= b.Frames(); at += n {
		power := make([]float64, n/2+1)
		for _, ch := range b.Ch {
			for i, v := range ch[at : at+n] {
				x[i] = float64(v) * s.window[i]
			}
			c = s.fft.Coefficients(c, x)
			for k, v := range c {
				power[k] += (real(v)*real(v) + imag(v)*imag(v)) * s.scale / float64(len(b.Ch))
			}
		}
		total, bands := 0.0, make([]float64, len(s.edges))
		for i, e := range s.edges {
			for k := int(e[0] + 0.5); k <= int(e[1]+0.5) && k < len(power); k++ { // a bin reaches half a bin to each side
				in := min(e[1], float64(k)+0.5) - max(e[0], float64(k)-0.5)
				bands[i] += power[k] * max(0, in)
			}
			total += bands[i]
		}
		s.frames, s.total = append(s.frames, bands), append(s.total, total)
	}
}

func (s *bandFrames) levels(share, silent float64) []float64 {
	out := make([]float64, len(s.edges))
	loudest := 0.0
	for _, t := range s.total {
		loudest = max(loudest, t)
	}
	for i := range out {
		var values []float64
		for k, f := range s.frames {
			if s.total[k] > loudest*silent {
				values = append(values, f[i])
			}
		}
		if len(values) > 0 {
			sort.Float64s(values)
			out[i] = values[int(share*float64(len(values)-1)+0.5)]
		}
	}
	return out
}
