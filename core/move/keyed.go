package move

import (
	"errors"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
)

// The three schools of ducking.
const (
	CurveSchool      = "curve"
	CompressorSchool = "compressor"
	BandSchool       = "band"
)

// Schools lists them with the words for them.
var Schools = []struct{ School, Label string }{{CurveSchool, "Drawn curve"}, {CompressorSchool, "Keyed compressor"}, {BandSchool, "Keyed band dip"}}

// Compressor is a feed-forward compressor in the log domain with a soft knee and a decoupled peak
// detector (Giannoulis, Massberg and Reiss, JAES 60(6), 2012), driven by a key signal.
type Compressor struct {
	Threshold float64 `json:"threshold_db"`
	Ratio     float64 `json:"ratio"`
	Knee      float64 `json:"knee_db"`
	Attack    float64 `json:"attack_ms"`
	Hold      float64 `json:"hold_ms"`
	Release   float64 `json:"release_ms"`
	Lookahead float64 `json:"lookahead_ms"`
}

// Reduction returns the gain reduction in dB, 0 or more, for a steady key level in dB: the static
// curve, eq. 4 of the paper.
func (c *Compressor) Reduction(level float64) float64 {
	over, slope := level-c.Threshold, 1-1/c.Ratio
	switch {
	case 2*over < -c.Knee:
		return 0
	case 2*over <= c.Knee && c.Knee > 0:
		return slope * (over + c.Knee/2) * (over + c.Knee/2) / (2 * c.Knee)
	}
	return slope * max(0, over)
}

// KeyFilter shapes the key before it is detected.
type KeyFilter struct {
	High  float64 `json:"highpass_hz,omitempty"` // 0: none
	Low   float64 `json:"lowpass_hz,omitempty"`
	Slope int     `json:"slope_db_oct,omitempty"` // 12, 24 or 48
}

// Validate returns an error in plain words where a corner cannot be.
func (k *KeyFilter) Validate() error {
	if k == nil {
		return nil
	}
	d := &Duck{School: CompressorSchool, Comp: &Compressor{}, Key: k}
	if err := field.All(d.keyedFields()[keyAt : keyAt+3]); err != nil {
		return err
	}
	if k.High > 0 && k.Low > 0 && k.High >= k.Low {
		return fmt.Errorf("a key filter from %g up to %g Hz lets nothing through", k.High, k.Low)
	}
	return nil
}

// Filters returns the key filter's sections for a rate.
func (k *KeyFilter) Filters(rate float64) ([]dsp.Biquad, error) {
	var out []dsp.Biquad
	if k == nil {
		return nil, nil
	}
	if k.High > 0 && k.High < 0.45*rate {
		s, err := dsp.ButterworthHighpass(k.Slope/6, k.High, rate)
		if err != nil {
			return nil, err
		}
		out = append(out, s...)
	}
	if k.Low > 0 && k.Low < 0.45*rate {
		s, err := dsp.ButterworthLowpass(k.Slope/6, k.Low, rate)
		if err != nil {
			return nil, err
		}
		out = append(out, s...)
	}
	return out, nil
}

// Band is the part of the sound that a keyed dip lowers.
type Band struct {
	Shape    string  `json:"shape"` // "bell", or "below" a crossover
	Hz       float64 `json:"hz"`
	Q        float64 `json:"q,omitempty"` // of a bell
	Range    float64 `json:"range_db"`    // the most it is lowered by
	Channels string  `json:"channels"`    // "stereo", "mid" or "side"
}

// Keyed reports whether the duck listens to the trigger's sound, and not to its hits alone.
func (d *Duck) Keyed() bool { return d.School == CompressorSchool || d.School == BandSchool }

// MostAhead is the longest look-ahead, ms.
const MostAhead = 20.0

// keyAt is where the key filter's fields stand among those of a keyed duck.
const keyAt = 7

