package meter

import (
	"errors"
	"fmt"
	"math"

	"mellowthump/core/dsp"
)

// The constants of "Kick against bass" in the design, 3-sound: our own definitions.
const (
	smoothTau    = 0.005 // s, of sm()
	wideLow      = 20.0  // Hz, BP(20,150)
	wideHigh     = 150.0
	windowFall   = 0.01 // of the peak: where the kick's window ends
	windowLook   = 0.5  // s in which that is looked for
	windowLeast  = 0.04 // s
	windowMost   = 0.2  // s
	handoverStay = 0.02 // s for which the bass must stay over the kick
	clearanceMax = 60.0 // dB, clamp
	powerFloor   = 1e-12
)

// Hit holds the figures of one kick hit against the bass.
type Hit struct {
	At        float64 `json:"at_s"`
	Clearance Figure  `json:"clearance_db"`  // kick over bass in the kick's home octave
	Overlap   Figure  `json:"overlap_pct"`   // share of the kick's low end that the bass covers
	Handover  Figure  `json:"handover_ms"`   // when the bass takes over; None where it never does
	PhaseSum  Figure  `json:"phase_sum_db"`  // +3.01 adds fully, 0 unrelated, negative cancels
	PeakCost  Figure  `json:"peak_cost_db"`  // peak of the pair over the larger of the two
	Window    float64 `json:"window_ms"`     // length judged
	Gap       float64 `json:"gap_to_next_s"` // to the next hit or the end
}

// HitFigures are the figures of all hits of a stretch.
type HitFigures struct {
	Hits            []Hit  `json:"hits"`
	ClearanceMedian Figure `json:"clearance_median_db"`
	ClearanceP10    Figure `json:"clearance_p10_db"` // worst tenth
	OverlapMedian   Figure `json:"overlap_median_pct"`
	OverlapP90      Figure `json:"overlap_p90_pct"` // worst tenth
	HandoverMedian  Figure `json:"handover_median_ms"`
	PhaseSumMedian  Figure `json:"phase_sum_median_db"`
	PhaseSumP10     Figure `json:"phase_sum_p10_db"`
	PeakCostMedian  Figure `json:"peak_cost_median_db"`
	PeakCostP90     Figure `json:"peak_cost_p90_db"`
	SumPeak         Figure `json:"sum_peak_dbfs"` // of kick and bass together

	// Low is the energy of the bass in 20-150 Hz over the range that is judged.
	Low float64 `json:"-"`

	// Bass is the smoothed amplitude of the bass in 20-150 Hz, one value each EnvelopeStep.
	Bass []float32 `json:"-"`
}

// EnvelopeStep is the spacing of the envelopes kept for pictures, in seconds.
const EnvelopeStep = 0.001

// Under returns how many hits have less clearance than the target.
func (f HitFigures) Under(target float64) int {
	n := 0
	for _, h := range f.Hits {
		if h.Clearance.Valid() && float64(h.Clearance) < target {
			n++
		}
	}
	return n
}

// HitMeter measures basses against one kick: what depends on the kick alone is done once.
type HitMeter struct {
	Rate    int
	HomeHz  float64   // the kick's settled fundamental
	Range   Range     // the part of the signal that is judged
	Offset  int       // frames from the song's start to the signal's
	Hits    []int     // frames in the signal
	Open    bool      // no hit follows the last one: its gap ends with the sound
	Gaps    []int     // frames from each hit to the next, or to the end
	Windows []int     // frames judged at each hit
	Home    []float64 // energy of BP_home k in each window
	Kick    []float32 // smoothed amplitude in 20-150 Hz, one value each EnvelopeStep

	kick       Sound
	ends       []int     // of the parts in which it is judged
	wide       []float32 // BP(20,150)k, and smoothed; of a short kick alone
	smooth     []float32
	wideEnergy []float64 // sum sm BP(20,150)k in each window
	wideTop    []int     // frame of its peak after the hit
	home, band []dsp.Biquad
}

// Range is a part of a signal in frames. What stands before it lets filters settle; what
// stands after it ends the last hit.
type Range struct {
	From, To int
	End      int // where the files end, and with them the last hit; 0: with the signal
}

