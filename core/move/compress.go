package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var compressKind = &Kind{
	Name: "compress", Label: "Compressor", Does: "lowers what is loud, by its own level",
	Where: Anywhere, New: func() Params {
		return &Compress{Threshold: -20, Ratio: 3, Knee: 6, Attack: 30, Release: 150, BackHz: 50}
	},
}

// Compress is a compressor that listens to the sound itself (Giannoulis, Massberg and Reiss, JAES 60(6), 2012: feed-forward, log
// domain, soft knee, decoupled peak detector), all channels by the louder of them. After it stands a gain, and a bell that gives
// back what a long attack has let the low end lose: boosted after it, never before.
type Compress struct {
	Threshold float64 `json:"threshold_db"`
	Ratio     float64 `json:"ratio"`
	Knee      float64 `json:"knee_db"`
	KeyHz     float64 `json:"key_hz,omitempty"` // high-pass of what the detector hears; 0: none
	Attack    float64 `json:"attack_ms"`
	Release   float64 `json:"release_ms"`
	Makeup    float64 `json:"makeup_db"`
	BackHz    float64 `json:"back_hz"`
	Back      float64 `json:"back_db"`
}

// backQ is the Q of the bell behind it.
const backQ = 0.8

// Kind is compress.
func (*Compress) Kind() *Kind { return compressKind }

// Fields are those of the detector, the gain and the bell.
func (c *Compress) Fields() []field.Field {
	return []field.Field{
		{Name: "threshold_db", Label: "threshold", Unit: "dB", Number: &c.Threshold, Lo: -80, Hi: 0, Step: 0.1},
		{Name: "ratio", Label: "ratio", Number: &c.Ratio, Lo: 1, Hi: 100, Step: 0.1},
		{Name: "knee_db", Label: "knee", Unit: "dB", Number: &c.Knee, Lo: 0, Hi: 24, Step: 0.5},
		{Name: "key_hz", Label: "key high-pass", Unit: "Hz", Number: &c.KeyHz, Lo: 20, Hi: 2000, Step: 5, None: true},
		{Name: "attack_ms", Label: "attack", Unit: "ms", Number: &c.Attack, Lo: 0.05, Hi: 200, Step: 0.1},
		{Name: "release_ms", Label: "release", Unit: "ms", Number: &c.Release, Lo: 1, Hi: 3000, Step: 1},
		{Name: "makeup_db", Label: "gain after", Unit: "dB", Number: &c.Makeup, Lo: -24, Hi: 24, Step: 0.1},
		{Name: "back_hz", Label: "bell after at", Unit: "Hz", Number: &c.BackHz, Lo: 20, Hi: 400, Step: 0.1},
		{Name: "back_db", Label: "bell after", Unit: "dB", Number: &c.Back, Lo: -12, Hi: 12, Step: 0.1},
	}
}

// Needs is nothing: it listens to what it lowers.
func (*Compress) Needs() Needs { return Needs{} }

func (c *Compress) bell(rate float64) ([]dsp.Biquad, error) {
	if c.Back == 0 {
		return nil, nil
	}
	s, err := dsp.RBJ(dsp.Bell, c.BackHz, backQ, c.Back, rate)
	return []dsp.Biquad{s}, err
}

// key is what its detector hears through.
func (c *Compress) key(rate float64) []dsp.Biquad {
	if c.KeyHz == 0 {
		return nil
	}
	s, err := dsp.ButterworthHighpass(driveOrder, c.KeyHz, rate)
	if err != nil {
		return nil
	}
	return s
}

// Memory is the time in which its detector has let go of what was before, and its bell has died away.
func (c *Compress) Memory(p Place) int {
	s, err := c.bell(float64(p.Rate))
	if err != nil {
		return 0
	}
	n := int(math.Ceil(float64(p.Rate) / 1000 * math.Log(gainMost/gainSettled) * (c.Release + c.Attack)))
	if len(s) > 0 {
		n += dsp.Settles(s)
	}
	if k := c.key(float64(p.Rate)); len(k) > 0 {
		n += dsp.Settles(k)
	}
	return n
}

// Words says it.
func (c *Compress) Words() string {
	out := fmt.Sprintf("threshold %s dB, ratio %g, attack %g ms, release %g ms", figure.Signed(c.Threshold, -1), c.Ratio, c.Attack, c.Release)
	if c.KeyHz != 0 {
		out += fmt.Sprintf(", hearing what is over %s Hz", figure.Short(c.KeyHz))
	}
	if c.Makeup != 0 {
		out += fmt.Sprintf(", then %s dB", figure.ShortPlus(c.Makeup))
	}
	if c.Back != 0 {
		out += fmt.Sprintf(", after it a bell of %s dB at %s Hz, Q %g", figure.ShortPlus(c.Back), figure.Short(c.BackHz), backQ)
	}
	return out
}

// Warning is that of a bell over 6 dB behind it.
func (c *Compress) Warning() string { return bigCut(c.Back) }

// Processor lowers all channels alike.
func (c *Compress) Processor(p Place) (Processor, error) {
	if err := Validate(c); err != nil {
		return nil, err
	}
	s, err := c.bell(float64(p.Rate))
	if err != nil {
		return nil, err
	}
	return &compressing{
		detector: NewDetector(Compressor{Threshold: c.Threshold, Ratio: c.Ratio, Knee: c.Knee, Attack: c.Attack, Release: c.Release}, 0, float64(p.Rate)),
		gain:     float32(dsp.Gain(c.Makeup)), bell: s, key: c.key(float64(p.Rate)),
	}, nil
}

type compressing struct {
	detector *Detector
	gain     float32
	bell     []dsp.Biquad
	bells    []*dsp.Filter
	key      []dsp.Biquad
	keys     []*dsp.Filter
	heard    audio.Buffer
}

// hears is what the detector hears of a block.
func (g *compressing) hears(x audio.Buffer) audio.Buffer {
	if g.key == nil {
		return x
	}
	if g.heard.Frames() < x.Frames() || len(g.heard.Ch) != len(x.Ch) {
		g.heard = audio.New(x.Rate, len(x.Ch), x.Frames())
	}
	h := g.heard.Slice(0, x.Frames())
	for c := range x.Ch {
		if c == len(g.keys) {
			g.keys = append(g.keys, dsp.NewFilter(g.key))
		}
		g.keys[c].Process(h.Ch[c], x.Ch[c])
	}
	return h
}

func (*compressing) Latency() int { return 0 }

func (g *compressing) Process(x, _ audio.Buffer) {
	heard := g.hears(x)
	for i := range x.Frames() {
		top := float32(0)
		for _, ch := range heard.Ch {
			top = max(top, ch[i], -ch[i])
		}
		gain := g.gain
		if db := g.detector.Next(float64(top)); db < -1e-4 {
			gain *= dsp.LevelGain(db)
		}
		if gain == 1 {
			continue
		}
		for _, ch := range x.Ch {
			ch[i] *= gain
		}
	}
	if g.bell == nil {
		return
	}
	for c := range x.Ch {
		if c == len(g.bells) {
			g.bells = append(g.bells, dsp.NewFilter(g.bell))
		}
		g.bells[c].Process(x.Ch[c], x.Ch[c])
	}
}
