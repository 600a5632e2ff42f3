package mix

import (
	"context"
	"sort"

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

	channels int
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
	loud     *meter.Loudness
	channels int
	step     int
	peaks    []spot // of every stretch
	at       int
}

type spot struct {
	peak float32
	at   int
}

func newLevelMeter(rate, channels, from int) *levelMeter {
	return &levelMeter{loud: meter.NewLoudness(rate, channels), channels: channels, step: max(1, int(peakStep*float64(rate))), at: from}
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
	l := Level{Peak: meter.None, loud: m.loud, channels: m.channels}
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

// pieces calls f for the pieces of a window, in order. The pieces of a pass over the whole song are kept apart from
// what the loop is made of.
func pieces(ctx context.Context, rate int, w Window, f func(context.Context, Window) error) error {
	tell := func(float64) {}
	if w.Frames() > longWindow*rate {
		tell = following(ctx)
		ctx = context.WithValue(ctx, longPass{}, true)
	}
	for from := w.From; from < w.To; from += piece {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := f(ctx, Window{from, min(from+piece, w.To)}); err != nil {
			return err
		}
		tell(float64(min(from+piece, w.To)-w.From) / float64(w.Frames()))
	}
	return nil
}

// each gives a window of a sum to f, piece by piece. Where the chains remember so much that a piece would be mostly
// memory, it is printed in one pass.
func (r *Renderer) each(ctx context.Context, ins []input, rate int, w Window, channels int, f func(audio.Buffer) error) error {
	if w.Frames() > piece {
		for _, in := range ins {
			if in.node.remembers() > piece/2 {
				n := (&node{name: "the sum", rate: rate, inputs: ins}).seal()
				return r.print(ctx, []input{{n, place{}}}, rate, w, channels, func(b []audio.Buffer) error { return f(b[0]) })
			}
		}
	}
	return pieces(ctx, rate, w, func(ctx context.Context, p Window) error {
		s, err := r.sum(ctx, ins, rate, p, channels)
		if err != nil {
			return err
		}
		return f(s.buf)
	})
}

// remembers is the most frames of the past on which a node and what goes into it depend, well within the song.
func (n *node) remembers() int {
	const within = 1 << 30
	most := 0
	for _, in := range n.inputs {
		most = max(most, in.node.remembers())
	}
	for _, s := range n.steps {
		if s.listens != nil {
			most = max(most, s.listens.params.Listens(move.Place{Rate: n.rate, BPM: n.bpm, Start: within}))
		}
	}
	own := 0
	for _, s := range n.steps {
		if len(s.Hits) == 0 { // what goes by hits remembers from one to the next
			own += s.Params.Memory(n.place(s, 0))
		}
	}
	return most + own
}

// measured measures a sum over a window.
func (r *Renderer) measured(ctx context.Context, ins []input, rate int, w Window, channels int) (Level, error) {
	ids, places := make([]string, len(ins)), make([]place, len(ins))
	for i, in := range ins {
		ids[i], places[i] = in.node.id, in.at
	}
	return Cached(ctx, r.Cache, key("level", ids, places, channels, w), func() (Level, int, error) {
		var m *levelMeter
		err := r.each(ctx, ins, rate, w, channels, func(b audio.Buffer) error {
			if m == nil {
				m = newLevelMeter(rate, len(b.Ch), w.From)
			}
			m.add(b)
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
	n, err := r.graph(song).stem(st)
	if err != nil {
		return StemLevels{}, err
	}
	Doing(ctx, "Measuring "+st.Name)
	out := StemLevels{Steps: map[session.Step]Level{}}
	file := (&node{name: st.Name, rate: n.rate, audio: n.audio}).seal()
	if out.File, err = r.measured(ctx, []input{{file, place{}}}, song.Rate, w, 1); err != nil {
		return out, err
	}
	out.Steps[session.SourceStep] = out.File.Turned(st.Source)
	clip := out.File.Turned(st.Source + st.Clip)
	out.Steps[session.ClipStep] = clip
	at := stemPlace(st)
	switch {
	case len(n.steps) == 0 && at.simple():
		out.Steps[session.TrackStep] = clip.Turned(st.Fader)
		return out, nil
	case at.simple(): // the fader turns what comes out of the moves
		at.DB = 0
	}
	track, err := r.measured(ctx, []input{{n, at}}, song.Rate, w, 1)
	if at.simple() {
		track = track.Turned(st.Fader)
	}
	out.Steps[session.TrackStep] = track
	return out, err
}

// GroupLevel measures what goes to a bus over a window, behind the bus's moves and before its fader; "" is
// the master, which is measured in stereo.
func (r *Renderer) GroupLevel(ctx context.Context, song *session.Song, bus string, w Window) (Level, error) {
	channels := 1
	if bus == "" {
		channels = 2
	}
	n, err := r.graph(song).into(bus, cut{})
	if err != nil {
		return Level{}, err
	}
	return r.measured(ctx, []input{{n, place{}}}, song.Rate, w, channels)
}

// TogetherLevel measures the sum of some stems at the end of their own chains.
func (r *Renderer) TogetherLevel(ctx context.Context, song *session.Song, stems []*session.Stem, w Window) (Level, error) {
	ins, err := r.together(song, stems)
	if err != nil {
		return Level{}, err
	}
	return r.measured(ctx, ins, song.Rate, w, 1)
}

// together lists some stems at the end of their own chains.
func (r *Renderer) together(song *session.Song, stems []*session.Stem) ([]input, error) {
	g := r.graph(song)
	ins := make([]input, len(stems))
	for i, st := range stems {
		n, err := g.stem(st)
		if err != nil {
			return nil, err
		}
		ins[i] = input{n, stemPlace(st)}
	}
	return ins, nil
}
