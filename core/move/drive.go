package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
	"mellowthump/core/group"
)

var driveKind = &Kind{
	Name: "drive", Label: "Harmonics", Does: "adds harmonics to a sound",
	Where: Anywhere, New: func() Params { return &Drive{Adds: DriveOdd, Drive: 6, Over: 120, Level: -12} },
}

// What harmonics a drive adds.
const (
	DriveOdd  = "odd"
	DriveEven = "even"
	DriveBoth = "both"
)

const (
	driveTimes = 4    // by which the rate is raised
	driveCut   = 0.41 // of the rate: the corner of the filter there and back, so that nothing folds; what is added is flat to 0.3
)

// drivePhases are the phases of that filter, a Kaiser-windowed sinc (beta 9).
var drivePhases = func() (h [driveTimes][clipTaps]float32) {
	for k := range h {
		sum := 0.0
		var v [clipTaps]float64
		for i := range v {
			u := float64(k)/driveTimes - float64(i-(clipTaps/2-1))
			v[i] = 1
			if a := 2 * math.Pi * driveCut * u; a != 0 {
				v[i] = math.Sin(a) / a
			}
			v[i] *= dsp.Kaiser(u/(clipTaps/2), 9)
			sum += v[i]
		}
		for i := range v {
			h[k][i] = float32(v[i] / sum)
		}
	}
	return h
}()

// driveOrder is that of the high-pass behind it.
const driveOrder = 4

// Drive adds harmonics beside the sound, four times oversampled: atan(g x) / atan(g) is odd (of a full-scale sine its harmonics are
// 2 p^n / (n atan g), n odd, p = (sqrt(1 + g^2) - 1) / g), its square is even, half of each is both; g is the drive. What is added
// is high-passed, so that the low end stays, and stands at a level to the sound. A level of -60 dB is a null.
type Drive struct {
	Adds  string  `json:"adds"` // "odd", "even" or "both"
	Drive float64 `json:"drive_db"`
	Over  float64 `json:"over_hz"`            // of what is added
	Under float64 `json:"under_hz,omitempty"` // of what is driven; 0: all of it
	Level float64 `json:"level_db"`           // likewise
	Gain  float64 `json:"gain_db"`            // after it
}

const driveSilent = -60.0 // dB

// Kind is drive.
func (*Drive) Kind() *Kind { return driveKind }

// Fields are what is added, and how much.
func (d *Drive) Fields() []field.Field {
	return []field.Field{
		{Name: "adds", Label: "harmonics", Text: &d.Adds, Choices: field.Choices(DriveOdd, "odd", DriveEven, "even", DriveBoth, "odd and even")},
		{Name: "drive_db", Label: "drive", Unit: "dB", Number: &d.Drive, Lo: 0, Hi: 24, Step: 0.5},
		{Name: "over_hz", Label: "over", Unit: "Hz", Number: &d.Over, Lo: 20, Hi: 2000, Step: 1},
		{Name: "under_hz", Label: "of what is under", Unit: "Hz", Number: &d.Under, Lo: 40, Hi: 5000, Step: 5, None: true},
		{Name: "level_db", Label: "level", Unit: "dB", Number: &d.Level, Lo: driveSilent, Hi: 12, Step: 0.5},
		{Name: "gain_db", Label: "gain after", Unit: "dB", Number: &d.Gain, Lo: -24, Hi: 24, Step: 0.1},
	}
}

// Needs is nothing.
func (*Drive) Needs() Needs { return Needs{} }

func (d *Drive) sections(rate float64) []dsp.Biquad {
	s, err := dsp.ButterworthHighpass(driveOrder, d.Over, rate)
	if err != nil {
		return nil
	}
	return s
}

// band is the low-pass in front of the curve; nil where all is driven.
func (d *Drive) band(rate float64) []dsp.Biquad {
	if d.Under == 0 {
		return nil
	}
	s, err := dsp.ButterworthLowpass(driveOrder, d.Under, rate)
	if err != nil {
		return nil
	}
	return s
}

// Memory is that of its filters.
func (d *Drive) Memory(p Place) int {
	n := 2*clipTaps + dsp.Settles(d.sections(float64(p.Rate)))
	if s := d.band(float64(p.Rate)); s != nil {
		n += dsp.Settles(s)
	}
	return n
}

// Words says it.
func (d *Drive) Words() string {
	adds := d.Adds
	if adds == DriveBoth {
		adds = "odd and even"
	}
	if d.Under > 0 {
		adds += fmt.Sprintf(" harmonics of what is under %s Hz,", figure.Short(d.Under))
	} else {
		adds += " harmonics"
	}
	return fmt.Sprintf("%s over %s Hz, drive %s dB, added at %s dB", adds, figure.Short(d.Over), figure.Short(d.Drive), figure.Short(d.Level))
}

// Processor adds to each channel on its own; it is as late as its filters are long.
func (d *Drive) Processor(p Place) (Processor, error) {
	if err := Validate(d); err != nil {
		return nil, err
	}
	g := dsp.Gain(d.Drive)
	out := &driving{
		of:    *d,
		drive: g,
		norm:  1 / math.Atan(g),
		level: dsp.Gain(d.Level) / driveTimes,
		gain:  float32(dsp.Gain(d.Gain)),
		high:  d.sections(float64(p.Rate)),
		low:   d.band(float64(p.Rate)),
	}
	out.table = make([]float32, driveTable+1)
	for i := range out.table {
		out.table[i] = float32(out.curve(driveReach * (2*float64(i)/driveTable - 1)))
	}
	return out, nil
}

// The curve is looked up between so many places up to so many times full scale, straight between them: to -110 dB at the most drive.
const (
	driveTable = 1 << 14
	driveReach = 2.0
)