// ErrNoHits is returned where a kick has no hits to measure at.
var ErrNoHits = errors.New("the kick has no hits")

// HomeBand returns the octave around a kick's settled fundamental, Hz.
func HomeBand(hz float64) (lo, hi float64) { return hz / math.Sqrt2, hz * math.Sqrt2 }

// GapMS is the time from a hit to the next, or to where the files end, ms.
func (m *HitMeter) GapMS(hit int) float64 { return 1000 * float64(m.Gaps[hit]) / float64(m.Rate) }

// NewHitMeter prepares for a kick (mono, at rate) with hits at those frames. Hits outside
// the range are not judged, but end the gap of the hit before them. homeHz is the kick's
// settled fundamental. The kick is kept and must not be changed.
func NewHitMeter(kick []float32, rate int, hits []int, homeHz float64, in Range) (*HitMeter, error) {
	return NewHitMeterOf(Held(kick), rate, hits, homeHz, in)
}

// NewHitMeterOf is NewHitMeter for a kick of any length, in memory that does not grow with it. Further errors are those
// of reading it. In a kick of more than a minute and a half, what comes later than a minute after a hit is not the hit's.
func NewHitMeterOf(kick Sound, rate int, hits []int, homeHz float64, in Range) (*HitMeter, error) {
	fs := float64(rate)
	in.To = min(in.To, kick.Frames())
	m := &HitMeter{Rate: rate, HomeHz: homeHz, Range: in, kick: kick}
	end := kick.Frames()
	if in.End > 0 {
		end = min(end, in.End)
	}
	m.Open = true
	for _, h := range hits {
		if h >= in.From && h < in.To-int(windowLeast*fs/2) {
			m.Hits = append(m.Hits, h)
		} else if h >= in.To {
			end, m.Open = min(end, h), false
		}
	}
	if len(m.Hits) == 0 {
		return nil, ErrNoHits
	}
	for i, h := range m.Hits {
		next := end
		if i+1 < len(m.Hits) {
			next = m.Hits[i+1]
		}
		m.Gaps = append(m.Gaps, next-h)
	}
	m.ends = partEnds(kick.Frames(), rate, m.Hits)
	lo, hi := HomeBand(homeHz)
	var err error
	if m.home, err = dsp.Bandpass(lo, hi, fs); err != nil {
		return nil, fmt.Errorf("the kick's home band: %w", err)
	}
	if m.band, err = dsp.Bandpass(wideLow, wideHigh, fs); err != nil {
		return nil, err
	}
	return m, m.meet()
}

// meet works out what depends on the kick alone.
func (m *HitMeter) meet() error {
	fs := float64(m.Rate)
	homeFilter, homeSmoother, low := dsp.NewFilter(m.home), dsp.NewSmoother(smoothTau, fs), m.newLow()
	var home, homeSmooth scratch
	return Together(m.ends, func(k int, x [][]float32) error {
		kick, at := x[0], m.from(k)
		home, homeSmooth := home.of(len(kick)), homeSmooth.of(len(kick))
		homeFilter.Process(home, kick)
		homeSmoother.Process(homeSmooth, home)
		wide, smooth := low.next(kick)
		m.Kick = envelope(m.Kick, smooth, m.Rate, at, m.kick.Frames())
		for i := len(m.Home); i < len(m.Hits) && m.Hits[i] < m.ends[k]; i++ {
			h := m.Hits[i] - at
			gap := min(m.Gaps[i], len(kick)-h)
			w := kickWindow(homeSmooth[h:], gap, fs)
			m.Windows = append(m.Windows, w)
			m.Home = append(m.Home, Energy(home[h:h+w]))
			top, sum := h, 0.0
			for n := h; n < h+gap; n++ {
				if smooth[n] > smooth[top] {
					top = n
				}
				if n < h+w {
					sum += float64(smooth[n])
				}
			}
			m.wideTop = append(m.wideTop, top+at)
			m.wideEnergy = append(m.wideEnergy, sum)
		}
		if len(m.ends) == 1 {
			m.wide, m.smooth = wide, smooth
		}
		return nil
	}, m.kick)
}

