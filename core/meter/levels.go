package meter

import (
	"math"

	"mellowthump/core/audio"
)

const (
	clipRun    = 3    // equal samples in a row that count as clipped
	clipWithin = 0.1  // dB under the file's own peak
	clipOver   = -1.0 // dBFS
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
}

// correlationTrack follows the correlation in steps of 400 ms.
type correlationTrack struct {
	step, count int
	lr, ll, rr  float64
	total       float64 // sum L R of all that was added
	values      []Figure
}

func (t *correlationTrack) add(l, r []float32) {
	for i := 0; i < len(l); {
		end := min(len(l), i+t.step-t.count)
		a, b := l[i:end], r[i:end]
		var s, u float64 // two sums that do not wait for each other
		k := 0
		for ; k+1 < len(a); k += 2 {
			s += float64(a[k]) * float64(b[k])
			u += float64(a[k+1]) * float64(b[k+1])
		}
		if k < len(a) {
			s += float64(a[k]) * float64(b[k])
		}
		t.lr, t.total = t.lr+s+u, t.total+s+u
		t.ll, t.rr = t.ll+energy(a), t.rr+energy(b)
		if t.count += end - i; t.count == t.step {
			t.values = append(t.values, t.value())
			t.count, t.lr, t.ll, t.rr = 0, 0, 0, 0
		}
		i = end
	}
}

func (t *correlationTrack) value() Figure {
	if d := math.Sqrt(t.ll * t.rr); d > 0 {
		return Figure(max(-1, min(1, t.lr/d)))
	}
	return None
}

type channelSums struct {
	sum, square float64
	last        float32
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

// ClippedAt returns the frames at which the clipped runs begin.
func (m *LevelMeter) ClippedAt() []int64 {
	at := make([]int64, len(m.clips))
	for i, c := range m.clips {
		at[i] = c.frame
	}
	return at
}

// CorrelationOverTime returns the correlation of the channels in steps of 400 ms; None where
// one of them is silent, nil for mono.
func (m *LevelMeter) CorrelationOverTime() []Figure { return m.overTime.values }

// Add measures the next block.
func (m *LevelMeter) Add(b audio.Buffer) {
	m.loudness.Add(b)
	m.truePeak.Add(b)
	for c := range m.channels {
		s := &m.channels[c]
		x := b.Ch[c]
		s.sum += sum(x)
		s.square += energy(x)
		m.runs(s, x, peakOf(x))
	}
	m.frames += int64(b.Frames())
	if len(b.Ch) == 2 {
		m.overTime.add(b.Ch[0], b.Ch[1])
	}
}

// clipFloor is the level under which a run of equal samples is no clipping.
var clipFloor = float32(math.Pow(10, clipOver/20))

// clipBelow is how far under the file's peak one may lie.
var clipBelow = float32(math.Pow(10, -clipWithin/20))

// runs looks for runs of equal samples in a block of that peak.
func (m *LevelMeter) runs(s *channelSums, x []float32, peak float32) {
	if peak > m.peak {
		m.raise(peak)
	}
	if peak <= clipFloor || len(x) == 0 { // none here, and none that goes on from before
		if len(x) > 0 {
			s.run, s.last = 1, x[len(x)-1]
		}
		return
	}
	for i, v := range x {
		a := max(v, -v)
		if v != s.last || a <= clipFloor {
			s.run, s.last = 1, v
			continue
		}
		if s.run++; s.run == clipRun && a >= m.peak*clipBelow {
			m.clips = append(m.clips, clip{a, m.frames + int64(i) - clipRun + 1})
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
		ClippedRuns: len(m.clips), RMS: None, Crest: None, DC: None, Correlation: None,
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
		if d := math.Sqrt(m.channels[0].square * m.channels[1].square); d > 0 {
			l.Correlation = Figure(m.overTime.total / d)
		}
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