type driving struct {
	of                 Drive
	drive, norm, level float64
	gain               float32
	table              []float32
	high, low          []dsp.Biquad
	each               []*driveChannel
}

type driveChannel struct {
	past  []float32
	added []float32
	high  *dsp.Filter
	part  []float32
	late  []float32
	low   *dsp.Filter // in front of the curve; nil: none
	lower []float32   // behind it, from clipTaps - 1 frames before on
}

func (*driving) Latency() int { return clipTaps - 1 }

// curve is what is added for an amplitude, at its level.
func (g *driving) curve(v float64) float64 {
	odd := math.Atan(g.drive*v) * g.norm
	switch g.of.Adds {
	case DriveEven:
		odd *= odd
	case DriveBoth:
		odd = (odd + odd*odd) / 2
	}
	return g.level * odd
}

// bend is the curve, looked up.
func (g *driving) bend(v float32) float32 {
	const scale = driveTable / (2 * driveReach)
	at := (v + driveReach) * scale
	if !(at >= 0 && at < driveTable) {
		return float32(g.curve(float64(v)))
	}
	i := int(at)
	a := g.table[i]
	return a + (g.table[i+1]-a)*(at-float32(i))
}

// Process delays the sound and adds what the curve makes of it, worked out at the higher rate, behind the high-pass.
func (g *driving) Process(x, _ audio.Buffer) {
	for ch := range x.Ch {
		if ch == len(g.each) {
			g.each = append(g.each, g.fresh())
		}
		g.channel(g.each[ch], x.Ch[ch])
	}
}

// fresh is a channel of which nothing was heard yet.
func (g *driving) fresh() *driveChannel {
	s := &driveChannel{past: make([]float32, clipTaps-1), high: dsp.NewFilter(g.high)}
	if g.low != nil {
		s.low, s.lower = dsp.NewFilter(g.low), make([]float32, clipTaps-1)
	}
	return s
}

// The phases are alike backwards: the first is the third read from its end, the second its own mirror image, the zeroth too
// but for its last tap, which is none. So two phases share the sums and the differences of what stands as far from the middle.
var driveEven, driveUneven, driveMiddle = func() (even, uneven, middle [clipTaps / 2]float32) {
	for j := range even {
		a, b := drivePhases[1][j], drivePhases[1][clipTaps-1-j]
		even[j], uneven[j], middle[j] = (a+b)/2, (a-b)/2, drivePhases[2][j]
	}
	return even, uneven, middle
}()

// add adds what the curve makes of n frames to what comes out, clipTaps - 1 frames later at most; w begins clipTaps - 1 frames
// before the first.
func (g *driving) add(added, w []float32, n int) {
	const half, last = clipTaps / 2, clipTaps - 1
	whole := &drivePhases[0]
	for i := g.addWide(added, w, n); i < n; i++ {
		add, in := (*[clipTaps]float32)(added[i:]), (*[clipTaps]float32)(w[i:])
		var p, q, r float32 // sums that do not wait for each other
		for j := range half {
			s, d := in[j]+in[last-j], in[j]-in[last-j]
			p += driveEven[j] * s
			q += driveUneven[j] * d
			r += driveMiddle[j] * s
		}
		z := whole[half-1] * in[half-1]
		for j := range half - 1 {
			z += whole[j] * (in[j] + in[last-1-j])
		}
		v0, v1, v2, v3 := g.bend(z), g.bend(p+q), g.bend(r), g.bend(p-q)
		if v0 == 0 && v1 == 0 && v2 == 0 && v3 == 0 {
			continue
		}
		c, d := v1+v3, v1-v3
		for j := range half {
			t, u := driveEven[j]*c+driveMiddle[j]*v2, driveUneven[j]*d
			add[j] += t + u
			add[last-j] += t - u
		}
		add[half-1] += whole[half-1] * v0
		for j := range half - 1 {
			t := whole[j] * v0
			add[j] += t
			add[last-1-j] += t
		}
	}
}

// driveShared is the least half of a block that is worth a processor of its own, frames.
const driveShared = 1024

func (g *driving) channel(s *driveChannel, x []float32) {
	w := append(s.past, x...)
	in := w // of the curve
	if s.low != nil {
		s.lower = append(s.lower, x...)
		s.low.Process(s.lower[clipTaps-1:], x)
		in = s.lower
	}
	for len(s.added) < len(x)+clipTaps {
		s.added = append(s.added, 0)
	}
	if g.of.Level > driveSilent {
		if half := len(x) / 2; half >= driveShared { // on two processors
			if len(s.late) < len(x)-half+clipTaps {
				s.late = make([]float32, len(x)-half+clipTaps)
			}
			late := s.late[:len(x)-half+clipTaps]
			audio.Clear(late)
			group.All(2, func(i int) {
				if i == 0 {
					g.add(late, in[half:], len(x)-half)
				} else {
					g.add(s.added, in, half)
				}
			})
			for i, v := range late {
				s.added[half+i] += v
			}
		} else {
			g.add(s.added, in, len(x))
		}
	}
	s.part = append(s.part[:0], s.added[:len(x)]...)
	s.high.Process(s.part, s.part)
	for i := range x {
		x[i] = (w[i] + s.part[i]) * g.gain
	}
	n := copy(s.added, s.added[len(x):])
	for i := n; i < len(s.added); i++ {
		s.added[i] = 0
	}
	s.past = append(s.past[:0], w[len(w)-(clipTaps-1):]...)
	if s.low != nil {
		s.lower = append(s.lower[:0], in[len(in)-(clipTaps-1):]...)
	}
}
