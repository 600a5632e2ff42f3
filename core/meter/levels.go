package meter

import (
	"math"
	"slices"

	"mellowthump/core/audio"
)

const (
	clipRun    = 3     // equal samples in a row that count as clipped
	clipWithin = 0.1   // dB under the file's own peak
	clipOver   = -1.0  // dBFS: over it equal samples are tops that were cut off
	flatOver   = -40.0 // dBFS: under that one is not looked for
	flatStep   = 0.004 // of the level: where a sound stops rising as suddenly as that it was cut off, and turned down since
	flatLeast  = 5     // such tops in a file: fewer are a shape
)

// aes17 is what the AES17 reading of RMS adds: there a full-scale sine reads 0 dBFS.
const aes17 = 3.0103

// Levels are the level figures of a stretch of sound. All are None for silence.
type Levels struct {
	SamplePeak   Figure `json:"sample_peak_dbfs"`
	TruePeak     Figure `json:"true_peak_dbtp"`
	RMS          Figure `json:"rms_dbfs"` // plain: a full-scale sine reads -3.01
	Crest        Figure `json:"crest_db"`
	Integrated   Figure `json:"loudness_integrated_lufs"`
	MomentaryMax Figure `json:"loudness_momentary_max_lufs"`
	ShortMax     Figure `json:"loudness_short_max_lufs"`
	Range        Figure `json:"loudness_range_lu"`
	DC           Figure `json:"dc_offset"` // of the channel with more of it, full scale 1
	ClippedRuns  int    `json:"clipped_runs"`
	Correlation  Figure `json:"correlation"` // None for mono
}

// AES17 returns the RMS by the AES17 convention, 3.01 dB over the plain one.
func (l Levels) AES17() Figure { return l.RMS + aes17 }

// LevelMeter measures Levels in one streaming pass.
type LevelMeter struct {
	loudness *Loudness
	truePeak *TruePeak
	channels []channelSums
	frames   int64
	peak     float32
	clips    []clip // runs that may prove to be clipped
	overTime correlationTrack
}

type clip struct {
	level float32
	frame int64
	cut   bool // the sound was still rising where it begins
}

// correlationTrack follows the correlation in steps of 400 ms.
type correlationTrack struct {
	step, count int
	now, all    pairSums // of the step being filled, of all that was added
	values      []Figure
}

// pairSums are the sums over two channels that several figures are made of.
type pairSums struct{ l, r, ll, rr, lr float64 }

func (p *pairSums) add(q pairSums) {
	p.l, p.r, p.ll, p.rr, p.lr = p.l+q.l, p.r+q.r, p.ll+q.ll, p.rr+q.rr, p.lr+q.lr
}

func sumPair(x, y []float32) (p pairSums) {
	y = y[:len(x)]
	for i, v := range x {
		l, r := float64(v), float64(y[i])
		p.l += l
		p.r += r
		p.ll += l * l
		p.rr += r * r
		p.lr += l * r
	}
	return p
}

func (t *correlationTrack) add(l, r []float32) {
	for i := 0; i < len(l); {
		end := min(len(l), i+t.step-t.count)
		p := sumPair(l[i:end], r[i:end])
		t.now.add(p)
		t.all.add(p)
		if t.count += end - i; t.count == t.step {
			t.values = append(t.values, t.now.correlation())
			t.count, t.now = 0, pairSums{}
		}
		i = end
	}
}

func (p pairSums) correlation() Figure {
	if d := math.Sqrt(p.ll * p.rr); d > 0 {
		return Figure(max(-1, min(1, p.lr/d)))
	}
	return None
}

type channelSums struct {
	sum, square float64
	last        float32
	before      float32 // the sample before the run
	run         int
}

// NewLevelMeter returns a meter for sound of that rate and number of channels.
func NewLevelMeter(rate, channels int) *LevelMeter {
	return &LevelMeter{
		loudness: NewLoudness(rate, channels),
		truePeak: NewTruePeak(channels),
		channels: make([]channelSums, channels),
		overTime: correlationTrack{step: max(1, rate*2/5)},
	}
}

// clipped are the runs that were cut off: all near full scale, under it those that the sound was rising into, where there are several.
func (m *LevelMeter) clipped() []clip {
	if m.peak > clipFloor {
		return slices.DeleteFunc(slices.Clone(m.clips), func(c clip) bool { return c.level <= clipFloor })
	}
	out := slices.DeleteFunc(slices.Clone(m.clips), func(c clip) bool { return !c.cut })
	if len(out) < flatLeast {
		return nil
	}
	return out
}

