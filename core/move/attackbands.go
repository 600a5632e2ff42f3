package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var attackBandsKind = &Kind{
	Name: "attackbands", Label: "Attack by bands", Does: "raises or lowers the start of every hit, or what lasts after it, in three bands",
	Where: Anywhere, New: func() Params { return &AttackBands{LowHz: 120, HighHz: 2500, HighAttack: 3} },
}

// AttackBands is Attack in three bands (Linkwitz and Riley's 4th order), each by its own envelopes. With all gains at 0 dB it is a null
// to the bit.
type AttackBands struct {
	LowHz       float64 `json:"low_hz"`
	HighHz      float64 `json:"high_hz"`
	LowAttack   float64 `json:"low_attack_db"`
	LowSustain  float64 `json:"low_sustain_db"`
	MidAttack   float64 `json:"mid_attack_db"`
	MidSustain  float64 `json:"mid_sustain_db"`
	HighAttack  float64 `json:"high_attack_db"`
	HighSustain float64 `json:"high_sustain_db"`
}

// Kind is attackbands.
func (*AttackBands) Kind() *Kind { return attackBandsKind }

// Fields are the corners and the gains.
func (a *AttackBands) Fields() []field.Field {
	gain := func(name, label string, v *float64) field.Field {
		return field.Field{Name: name, Label: label, Unit: "dB", Number: v, Lo: -attackMost, Hi: attackMost, Step: 0.5}
	}
	return []field.Field{
		{Name: "low_hz", Label: "low under", Unit: "Hz", Number: &a.LowHz, Lo: 40, Hi: 1000, Step: 5},
		{Name: "high_hz", Label: "high over", Unit: "Hz", Number: &a.HighHz, Lo: 500, Hi: 12000, Step: 50},
		gain("low_attack_db", "low attack", &a.LowAttack), gain("low_sustain_db", "low sustain", &a.LowSustain),
		gain("mid_attack_db", "middle attack", &a.MidAttack), gain("mid_sustain_db", "middle sustain", &a.MidSustain),
		gain("high_attack_db", "high attack", &a.HighAttack), gain("high_sustain_db", "high sustain", &a.HighSustain),
	}
}

// Check refuses corners out of order.
func (a *AttackBands) Check() error { return (&Bands{LowHz: a.LowHz, HighHz: a.HighHz}).Check() }

// Needs is nothing.
func (*AttackBands) Needs() Needs { return Needs{} }

func (a *AttackBands) shapes() [3]Attack {
	return [3]Attack{{a.LowAttack, a.LowSustain}, {a.MidAttack, a.MidSustain}, {a.HighAttack, a.HighSustain}}
}

// Memory is that of its filters and of its envelopes.
func (a *AttackBands) Memory(p Place) int {
	c, err := newCrossover(a.LowHz, a.HighHz, p.Rate)
	if err != nil {
		return 0
	}
	n := 0
	for _, s := range a.shapes() {
		n = max(n, s.Memory(p))
	}
	return n + c.settles()
}

// Words says it.
func (a *AttackBands) Words() string {
	s := a.shapes()
	return fmt.Sprintf(
		"attack and sustain %s and %s dB under %s Hz, %s and %s between, %s and %s over %s Hz",
		figure.ShortPlus(s[0].Attack),
		figure.ShortPlus(s[0].Sustain),
		figure.Short(a.LowHz),
		figure.ShortPlus(s[1].Attack),
		figure.ShortPlus(s[1].Sustain),
		figure.ShortPlus(s[2].Attack),
		figure.ShortPlus(s[2].Sustain),
		figure.Short(a.HighHz),
	)
}

// Processor raises and lowers all channels alike, band by band.
func (a *AttackBands) Processor(p Place) (Processor, error) {
	if err := Validate(a); err != nil {
		return nil, err
	}
	c, err := newCrossover(a.LowHz, a.HighHz, p.Rate)
	if err != nil {
		return nil, err
	}
	out := &shapingBands{cross: c}
	for k, s := range a.shapes() {
		if out.each[k], err = s.Processor(p); err != nil {
			return nil, err
		}
		out.works = out.works || s != Attack{}
	}
	return out, nil
}

type shapingBands struct {
	cross *crossover
	each  [3]Processor
	works bool
}

func (*shapingBands) Latency() int { return 0 }

func (g *shapingBands) Process(x, key audio.Buffer) {
	if !g.works {
		return
	}
	bands := g.cross.split(x)
	for k, b := range bands {
		g.each[k].Process(b, key)
	}
	for c, ch := range x.Ch {
		for i := range ch {
			ch[i] = bands[0].Ch[c][i] + bands[1].Ch[c][i] + bands[2].Ch[c][i]
		}
	}
}

