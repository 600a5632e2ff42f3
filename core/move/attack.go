package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var attackKind = &Kind{
	Name: "attack", Label: "Attack and sustain", Does: "raises or lowers the start of every hit, or what lasts after it",
	Where: Anywhere, New: func() Params { return &Attack{Attack: 3} },
}

const (
	attackMost  = 12.0  // dB
	attackFast  = 0.3   // ms in which the fast envelope rises
	attackFall  = 60.0  // ms in which it falls
	attackSlow  = 18.0  // ms in which the slow one follows it up
	sustainFall = 800.0 // ms in which the one falls that what lasts is told by
	attackFrom  = 2.5   // dB between the first two from which a gain begins
	attackFull  = 3.5   // dB from which it is whole
	sustainFrom = 2.0   // likewise of what lasts
	sustainFull = 4.0
	attackEven  = 1.0  // ms by which a gain is smoothed on its way back
	attackFloor = 1e-5 // of full scale: what is softer has no envelope
)

// Attack raises or lowers the starts of hits, and what lasts after them, whatever their level: two envelopes of one sound, a fast one
// and one that follows it slowly up, part while a hit begins; one that falls slowly parts from it while a hit dies away (the scheme
// of differing followers, as in Zaunschirm, Reiss and Klapuri, Computer Music Journal 36(2), 2012, from memory; times and
// bounds are own choice). A gain begins at once, where they part by 2.5 to 3.5 dB (of what lasts 2 to 4). At 0 dB it is a null
// to the bit.
type Attack struct {
	Attack  float64 `json:"attack_db"`
	Sustain float64 `json:"sustain_db"`
}

// Kind is attack.
func (*Attack) Kind() *Kind { return attackKind }

// Fields are the two gains.
func (a *Attack) Fields() []field.Field {
	return []field.Field{
		{Name: "attack_db", Label: "attack", Unit: "dB", Number: &a.Attack, Lo: -attackMost, Hi: attackMost, Step: 0.5},
		{Name: "sustain_db", Label: "sustain", Unit: "dB", Number: &a.Sustain, Lo: -attackMost, Hi: attackMost, Step: 0.5},
	}
}

// Needs is nothing.
func (*Attack) Needs() Needs { return Needs{} }

// Memory is the time in which the slowest envelope has let go of what was before.
func (a *Attack) Memory(p Place) int {
	fall := attackFall
	if a.Sustain != 0 {
		fall = sustainFall
	}
	return int(math.Ceil(float64(p.Rate) / 1000 * (fall + attackFall + attackSlow + attackEven) * math.Log(1/attackFloor)))
}

// Words says it.
func (a *Attack) Words() string {
	return fmt.Sprintf("attack %s dB, sustain %s dB", figure.ShortPlus(a.Attack), figure.ShortPlus(a.Sustain))
}

// Processor raises and lowers all channels alike.
func (a *Attack) Processor(p Place) (Processor, error) {
	if err := Validate(a); err != nil {
		return nil, err
	}
	per := func(ms float64) float64 { return math.Exp(-1000 / (ms * float64(p.Rate))) }
	return &shaping{of: *a, rise: per(attackFast), fall: per(attackFall), slow: per(attackSlow), last: per(sustainFall), even: per(attackEven)}, nil
}

type shaping struct {
	of                           Attack
	rise, fall, slow, last, even float64 // coefficients
	fast, follows, lasts, db     float64
}

func (*shaping) Latency() int { return 0 }

// part is the part of a gain at a distance of two envelopes: none under from, dB, the whole over full.
func part(high, low, from, full float64) float64 {
	if high <= low || high <= attackFloor {
		return 0
	}
	db := 20 * math.Log10(high/math.Max(low, attackFloor/1e3))
	return math.Max(0, math.Min(1, (db-from)/(full-from)))
}

func (g *shaping) Process(x, _ audio.Buffer) {
	if g.of.Attack == 0 && g.of.Sustain == 0 {
		return
	}
	for i := range x.Frames() {
		top := 0.0
		for _, ch := range x.Ch {
			top = math.Max(top, math.Abs(float64(ch[i])))
		}
		if top > g.fast {
			g.fast = g.rise*g.fast + (1-g.rise)*top
		} else {
			g.fast = math.Max(top, g.fall*g.fast)
		}
		if g.fast > g.follows {
			g.follows = g.slow*g.follows + (1-g.slow)*g.fast
		} else {
			g.follows = g.fast
		}
		g.lasts = math.Max(g.fast, g.last*g.lasts)
		want := 0.0
		if g.of.Attack != 0 {
			want += g.of.Attack * part(g.fast, g.follows, attackFrom, attackFull)
		}
		if g.of.Sustain != 0 {
			want += g.of.Sustain * part(g.lasts, g.fast, sustainFrom, sustainFull)
		}
		if math.Abs(want) < math.Abs(g.db) || want*g.db < 0 {
			want = g.even*g.db + (1-g.even)*want
		}
		if g.db = want; math.Abs(g.db) < 1e-5 {
			g.db = 0
			continue
		}
		gain := float32(dsp.Gain(g.db))
		for _, ch := range x.Ch {
			ch[i] *= gain
		}
	}
}