// keyedFields are the values of the detector, of the key filter and of the band. Where there is no key filter,
// its fields stand for one that is put in.
func (d *Duck) keyedFields() []field.Field {
	c, k, b := d.Comp, d.Key, d.Band
	if k == nil {
		k = &KeyFilter{}
	}
	out := []field.Field{
		{Name: "compressor.threshold_db", Label: "threshold", Unit: "dB", Number: &c.Threshold, Lo: -80, Hi: 0, Step: 0.1},
		{Name: "compressor.ratio", Label: "ratio", Number: &c.Ratio, Lo: 1, Hi: 100, Step: 0.1},
		{Name: "compressor.knee_db", Label: "knee", Unit: "dB", Number: &c.Knee, Lo: 0, Hi: 24, Step: 0.5},
		{Name: "compressor.attack_ms", Label: "attack", Unit: "ms", Number: &c.Attack, Lo: 0.05, Hi: 200, Step: 0.1},
		{Name: "compressor.hold_ms", Label: "hold", Unit: "ms", Number: &c.Hold, Lo: 0, Hi: 1000, Step: 1},
		{Name: "compressor.release_ms", Label: "release", Unit: "ms", Number: &c.Release, Lo: 1, Hi: 3000, Step: 1},
		{Name: "compressor.lookahead_ms", Label: "look-ahead", Unit: "ms", Number: &c.Lookahead, Lo: 0, Hi: MostAhead, Step: 0.1},
		{Name: "key.highpass_hz", Label: "key high-pass", Unit: "Hz", Number: &k.High, Lo: 10, Hi: 20000, Step: 1, None: true, Idle: d.Key == nil},
		{Name: "key.lowpass_hz", Label: "key low-pass", Unit: "Hz", Number: &k.Low, Lo: 10, Hi: 20000, Step: 1, None: true, Idle: d.Key == nil},
		{Name: "key.slope_db_oct", Label: "key slope", Whole: &k.Slope, Choices: slopes, Idle: k.High == 0 && k.Low == 0},
	}
	if d.School == BandSchool && b != nil {
		out = append(out,
			field.Field{Name: "band.shape", Label: "band", Text: &b.Shape, Choices: field.Choices("bell", "bell", "below", "all below a crossover")},
			field.Field{Name: "band.hz", Label: "band at", Unit: "Hz", Number: &b.Hz, Lo: 15, Hi: 2000, Step: 0.1},
			field.Field{Name: "band.q", Label: "band Q", Number: &b.Q, Lo: 0.1, Hi: 10, Step: 0.1, Default: 0.8, Idle: b.Shape != "bell"},
			field.Field{Name: "band.range_db", Label: "range", Unit: "dB", Number: &b.Range, Lo: 0, Hi: 48, Step: 0.1},
			field.Field{Name: "band.channels", Label: "channels", Text: &b.Channels, Choices: append(field.Choices("stereo", "both"), channelChoices...)},
		)
	}
	return out
}

// keyedCheck checks what of a keyed duck must be there, and its values.
func (d *Duck) keyedCheck() error {
	switch {
	case d.Comp == nil:
		return errors.New("a keyed duck needs its detector's values")
	case d.School == BandSchool && d.Band == nil:
		return errors.New("a band dip needs its band")
	}
	if err := field.All(d.keyedFields()); err != nil {
		return err
	}
	return d.Key.Validate()
}

// Detector turns a key into a gain.
type Detector struct {
	comp    Compressor
	floor   float64 // dB, the least gain; -Inf where there is none
	least   float64 // magnitude under which nothing is reduced
	attack  float64 // coefficients
	release float64
	hold    int
	// state
	held, smooth float64
	left         int
}

// NewDetector returns a detector for keys at a rate in Hz; range is the most it reduces by, dB, 0
// for no bound.
func NewDetector(c Compressor, bound, rate float64) *Detector {
	d := &Detector{
		comp:    c,
		floor:   math.Inf(-1),
		attack:  math.Exp(-1000 / (c.Attack * rate)),
		release: math.Exp(-1000 / (c.Release * rate)),
		hold:    int(c.Hold * rate / 1000),
	}
	if bound > 0 {
		d.floor = -bound
	}
	d.least = max(1e-9, dsp.Gain(c.Threshold-c.Knee/2))
	return d
}

// Next takes the magnitude of the key's next sample and returns the gain in dB, 0 or less: the
// reduction of the static curve, held and released by the first smoother, softened by the attack of
// the second (eq. 17 of the paper, with a hold).
func (d *Detector) Next(magnitude float64) float64 {
	if magnitude <= d.least {
		return d.follow(0)
	}
	return d.NextLevel(dsp.LevelDB(float32(magnitude)))
}

// NextLevel is Next for a level in dB.
func (d *Detector) NextLevel(db float64) float64 { return d.follow(d.comp.Reduction(db)) }

func (d *Detector) follow(want float64) float64 {
	switch {
	case want >= d.held:
		d.held, d.left = want, d.hold
	case d.left > 0:
		d.left--
	default:
		d.held = max(want, d.release*d.held+(1-d.release)*want)
	}
	d.smooth = d.attack*d.smooth + (1-d.attack)*d.held
	return max(-d.smooth, d.floor)
}

