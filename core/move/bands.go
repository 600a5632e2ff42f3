package move

import (
	"fmt"
	"math"
	"slices"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var bandsKind = &Kind{
	Name: "bands", Label: "Bands up and down", Does: "brings three bands closer to their middles, what is loud down and what is soft up",
	Where: Anywhere, New: func() Params {
		return &Bands{LowHz: 120, HighHz: 2500, Depth: 50, Low: -24, Mid: -27, High: -36, Attack: 10, Release: 120}
	},
}

// Bounds of the bands.
const (
	BandsRest   = 6.0   // dB about the middle in which nothing is done
	BandsRatio  = 4.0   // beyond it, to each side, at full depth
	BandsMost   = 12.0  // dB of lifting at full depth
	bandsSilent = -72.0 // dBFS: softer is noise, and not lifted
)

// Bands compresses three bands upward and downward toward their middles, by one depth: of a level L over the middle m plus 6 dB
// (m + 6 - L)(1 - 1/4) dB, of one under m - 6 dB (m - 6 - L)(1 - 1/4), at most 12, both times the depth (the static curve of a
// compressor with a hard knee, Giannoulis, Massberg and Reiss, JAES 60(6), 2012, and its mirror image). The level is the peak
// of the louder channel, let go of by the release; the gain follows it by the attack. At a depth of 0 the three bands sum flat.
type Bands struct {
	LowHz   float64 `json:"low_hz"`
	HighHz  float64 `json:"high_hz"`
	Depth   float64 `json:"depth_pct"`
	Low     float64 `json:"low_db"` // the middles, dBFS peak
	Mid     float64 `json:"mid_db"`
	High    float64 `json:"high_db"`
	Attack  float64 `json:"attack_ms"`
	Release float64 `json:"release_ms"`
	Gain    float64 `json:"gain_db"` // after it
}

// Kind is bands.
func (*Bands) Kind() *Kind { return bandsKind }

// Fields are the corners, the depth, the middles, the times and the gain.
func (b *Bands) Fields() []field.Field {
	return []field.Field{
		{Name: "depth_pct", Label: "depth", Unit: "%", Number: &b.Depth, Lo: 0, Hi: 100, Step: 5},
		{Name: "low_hz", Label: "low under", Unit: "Hz", Number: &b.LowHz, Lo: 40, Hi: 1000, Step: 5},
		{Name: "high_hz", Label: "high over", Unit: "Hz", Number: &b.HighHz, Lo: 500, Hi: 12000, Step: 50},
		{Name: "low_db", Label: "low about", Unit: "dB", Number: &b.Low, Lo: -80, Hi: 6, Step: 0.5},
		{Name: "mid_db", Label: "middle about", Unit: "dB", Number: &b.Mid, Lo: -80, Hi: 6, Step: 0.5},
		{Name: "high_db", Label: "high about", Unit: "dB", Number: &b.High, Lo: -80, Hi: 6, Step: 0.5},
		{Name: "attack_ms", Label: "attack", Unit: "ms", Number: &b.Attack, Lo: 0.5, Hi: 200, Step: 0.5},
		{Name: "release_ms", Label: "release", Unit: "ms", Number: &b.Release, Lo: 5, Hi: 2000, Step: 5},
		{Name: "gain_db", Label: "gain after", Unit: "dB", Number: &b.Gain, Lo: -24, Hi: 24, Step: 0.1},
	}
}

// Check refuses corners out of order.
func (b *Bands) Check() error {
	if b.HighHz < 2*b.LowHz {
		return fmt.Errorf("bands under %g and over %g Hz leave no middle; the upper corner is at least an octave over the lower", b.LowHz, b.HighHz)
	}
	return nil
}

// Needs is nothing.
func (*Bands) Needs() Needs { return Needs{} }

// Memory is the time in which its levels and gains have let go of what was before, and its filters have died away.
func (b *Bands) Memory(p Place) int {
	c, err := newCrossover(b.LowHz, b.HighHz, p.Rate)
	if err != nil {
		return 0
	}
	return c.settles() + int(math.Ceil(float64(p.Rate)/1000*(b.Release+b.Attack)*math.Log(1e6)))
}

// Words says it.
func (b *Bands) Words() string {
	return fmt.Sprintf("three bands, under %s and over %s Hz, up and down toward %s, %s and %s dB by %s %%", figure.Short(b.LowHz), figure.Short(b.HighHz),
		figure.Short(b.Low), figure.Short(b.Mid), figure.Short(b.High), figure.Short(b.Depth))
}

// GainDB is what a band about a middle gets for a level, both dBFS, before the gain after it.
func (b *Bands) GainDB(middle, level float64) float64 {
	d := b.Depth / 100 * (1 - 1/BandsRatio)
	switch {
	case level > middle+BandsRest:
		return d * (middle + BandsRest - level)
	case level < middle-BandsRest && level > bandsSilent:
		return math.Min(d*(middle-BandsRest-level), b.Depth/100*BandsMost)
	}
	return 0
}

// Processor works on all channels alike.
func (b *Bands) Processor(p Place) (Processor, error) {
	if err := Validate(b); err != nil {
		return nil, err
	}
	c, err := newCrossover(b.LowHz, b.HighHz, p.Rate)
	per := func(ms float64) float64 { return math.Exp(-1000 / (ms * float64(p.Rate))) }
	return &banding{of: *b, cross: c, attack: per(b.Attack), release: per(b.Release), gain: dsp.Gain(b.Gain)}, err
}

type banding struct {
	of              Bands
	cross           *crossover
	attack, release float64
	gain            float64
	level, db       [3]float64
}

func (*banding) Latency() int { return 0 }

func (g *banding) Process(x, _ audio.Buffer) {
	bands := g.cross.split(x)
	for _, ch := range x.Ch {
		audio.Clear(ch)
	}
	for k, middle := range []float64{g.of.Low, g.of.Mid, g.of.High} {
		band, level, db := bands[k], g.level[k], g.db[k]
		for i := range x.Frames() {
			top := float32(0)
			for _, ch := range band.Ch {
				top = max(top, ch[i], -ch[i])
			}
			level = math.Max(float64(top), g.release*level)
			want := 0.0
			if level > 1e-5 && g.of.Depth > 0 {
				want = g.of.GainDB(middle, dsp.LevelDB(float32(level)))
			}
			db = g.attack*db + (1-g.attack)*want
			gain := float32(g.gain)
			if math.Abs(db) > 1e-4 {
				gain *= dsp.LevelGain(db)
			}
			for c, ch := range band.Ch {
				x.Ch[c][i] += ch[i] * gain
			}
		}
		g.level[k], g.db[k] = level, db
	}
}

const (
	bandsStep  = 0.01 // s over which a peak is taken
	bandsUnder = 40.0 // dB under a band's loudest: what is softer does not count
)

// Fit sets the middles to the medians of the bands' peaks over 10 ms, of what is within 40 dB of the loudest; ok is false where nothing
// sounds.
func (b *Bands) Fit(x audio.Buffer) (ok bool, err error) {
	c, err := newCrossover(b.LowHz, b.HighHz, x.Rate)
	if err != nil {
		return false, err
	}
	bands := c.split(x)
	step := int(bandsStep * float64(x.Rate))
	for k, to := range []*float64{&b.Low, &b.Mid, &b.High} {
		var all []float64
		for at := 0; at+step <= x.Frames(); at += step {
			top := float32(0)
			for _, ch := range bands[k].Ch {
				for _, v := range ch[at : at+step] {
					top = max(top, v, -v)
				}
			}
			if top > 1e-5 {
				all = append(all, dsp.DB(float64(top)))
			}
		}
		if len(all) == 0 {
			*to = -80
			continue
		}
		slices.Sort(all)
		loudest := all[len(all)-1]
		from, _ := slices.BinarySearch(all, loudest-bandsUnder)
		*to = math.Round(2*math.Max(-80, math.Min(6, all[(from+len(all))/2]))) / 2
		ok = ok || loudest > bandsSilent
	}
	return ok, nil
}