// ClippedAt returns the frames at which the clipped runs begin.
func (m *LevelMeter) ClippedAt() []int64 {
	clips := m.clipped()
	at := make([]int64, len(clips))
	for i, c := range clips {
		at[i] = c.frame
	}
	return at
}

// SideShare returns the share of the energy that lies between the channels: 0 where they are
// equal or there is but one, 1 where one is the other upside down.
func (m *LevelMeter) SideShare() float64 {
	lr, both := m.overTime.all.lr, m.overTime.all.ll+m.overTime.all.rr
	if both == 0 {
		return 0
	}
	return max(0, both-2*lr) / (2 * both)
}

// CorrelationOverTime returns the correlation of the channels in steps of 400 ms; None where
// one of them is silent, nil for mono.
func (m *LevelMeter) CorrelationOverTime() []Figure { return m.overTime.values }

// Add measures the next block.
func (m *LevelMeter) Add(b audio.Buffer) {
	m.loudness.Add(b)
	for c := range m.channels {
		s := &m.channels[c]
		x := b.Ch[c]
		m.runs(s, x, m.truePeak.add(c, x))
		if len(b.Ch) != 2 {
			s.sum += sum(x)
			s.square += Energy(x)
		}
	}
	m.frames += int64(b.Frames())
	if len(b.Ch) == 2 {
		m.overTime.add(b.Ch[0], b.Ch[1])
		all := m.overTime.all
		m.channels[0].sum, m.channels[0].square = all.l, all.ll
		m.channels[1].sum, m.channels[1].square = all.r, all.rr
	}
}

// clipFloor is the level over which a run of equal samples is clipping, flatFloor that under which none is looked for.
var clipFloor, flatFloor = float32(math.Pow(10, clipOver/20)), float32(math.Pow(10, flatOver/20))

// clipBelow is how far under the file's peak one may lie.
var clipBelow = float32(math.Pow(10, -clipWithin/20))

// runs looks for runs of equal samples in a block of that peak or less.
func (m *LevelMeter) runs(s *channelSums, x []float32, peak float32) {
	if peak > m.peak {
		m.raise(peak)
	}
	floor := max(flatFloor, m.peak*clipBelow)
	if peak <= floor || len(x) == 0 { // none here, and none that goes on from before
		if len(x) > 0 {
			s.before, s.run, s.last = 0, 1, x[len(x)-1]
		}
		return
	}
	for i, v := range x {
		a := max(v, -v)
		if v != s.last || a <= floor {
			s.before, s.run, s.last = s.last, 1, v
			continue
		}
		if s.run++; s.run == clipRun {
			rose := v - s.before // toward it, from the same side: what jumps to a level is a square wave
			cut := s.before*v > 0 && max(rose, -rose) > flatStep*a
			m.clips = append(m.clips, clip{a, m.frames + int64(i) - clipRun + 1, cut})
		}
	}
}

func sum(x []float32) float64 {
	var s, t float64
	i := 0
	for ; i+1 < len(x); i += 2 {
		s += float64(x[i])
		t += float64(x[i+1])
	}
	if i < len(x) {
		s += float64(x[i])
	}
	return s + t
}

// raise notes a new peak; runs that now lie too far under it are no clipping.
func (m *LevelMeter) raise(a float32) {
	m.peak = a
	kept := m.clips[:0]
	for _, v := range m.clips {
		if v.level >= a*clipBelow {
			kept = append(kept, v)
		}
	}
	m.clips = kept
}

// Levels returns the figures of all that was added.
func (m *LevelMeter) Levels() Levels {
	l := Levels{
		SamplePeak: level(float64(m.peak)), TruePeak: m.truePeak.Peak(),
		Integrated: m.loudness.Integrated(), MomentaryMax: m.loudness.MomentaryMax(),
		ShortMax: m.loudness.ShortMax(), Range: m.loudness.Range(),
		ClippedRuns: len(m.clipped()), RMS: None, Crest: None, DC: None, Correlation: None,
	}
	if m.frames == 0 || m.peak == 0 {
		return l
	}
	n := float64(m.frames)
	square, dc := 0.0, 0.0
	for _, s := range m.channels {
		square += s.square
		if d := s.sum / n; math.Abs(d) > math.Abs(dc) {
			dc = d
		}
	}
	l.RMS = level(math.Sqrt(square / n / float64(len(m.channels))))
	l.Crest = l.SamplePeak - l.RMS
	l.DC = Figure(dc)
	if len(m.channels) == 2 {
		l.Correlation = m.overTime.all.correlation()
	}
	return l
}

// PeakDB returns the sample peak of a buffer in dBFS; None for silence.
func PeakDB(chs ...[]float32) Figure {
	var m float32
	for _, x := range chs {
		m = max(m, peakOf(x))
	}
	return level(float64(m))
}