// from is where a part begins.
func (m *HitMeter) from(part int) int {
	if part == 0 {
		return 0
	}
	return m.ends[part-1]
}

// kickWindow returns the length in frames of the window that starts where sm does.
func kickWindow(sm []float32, gap int, fs float64) int {
	look := min(gap, int(windowLook*fs), len(sm))
	top := 0
	for n := range look {
		if sm[n] > sm[top] {
			top = n
		}
	}
	end := look
	for n := top; n < look; n++ {
		if float64(sm[n]) <= windowFall*float64(sm[top]) {
			end = n
			break
		}
	}
	return min(max(end, int(windowLeast*fs)), int(windowMost*fs), gap, len(sm))
}

// Measure judges a bass (mono, same rate, aligned) at every hit. Where the bass is shorter
// than the kick, the rest is silence. It is for a kick in memory; see MeasureOf.
func (m *HitMeter) Measure(bass []float32) HitFigures {
	f, _ := m.MeasureOf(Held(bass)) // what is in memory is read without an error
	return f
}

// MeasureOf is Measure for a kick and a bass of any length; the error is that of reading them.
func (m *HitMeter) MeasureOf(bass Sound) (HitFigures, error) {
	homeFilter, wideFilter := dsp.NewFilter(m.home), dsp.NewFilter(m.band)
	smoother, kickLow := dsp.NewSmoother(smoothTau, float64(m.Rate)), m.newLow()
	var home, wide, smooth scratch
	var f HitFigures
	var peak float64
	err := Together(m.ends, func(k int, x [][]float32) error {
		p := hitPart{m: m, at: m.from(k), kick: x[0], bass: x[1], wide: m.wide, smooth: m.smooth}
		n := len(p.bass)
		p.bassHome, p.bassWide, p.bassSmooth = home.of(n), wide.of(n), smooth.of(n)
		dsp.Process2(homeFilter, p.bassHome, p.bass, wideFilter, p.bassWide, p.bass)
		smoother.Process(p.bassSmooth, p.bassWide)
		if m.wide == nil {
			p.wide, p.smooth = kickLow.next(p.kick)
		}
		f.Bass = envelope(f.Bass, p.bassSmooth, m.Rate, p.at, m.kick.Frames())
		from, to := max(m.Range.From, p.at)-p.at, min(m.Range.To, p.at+n)-p.at
		if from < to {
			f.Low += Energy(p.bassWide[from:to])
			peak = max(peak, pairPeak(p.kick[from:to], p.bass[from:to]))
		}
		for i := len(f.Hits); i < len(m.Hits) && m.Hits[i] < m.ends[k]; i++ {
			f.Hits = append(f.Hits, p.judge(i))
		}
		return nil
	}, m.kick, Filled(bass, m.kick.Frames()))
	f.SumPeak = level(peak)
	f.summarise()
	return f, err
}

// hitPart is a part of kick and bass, with what is judged of them.
type hitPart struct {
	m                              *HitMeter
	at                             int // frame of its first
	kick, wide, smooth             []float32
	bass                           []float32
	bassHome, bassWide, bassSmooth []float32
}

// judge judges the bass at a hit.
func (p *hitPart) judge(i int) Hit {
	m, fs := p.m, float64(p.m.Rate)
	h, w := m.Hits[i]-p.at, m.Windows[i]
	hit := Hit{At: float64(m.Hits[i]+m.Offset) / fs, Window: 1000 * float64(w) / fs, Gap: float64(m.Gaps[i]) / fs}
	hit.Clearance = Clearance(m.Home[i], Energy(p.bassHome[h:h+w]))
	both := 0.0
	for n := h; n < h+w; n++ {
		both += float64(min(p.smooth[n], p.bassSmooth[n]))
	}
	hit.Overlap, hit.PhaseSum, hit.PeakCost = None, None, None
	if m.wideEnergy[i] > 0 {
		hit.Overlap = Figure(100 * both / m.wideEnergy[i])
	}
	hit.PhaseSum = phaseSum(p.wide[h:h+w], p.bassWide[h:h+w])
	if alone := max(peakOf(p.kick[h:h+w]), peakOf(p.bass[h:h+w])); alone > 0 {
		hit.PeakCost = level(pairPeak(p.kick[h:h+w], p.bass[h:h+w])) - level(float64(alone))
	}
	hit.Handover = p.handover(i)
	return hit
}