var parallelKind = &Kind{
	Name: "parallel", Label: "Parallel attack", Does: "blends in a copy that is high-passed, shaped and driven",
	Where: Anywhere, New: func() Params { return &Parallel{Over: 340, Attack: 6, Sustain: -12, Drive: 6, Level: -9} },
}

// Parallel blends a copy of the sound in: high-passed (24 dB per octave), its attack and what lasts shaped, harmonics added, at a level to
// the sound. At -60 dB it is a null, late by nothing but itself.
type Parallel struct {
	Over    float64 `json:"over_hz"`
	Attack  float64 `json:"attack_db"`
	Sustain float64 `json:"sustain_db"`
	Drive   float64 `json:"drive_db"` // 0: no harmonics
	Level   float64 `json:"level_db"`
}

// Kind is parallel.
func (*Parallel) Kind() *Kind { return parallelKind }

// Fields are the copy's chain and its level.
func (a *Parallel) Fields() []field.Field {
	return []field.Field{
		{Name: "over_hz", Label: "over", Unit: "Hz", Number: &a.Over, Lo: 20, Hi: 5000, Step: 10},
		{Name: "attack_db", Label: "attack", Unit: "dB", Number: &a.Attack, Lo: -attackMost, Hi: attackMost, Step: 0.5},
		{Name: "sustain_db", Label: "sustain", Unit: "dB", Number: &a.Sustain, Lo: -attackMost, Hi: attackMost, Step: 0.5},
		{Name: "drive_db", Label: "drive", Unit: "dB", Number: &a.Drive, Lo: 0, Hi: 24, Step: 0.5},
		{Name: "level_db", Label: "level", Unit: "dB", Number: &a.Level, Lo: driveSilent, Hi: 12, Step: 0.5},
	}
}

// Needs is nothing.
func (*Parallel) Needs() Needs { return Needs{} }

// chain is what the copy goes through.
func (a *Parallel) chain() []Params {
	out := []Params{&Filter{Shape: "highpass", Hz: a.Over, Slope: 24}, &Attack{a.Attack, a.Sustain}}
	if a.Drive > 0 {
		out = append(out, &Drive{Adds: DriveBoth, Drive: a.Drive, Over: 20, Level: 0})
	}
	return out
}

// Memory is that of the copy's chain.
func (a *Parallel) Memory(p Place) int {
	n := 0
	for _, m := range a.chain() {
		n += m.Memory(p)
	}
	return n
}

// Words says it.
func (a *Parallel) Words() string {
	return fmt.Sprintf(
		"a copy over %s Hz, attack %s dB, sustain %s dB, drive %s dB, blended in at %s dB",
		figure.Short(a.Over),
		figure.ShortPlus(a.Attack),
		figure.ShortPlus(a.Sustain),
		figure.Short(a.Drive),
		figure.Short(a.Level),
	)
}

// Processor blends the copy in; all comes out as late as the copy does.
func (a *Parallel) Processor(p Place) (Processor, error) {
	if err := Validate(a); err != nil {
		return nil, err
	}
	out := &blending{level: float32(math.Pow(10, a.Level/20)), silent: a.Level <= driveSilent}
	for _, m := range a.chain() {
		step, err := m.Processor(p)
		if err != nil {
			return nil, err
		}
		out.chain, out.late = append(out.chain, step), out.late+step.Latency()
	}
	return out, nil
}

type blending struct {
	chain  []Processor
	late   int
	level  float32
	silent bool
	past   [][]float32
	copied audio.Buffer
}

func (g *blending) Latency() int { return g.late }

func (g *blending) Process(x, key audio.Buffer) {
	if g.copied.Frames() < x.Frames() || len(g.copied.Ch) != len(x.Ch) {
		g.copied = audio.New(x.Rate, len(x.Ch), x.Frames())
	}
	wet := g.copied.Slice(0, x.Frames())
	for c, ch := range x.Ch {
		copy(wet.Ch[c], ch)
		if c == len(g.past) {
			g.past = append(g.past, make([]float32, g.late))
		}
		w := append(g.past[c], ch...) // delayed
		copy(ch, w)
		g.past[c] = append(g.past[c][:0], w[len(w)-g.late:]...)
	}
	if g.silent {
		return
	}
	for _, step := range g.chain {
		step.Process(wet, key)
	}
	for c, ch := range x.Ch {
		for i := range ch {
			ch[i] += g.level * wet.Ch[c][i]
		}
	}
}
