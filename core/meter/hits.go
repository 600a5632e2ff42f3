package meter

import (
	"errors"
	"fmt"
	"math"

	"gonum.org/v1/gonum/dsp/fourier"

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

	kick       []float32
	wide       []float32
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

// NewHitMeter prepares for a kick (mono, at rate) with hits at those frames. Hits outside
// the range are not judged, but end the gap of the hit before them. homeHz is the kick's
// settled fundamental. The kick is kept and must not be changed.
func NewHitMeter(kick []float32, rate int, hits []int, homeHz float64, in Range) (*HitMeter, error) {
	fs := float64(rate)
	in.To = min(in.To, len(kick))
	m := &HitMeter{Rate: rate, HomeHz: homeHz, Range: in, kick: kick}
	end := len(kick)
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
	lo, hi := HomeBand(homeHz)
	var err error
	if m.home, err = dsp.Bandpass(lo, hi, fs); err != nil {
		return nil, fmt.Errorf("the kick's home band: %w", err)
	}
	if m.band, err = dsp.Bandpass(wideLow, wideHigh, fs); err != nil {
		return nil, err
	}
	home := filtered(kick, m.home)
	m.wide = filtered(kick, m.band)
	m.smooth = dsp.Smooth(m.wide, smoothTau, fs)
	m.Kick = envelope(m.smooth, rate)
	homeSmooth := dsp.Smooth(home, smoothTau, fs)
	for i, h := range m.Hits {
		next := end
		if i+1 < len(m.Hits) {
			next = m.Hits[i+1]
		}
		gap := next - h
		w := kickWindow(homeSmooth[h:], gap, fs)
		m.Gaps = append(m.Gaps, gap)
		m.Windows = append(m.Windows, w)
		m.Home = append(m.Home, Energy(home[h:h+w]))
		top, sum := h, 0.0
		for n := h; n < next; n++ {
			if m.smooth[n] > m.smooth[top] {
				top = n
			}
			if n < h+w {
				sum += float64(m.smooth[n])
			}
		}
		m.wideTop = append(m.wideTop, top)
		m.wideEnergy = append(m.wideEnergy, sum)
	}
	return m, nil
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
// than the kick, the rest is silence.
func (m *HitMeter) Measure(bass []float32) HitFigures {
	if len(bass) != len(m.kick) {
		b := make([]float32, len(m.kick))
		copy(b, bass)
		bass = b
	}
	fs := float64(m.Rate)
	home, wide := make([]float32, len(bass)), make([]float32, len(bass))
	dsp.Process2(dsp.NewFilter(m.home), home, bass, dsp.NewFilter(m.band), wide, bass)
	smooth := dsp.Smooth(wide, smoothTau, fs)
	f := HitFigures{Bass: envelope(smooth, m.Rate), Low: Energy(wide[m.Range.From:m.Range.To]), SumPeak: level(pairPeak(m.kick[m.Range.From:m.Range.To], bass[m.Range.From:m.Range.To]))}
	for i, h := range m.Hits {
		w := m.Windows[i]
		hit := Hit{At: float64(h+m.Offset) / fs, Window: 1000 * float64(w) / fs, Gap: float64(m.Gaps[i]) / fs}
		hit.Clearance = Clearance(m.Home[i], Energy(home[h:h+w]))
		both := 0.0
		for n := h; n < h+w; n++ {
			both += float64(min(m.smooth[n], smooth[n]))
		}
		hit.Overlap, hit.PhaseSum, hit.PeakCost = None, None, None
		if m.wideEnergy[i] > 0 {
			hit.Overlap = Figure(100 * both / m.wideEnergy[i])
		}
		hit.PhaseSum = phaseSum(m.wide[h:h+w], wide[h:h+w])
		if alone := max(peakOf(m.kick[h:h+w]), peakOf(bass[h:h+w])); alone > 0 {
			hit.PeakCost = level(pairPeak(m.kick[h:h+w], bass[h:h+w])) - level(float64(alone))
		}
		hit.Handover = m.handover(i, smooth)
		f.Hits = append(f.Hits, hit)
	}
	f.summarise()
	return f
}

// Clearances judges the clearance alone, in hit order.
func (m *HitMeter) Clearances(bass []float32) []Figure {
	home := filtered(bass, m.home)
	out := make([]Figure, len(m.Hits))
	for i, h := range m.Hits {
		out[i] = Clearance(m.Home[i], Energy(home[min(h, len(home)):min(h+m.Windows[i], len(home))]))
	}
	return out
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
func (m *HitMeter) handover(i int, bass []float32) Figure {
	h, top := m.Hits[i], m.wideTop[i]
	stay := int(handoverStay * float64(m.Rate))
	run := 0
	for n := top; n < h+m.Gaps[i]; n++ {
		if bass[n] < m.smooth[n] || bass[n] < powerFloor {
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
func (m *HitMeter) LowEnergy(bass []float32) float64 {
	y := filtered(bass, m.band)
	return Energy(y[min(m.Range.From, len(y)):min(m.Range.To, len(y))])
}

// WideBand returns the filter BP(20,150) for a rate in Hz.
func WideBand(fs float64) ([]dsp.Biquad, error) { return dsp.Bandpass(wideLow, wideHigh, fs) }

func envelope(smooth []float32, rate int) []float32 {
	step := EnvelopeStep * float64(rate)
	out := make([]float32, int(float64(len(smooth))/step))
	for i := range out {
		out[i] = float32(math.Sqrt(float64(smooth[int(float64(i)*step)])))
	}
	return out
}

// lowPairRate is about the least rate in Hz at which phases up to 150 Hz are compared.
const lowPairRate = 8000

// LowPair returns kick and bass in 20-150 Hz at a lowered rate, and that rate in Hz, for asking
// what moving one against the other would do.
func (m *HitMeter) LowPair(bass []float32) (kick, low []float32, rate float64) {
	factor := max(1, m.Rate/lowPairRate)
	wide := filtered(bass, m.band)
	for i := 0; i < len(m.wide); i += factor {
		kick = append(kick, m.wide[i])
		if i < len(wide) {
			low = append(low, wide[i])
		}
	}
	return kick, low, float64(m.Rate) / float64(factor)
}

// KickSound returns the kick that is judged, mono; it must not be changed.
func (m *HitMeter) KickSound() []float32 { return m.kick }

// fineBand is the width of a fine band: a semitone.
const fineBand = 1.0 / 12

// The fine spectrum's range: a semitone from 25 Hz to 300 Hz.
const (
	FineLow  = 25.96 // Hz, G#0
	FineBins = 43
)

// FineHz returns the middle of a fine band, Hz.
func FineHz(i int) float64 { return FineLow * math.Pow(2, float64(i)*fineBand) }

// FineSpectrum returns the amplitude of a sound over the hits' windows in bands of a semitone, the
// root of the mean power over the hits; the windows are tapered at their ends.
func (m *HitMeter) FineSpectrum(x []float32) []float64 {
	const size = 1 << 13
	factor := max(1, m.Rate/2000)
	fs := float64(m.Rate) / float64(factor)
	lp, err := dsp.ButterworthLowpass(8, min(400, 0.4*fs), float64(m.Rate))
	if err != nil {
		return make([]float64, FineBins)
	}
	low := filtered(x, lp)
	fft := fourier.NewFFT(size)
	frame, power := make([]float64, size), make([]float64, size/2+1)
	var c []complex128
	for i, h := range m.Hits {
		n := min(m.Windows[i], len(low)-h) / factor
		for k := range frame {
			frame[k] = 0
			if k < n {
				taper := math.Min(1, float64(n-k)/(0.3*float64(n)+1))
				frame[k] = float64(low[h+k*factor]) * taper
			}
		}
		c = fft.Coefficients(c, frame)
		for k, v := range c {
			power[k] += real(v)*real(v) + imag(v)*imag(v)
		}
	}
	out := make([]float64, FineBins)
	for i := range out {
		lo, hi := FineHz(i)*math.Pow(2, -fineBand/2)*size/fs, FineHz(i)*math.Pow(2, fineBand/2)*size/fs
		for k := int(lo + 0.5); k <= int(hi+0.5) && k < len(power); k++ {
			out[i] += power[k] * max(0, min(hi, float64(k)+0.5)-max(lo, float64(k)-0.5))
		}
		out[i] = math.Sqrt(out[i] / float64(max(1, len(m.Hits))) / (hi - lo))
	}
	return out
}

// OverIn returns the clearance of a bass over the kick in the octave around a note, at some of the
// hits, from some seconds after each to the next: the mirror of Clearance, for where the bass leads.
func (m *HitMeter) OverIn(bass []float32, noteHz float64, hits []int, from float64) ([]Figure, error) {
	lo, hi := HomeBand(noteHz)
	band, err := dsp.Bandpass(lo, hi, float64(m.Rate))
	if err != nil {
		return nil, err
	}
	k, b := filtered(m.kick, band), filtered(bass, band)
	out := make([]Figure, len(hits))
	for i, h := range hits {
		at, end := m.Hits[h]+int(from*float64(m.Rate)), m.Hits[h]+m.Gaps[h]
		out[i] = None
		if at < end && end <= len(b) {
			out[i] = Clearance(Energy(b[at:end]), Energy(k[at:end]))
		}
	}
	return out, nil
}