// keyedGain carries out a compressor or a band dip.
type keyedGain struct {
	duck     *Duck
	detector *Detector
	key      *dsp.Filter
	ahead    int
	past     [][]float32
	bands    []*bandDip
	gain     []float32
	work     []float32
}

func newKeyedGain(d *Duck, p Place) (*keyedGain, error) {
	rate := float64(p.Rate)
	sections, err := d.Key.Filters(rate)
	if err != nil {
		return nil, err
	}
	bound := 0.0
	if d.School == BandSchool {
		bound = d.Band.Range
	}
	g := &keyedGain{duck: d, detector: NewDetector(*d.Comp, bound, rate), key: dsp.NewFilter(sections), ahead: int(math.Round(d.Comp.Lookahead * rate / 1000))}
	if d.School == BandSchool && bound > 0 {
		for range 2 {
			b, err := newBandDip(d.Band, rate)
			if err != nil {
				return nil, err
			}
			g.bands = append(g.bands, b)
		}
	}
	return g, nil
}

// Latency is the look-ahead.
func (g *keyedGain) Latency() int { return g.ahead }

// Ahead is the look-ahead in frames.
func (g *keyedGain) Ahead() int { return g.ahead }

// Gains returns the gain as amplitude for a block of the key.
func (g *keyedGain) Gains(key []float32) []float32 {
	if cap(g.gain) < len(key) {
		g.gain, g.work = make([]float32, len(key)), make([]float32, len(key))
	}
	out, k := g.gain[:len(key)], g.work[:len(key)]
	g.key.Process(k, key)
	if g.duck.School == BandSchool && g.duck.Band.Range == 0 {
		for i := range out {
			out[i] = 1
		}
		return out
	}
	for i, v := range k {
		db := g.detector.Next(math.Abs(float64(v)))
		if db > -1e-4 {
			out[i] = 1
			continue
		}
		out[i] = dsp.LevelGain(db)
	}
	return out
}

// Process lowers x by the key's gain; x comes out as much later as the look-ahead.
func (g *keyedGain) Process(x, key audio.Buffer) {
	var gain []float32
	if len(key.Ch) > 0 {
		gain = g.Gains(key.Ch[0])
	}
	if g.ahead > 0 {
		for c := range x.Ch {
			if c == len(g.past) {
				g.past = append(g.past, make([]float32, g.ahead))
			}
			w := append(g.past[c], x.Ch[c]...)
			copy(x.Ch[c], w)
			g.past[c] = append(g.past[c][:0], w[len(x.Ch[c]):]...)
		}
	}
	if gain != nil {
		g.lower(x, gain)
	}
}

// lower carries a gain out on a sound.
func (g *keyedGain) lower(x audio.Buffer, gain []float32) {
	if g.duck.School == CompressorSchool {
		for c := range x.Ch {
			for i, v := range gain {
				x.Ch[c][i] *= v
			}
		}
		return
	}
	if g.bands == nil { // a range of 0 dB is a null
		return
	}
	g.dip(x, gain)
}

// dip lowers the band: in every channel, or in the mid or the side of a stereo sound.
func (g *keyedGain) dip(x audio.Buffer, gain []float32) {
	if len(x.Ch) == 1 {
		if g.duck.Band.Channels != "side" { // a mono sound has no side
			g.bands[0].process(x.Ch[0], gain)
		}
		return
	}
	l, r := x.Ch[0], x.Ch[1]
	if g.duck.Band.Channels == "stereo" {
		g.bands[0].process(l, gain)
		g.bands[1].process(r, gain)
		return
	}
	for i, v := range l { // to mid and side, and back
		l[i], r[i] = (v+r[i])/2, (v-r[i])/2
	}
	if g.duck.Band.Channels == "mid" {
		g.bands[0].process(l, gain)
		g.bands[1].pass(r)
	} else {
		g.bands[0].process(r, gain)
		g.bands[1].pass(l)
	}
	for i, v := range l {
		l[i], r[i] = v+r[i], v-r[i]
	}
}

// bandDip lowers the band of one channel.
type bandDip struct {
	bell      *dsp.Filter
	low, high *dsp.Filter
	a, b      []float32
}