// Clearances judges the clearance alone, in hit order.
func (m *HitMeter) Clearances(bass Sound) ([]Figure, error) {
	out := make([]Figure, 0, len(m.Hits))
	filter := dsp.NewFilter(m.home)
	var room scratch
	err := Together(m.ends, func(k int, x [][]float32) error {
		home, at := room.of(len(x[0])), m.from(k)
		filter.Process(home, x[0])
		for i := len(out); i < len(m.Hits) && m.Hits[i] < m.ends[k]; i++ {
			out = append(out, Clearance(m.Home[i], Energy(home[m.Hits[i]-at:m.Hits[i]-at+m.Windows[i]])))
		}
		return nil
	}, Filled(bass, m.kick.Frames()))
	return out, err
}

// AtHits gives a bass at each hit: from some frames before it to the end of its window, and in the home band from the hit
// on. What f is given is its own.
func (m *HitMeter) AtHits(bass Sound, before int, f func(hit int, x, home []float32)) error {
	filter := dsp.NewFilter(m.home)
	var room scratch
	tail := make([]float32, before) // of the part before
	i := 0
	return Together(m.ends, func(k int, parts [][]float32) error {
		x, at := parts[0], m.from(k)
		home := room.of(len(x))
		filter.Process(home, x)
		for ; i < len(m.Hits) && m.Hits[i] < m.ends[k]; i++ {
			h, w := m.Hits[i]-at, m.Windows[i]
			own := make([]float32, before+w)
			copy(own[max(0, before-h):], x[max(0, h-before):h+w])
			if early := before - h; early > 0 {
				copy(own[:early], tail[before-early:])
			}
			f(i, own, append([]float32(nil), home[h:h+w]...))
		}
		if n := len(x); n >= before {
			copy(tail, x[n-before:])
		} else {
			copy(tail, tail[n:])
			copy(tail[before-n:], x)
		}
		return nil
	}, Filled(bass, m.kick.Frames()))
}

func (f *HitFigures) summarise() {
	pick := func(of func(Hit) Figure) []Figure {
		x := make([]Figure, len(f.Hits))
		for i, h := range f.Hits {
			x[i] = of(h)
		}
		return x
	}
	c := pick(func(h Hit) Figure { return h.Clearance })
	o := pick(func(h Hit) Figure { return h.Overlap })
	p := pick(func(h Hit) Figure { return h.PhaseSum })
	k := pick(func(h Hit) Figure { return h.PeakCost })
	f.ClearanceMedian, f.ClearanceP10 = Median(c), Percentile(c, 0.1)
	f.OverlapMedian, f.OverlapP90 = Median(o), Percentile(o, 0.9)
	f.HandoverMedian = Median(pick(func(h Hit) Figure { return h.Handover }))
	f.PhaseSumMedian, f.PhaseSumP10 = Median(p), Percentile(p, 0.1)
	f.PeakCostMedian, f.PeakCostP90 = Median(k), Percentile(k, 0.9)
}

// handover returns the first time after the kick's peak at which the bass is at least the
// kick and stays so; 0 where that is already so at the peak (the kick never leads); None
// where it does not come before the next hit.
func (p *hitPart) handover(i int) Figure {
	m := p.m
	h, top := m.Hits[i]-p.at, m.wideTop[i]-p.at
	stay := int(handoverStay * float64(m.Rate))
	run := 0
	for n := top; n < min(h+m.Gaps[i], len(p.bass)); n++ {
		if p.bassSmooth[n] < p.smooth[n] || p.bassSmooth[n] < powerFloor {
			run = 0
			continue
		}
		if run++; run == stay {
			if start := n - stay + 1; start > top {
				return Figure(1000 * float64(start-h) / float64(m.Rate))
			}
			return 0
		}
	}
	return None
}

