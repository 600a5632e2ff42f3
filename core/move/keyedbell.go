package move

import (
	"fmt"

	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var keyedBellKind = &Kind{
	Name: "keyedbell", Label: "Keyed bell", Does: "lowers a band only while a trigger sounds",
	Where: OnStem | OnBus, Linear: true, New: func() Params {
		return &KeyedBell{Hz: 200, Q: 1.4, Range: 3, Channels: "stereo", Threshold: -36, Ratio: 20, Attack: 2, Release: 80}
	},
}

// keyedBellKnee is the detector's knee, dB.
const keyedBellKnee = 6.0

// KeyedBell is a bell that dips while a trigger sounds: the detector of a compressor (Giannoulis, Massberg and Reiss, JAES
// 60(6), 2012) listens to the trigger, and the band is lowered by at most Range. Several of them may stand in a chain, each
// with its own trigger and band. While the trigger is silent it is a null, to the bit.
type KeyedBell struct {
	Trigger   string  `json:"trigger"` // id of the song's trigger
	Hz        float64 `json:"hz"`
	Q         float64 `json:"q"`
	Range     float64 `json:"range_db"`
	Channels  string  `json:"channels"`              // "stereo", "mid" or "side"
	High      float64 `json:"highpass_hz,omitempty"` // of what the detector hears; 0: none
	Low       float64 `json:"lowpass_hz,omitempty"`
	Threshold float64 `json:"threshold_db"` // of the trigger's samples behind those filters
	Ratio     float64 `json:"ratio"`
	Attack    float64 `json:"attack_ms"`
	Release   float64 `json:"release_ms"`
}

// Kind is keyedbell.
func (*KeyedBell) Kind() *Kind { return keyedBellKind }

// Fields are the trigger, the band, and the detector.
func (k *KeyedBell) Fields() []field.Field {
	return []field.Field{
		{Name: "trigger", Label: "while", Text: &k.Trigger, Trigger: true},
		{Name: "hz", Label: "band at", Unit: "Hz", Number: &k.Hz, Lo: 20, Hi: bellHi, Step: 0.1},
		{Name: "q", Label: "Q", Number: &k.Q, Lo: 0.3, Hi: mostQ, Step: 0.1},
		{Name: "range_db", Label: "range", Unit: "dB", Number: &k.Range, Lo: 0, Hi: mostBell, Step: 0.1},
		{Name: "channels", Label: "channels", Text: &k.Channels, Choices: append(field.Choices("stereo", "both"), channelChoices...)},
		{Name: "highpass_hz", Label: "key high-pass", Unit: "Hz", Number: &k.High, Lo: 10, Hi: 20000, Step: 1, None: true},
		{Name: "lowpass_hz", Label: "key low-pass", Unit: "Hz", Number: &k.Low, Lo: 10, Hi: 20000, Step: 1, None: true},
		{Name: "threshold_db", Label: "threshold", Unit: "dB", Number: &k.Threshold, Lo: -80, Hi: 0, Step: 0.1},
		{Name: "ratio", Label: "ratio", Number: &k.Ratio, Lo: 1, Hi: 100, Step: 0.1},
		{Name: "attack_ms", Label: "attack", Unit: "ms", Number: &k.Attack, Lo: 0.05, Hi: 200, Step: 0.1},
		{Name: "release_ms", Label: "release", Unit: "ms", Number: &k.Release, Lo: 1, Hi: 3000, Step: 1},
	}
}

// Check refuses a key filter that lets nothing through.
func (k *KeyedBell) Check() error {
	if k.High > 0 && k.Low > 0 && k.High >= k.Low {
		return fmt.Errorf("a key filter from %g up to %g Hz lets nothing through", k.High, k.Low)
	}
	return nil
}

// Needs is the trigger's sound.
func (k *KeyedBell) Needs() Needs { return Needs{Trigger: k.Trigger, Sound: true} }

// Words says it.
func (k *KeyedBell) Words() string {
	return fmt.Sprintf("bell at %g Hz, Q %g, down by at most %s dB while its trigger sounds", k.Hz, k.Q, figure.Signed(k.Range, -1))
}

// Warning is that of a range over 6 dB.
func (k *KeyedBell) Warning() string { return bigCut(k.Range) }

// dip is the same as a keyed band dip, which carries it out. A band that a rate does not hold does nothing.
func (k *KeyedBell) dip(rate int) *Duck {
	d := &Duck{
		School: BandSchool, Trigger: k.Trigger,
		Comp: &Compressor{Threshold: k.Threshold, Ratio: k.Ratio, Knee: keyedBellKnee, Attack: k.Attack, Release: k.Release},
		Band: &Band{Shape: "bell", Hz: k.Hz, Q: k.Q, Range: k.Range, Channels: k.Channels},
	}
	if k.High > 0 || k.Low > 0 {
		d.Key = &KeyFilter{High: k.High, Low: k.Low, Slope: 24}
	}
	if k.Hz > 0.45*float64(rate) {
		d.Band.Hz, d.Band.Range = 0.45*float64(rate), 0
	}
	return d
}

// Memory is that of its filters and of its gain.
func (k *KeyedBell) Memory(p Place) int { return max(k.Listens(p), k.Carrier().Memory(p)) }

// Listens is the time in which the detector has let go of what was before.
func (k *KeyedBell) Listens(p Place) int { return k.dip(p.Rate).Listens(p) }

// Listen returns the detector behind its key filter.
func (k *KeyedBell) Listen(p Place) (Listening, error) {
	if err := Validate(k); err != nil {
		return nil, err
	}
	return newKeyedGain(k.dip(p.Rate), p)
}

// Carrier carries the gain out.
func (k *KeyedBell) Carrier() Params { return &keyedBellCarrier{k} }

// Processor carries it out with the trigger's sound as its key; nothing comes out late.
func (k *KeyedBell) Processor(p Place) (Processor, error) {
	if err := Validate(k); err != nil {
		return nil, err
	}
	return newKeyedGain(k.dip(p.Rate), p)
}

// keyedBellCarrier is a keyed bell whose gain is known already.
type keyedBellCarrier struct{ Bell *KeyedBell }

func (*keyedBellCarrier) Kind() *Kind           { return keyedBellKind }
func (*keyedBellCarrier) Fields() []field.Field { return nil }
func (*keyedBellCarrier) Needs() Needs          { return Needs{} }

// Memory is that of the band's filter.
func (c *keyedBellCarrier) Memory(p Place) int { return c.Bell.dip(p.Rate).Carrier().Memory(p) }

// Processor returns what lowers the band by the gain.
func (c *keyedBellCarrier) Processor(p Place) (Processor, error) {
	return c.Bell.dip(p.Rate).Carrier().Processor(p)
}