func newBandDip(b *Band, rate float64) (*bandDip, error) {
	if b.Shape == "bell" {
		s, err := dsp.BandpassRBJ(b.Hz, b.Q, rate)
		return &bandDip{bell: dsp.NewFilter([]dsp.Biquad{s})}, err
	}
	low, high, err := dsp.LinkwitzRiley(b.Hz, rate)
	return &bandDip{low: dsp.NewFilter(low), high: dsp.NewFilter(high)}, err
}

// memory is the time in which the filters die away.
func (b *bandDip) memory() int {
	if b.bell != nil {
		return dsp.Settles(b.bell.Sections)
	}
	return max(dsp.Settles(b.low.Sections), dsp.Settles(b.high.Sections))
}

func (b *bandDip) room(n int) (x, y []float32) {
	if cap(b.a) < n {
		b.a, b.b = make([]float32, n), make([]float32, n)
	}
	return b.a[:n], b.b[:n]
}

// process: a bell takes (1 - gain) of its band away, so that a gain of 1 is a null; a crossover
// turns its low part, and is an all-pass at a gain of 1.
func (b *bandDip) process(x, gain []float32) {
	p, q := b.room(len(x))
	if b.bell != nil {
		b.bell.Process(p, x)
		for i, g := range gain {
			x[i] += (g - 1) * p[i]
		}
		return
	}
	dsp.Process2(b.low, p, x, b.high, q, x)
	for i, g := range gain {
		x[i] = g*p[i] + q[i]
	}
}

// pass takes the other of mid and side through the same all-pass.
func (b *bandDip) pass(x []float32) {
	if b.bell != nil {
		return
	}
	p, q := b.room(len(x))
	dsp.Process2(b.low, p, x, b.high, q, x)
	for i := range x {
		x[i] = p[i] + q[i]
	}
}

// What is left of a detector's past counts as gone when it turns the gain by less than gainSettled dB; it never
// holds more than gainMost.
const (
	gainMost    = 100.0 // dB
	gainSettled = 1e-4  // dB, a hundred-thousandth of the amplitude
)

// Listens is the time in which the key filter dies away and the detector has let go of what was before.
func (d *Duck) Listens(p Place) int {
	rate := float64(p.Rate)
	s, err := d.Key.Filters(rate)
	if err != nil || d.Comp == nil {
		return 0
	}
	fall := math.Log(gainMost / gainSettled)
	return dsp.Settles(s) + int(math.Ceil(rate/1000*(d.Comp.Hold+fall*(d.Comp.Release+d.Comp.Attack))))
}

// Listen returns the detector behind its key filter.
func (d *Duck) Listen(p Place) (Listening, error) {
	if err := d.Check(); err != nil {
		return nil, err
	}
	return newKeyedGain(d, p)
}

// Carrier carries the gain out.
func (d *Duck) Carrier() Params { return &carried{Duck: d} }

// carried is a keyed duck whose gain is known already: nothing comes out late.
type carried struct{ Duck *Duck }

func (*carried) Kind() *Kind           { return duckKind }
func (*carried) Fields() []field.Field { return nil }
func (*carried) Needs() Needs          { return Needs{} }

// Memory is that of the band's filters.
func (c *carried) Memory(p Place) int {
	if c.Duck.School != BandSchool {
		return 0
	}
	dip, err := newBandDip(c.Duck.Band, float64(p.Rate))
	if err != nil {
		return 0
	}
	return dip.memory()
}

// Processor returns what lowers the sound by the gain.
func (c *carried) Processor(p Place) (Processor, error) {
	k, err := newKeyedGain(c.Duck, p)
	return gained{k}, err
}

type gained struct{ *keyedGain }

func (gained) Latency() int { return 0 }

func (g gained) Process(x, gain audio.Buffer) {
	if len(gain.Ch) > 0 {
		g.lower(x, gain.Ch[0])
	}
}

// Gains returns the gain as amplitude for the frames from p.Start on, n of them; key is the
// trigger's sound from lead frames before p.Start on, unless the duck is a drawn curve.
func (d *Duck) Gains(p Place, n int, key []float32, lead int) ([]float32, error) {
	if !d.Keyed() {
		return d.Gain(p, n)
	}
	g, err := d.Listen(p)
	if err != nil {
		return nil, err
	}
	all := append([]float32(nil), g.Gains(key)...)
	from := lead + g.Ahead() // the key is heard ahead of the sound
	out := make([]float32, n)
	for i := range out {
		out[i] = 1
		if k := from + i; k >= 0 && k < len(all) {
			out[i] = all[k]
		}
	}
	return out, nil
}