// Clearance returns the clearance in dB of two energies, clamped to +-60; None of nothing.
func Clearance(kick, bass float64) Figure {
	switch {
	case kick <= 0 && bass <= 0:
		return None
	case bass <= 0:
		return clearanceMax
	case kick <= 0:
		return -clearanceMax
	}
	return Figure(max(-clearanceMax, min(clearanceMax, dsp.PowerDB(kick/bass))))
}

func phaseSum(k, b []float32) Figure {
	sum, apart := 0.0, 0.0
	for i := range k {
		x, y := float64(k[i]), float64(b[i])
		sum += (x + y) * (x + y)
		apart += x*x + y*y
	}
	if apart <= 0 {
		return None
	}
	return Figure(max(-clearanceMax, dsp.PowerDB(sum/apart)))
}

func pairPeak(k, b []float32) float64 {
	var m uint32
	b = b[:len(k)]
	for i, v := range k {
		m = max(m, math.Float32bits(v+b[i])&^signBit)
	}
	return float64(math.Float32frombits(m))
}

// Energy returns the sum of squares.
func Energy(x []float32) float64 {
	var s, t float64 // two sums that do not wait for each other
	i := 0
	for ; i+1 < len(x); i += 2 {
		s += float64(x[i]) * float64(x[i])
		t += float64(x[i+1]) * float64(x[i+1])
	}
	if i < len(x) {
		s += float64(x[i]) * float64(x[i])
	}
	return s + t
}

func filtered(x []float32, sections []dsp.Biquad) []float32 {
	y := make([]float32, len(x))
	dsp.NewFilter(sections).Process(y, x)
	return y
}

// LowEnergy returns the energy of a bass in 20-150 Hz over the range that is judged.
func (m *HitMeter) LowEnergy(bass Sound) (float64, error) {
	filter := dsp.NewFilter(m.band)
	var room scratch
	at, sum := 0, 0.0
	err := bass.Read(func(x []float32) error {
		wide := room.of(len(x))
		filter.Process(wide, x)
		if from, to := max(m.Range.From-at, 0), min(m.Range.To-at, len(x)); from < to {
			sum += Energy(wide[from:to])
		}
		at += len(x)
		return nil
	})
	return sum, err
}

// WideBand returns the filter BP(20,150) for a rate in Hz.
func WideBand(fs float64) ([]dsp.Biquad, error) { return dsp.Bandpass(wideLow, wideHigh, fs) }

// envelope adds to out the root of a smoothed power each EnvelopeStep, of a part that begins at a frame of a sound of so
// many frames.
func envelope(out, smooth []float32, rate, at, frames int) []float32 {
	step := EnvelopeStep * float64(rate)
	all := int(float64(frames) / step)
	for k := len(out); k < all; k++ {
		n := int(float64(k)*step) - at
		if n >= len(smooth) {
			break
		}
		out = append(out, float32(math.Sqrt(float64(smooth[n]))))
	}
	return out
}

// lowPairRate is about the least rate in Hz at which phases up to 150 Hz are compared.
const lowPairRate = 8000

// LowPair returns kick and bass in 20-150 Hz at a lowered rate, and that rate in Hz, for asking
// what moving one against the other would do.
func (m *HitMeter) LowPair(bass Sound) (kick, low []float32, rate float64, err error) {
	factor := max(1, m.Rate/lowPairRate)
	lowered := func(s Sound) (out []float32, err error) {
		filter := dsp.NewFilter(m.band)
		var room scratch
		skip := 0
		err = s.Read(func(x []float32) error {
			wide := room.of(len(x))
			filter.Process(wide, x)
			for ; skip < len(x); skip += factor {
				out = append(out, wide[skip])
			}
			skip -= len(x)
			return nil
		})
		return out, err
	}
	if kick, err = lowered(m.kick); err == nil {
		low, err = lowered(bass)
	}
	return kick, low, float64(m.Rate) / float64(factor), err
}

// KickSound returns the kick that is judged, mono.
func (m *HitMeter) KickSound() Sound { return m.kick }
