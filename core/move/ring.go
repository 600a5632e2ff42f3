package move

import (
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var ringKind = &Kind{
	Own:  true,
	Name: "ring", Label: "Bell while it rings", Does: "lowers a band only while that band itself is loud",
	Where: Anywhere, New: func() Params {
		return &Ring{Hz: 200, Q: 8, Range: 6, Threshold: -30, Ratio: 4, Attack: 5, Release: 120, Channels: "stereo"}
	},
}

// ringKnee is the detector's knee, dB.
const ringKnee = 6.0

// Ring is a bell that dips while its own band rings: the detector of a compressor (Giannoulis, Massberg and Reiss, JAES
// 60(6), 2012) listens to the band, and the band is lowered by at most Range. Under its threshold it is a null.
type Ring struct {
	Hz        float64 `json:"hz"`
	Q         float64 `json:"q"`
	Range     float64 `json:"range_db"`
	Threshold float64 `json:"threshold_db"` // of the band's samples
	Ratio     float64 `json:"ratio"`
	Attack    float64 `json:"attack_ms"`
	Release   float64 `json:"release_ms"`
	Channels  string  `json:"channels"` // "stereo", "mid" or "side"
}

// Kind is ring.
func (*Ring) Kind() *Kind { return ringKind }

// Fields are the band and its detector.
func (r *Ring) Fields() []field.Field {
	return []field.Field{
		{Name: "hz", Label: "band at", Unit: "Hz", Number: &r.Hz, Lo: 20, Hi: bellHi, Step: 0.1},
		{Name: "q", Label: "Q", Number: &r.Q, Lo: 0.3, Hi: mostQ, Step: 0.1},
		{Name: "range_db", Label: "range", Unit: "dB", Number: &r.Range, Lo: 0, Hi: mostBell, Step: 0.1},
		{Name: "threshold_db", Label: "threshold", Unit: "dB", Number: &r.Threshold, Lo: -80, Hi: 0, Step: 0.1},
		{Name: "ratio", Label: "ratio", Number: &r.Ratio, Lo: 1, Hi: 100, Step: 0.1},
		{Name: "attack_ms", Label: "attack", Unit: "ms", Number: &r.Attack, Lo: 0.05, Hi: 200, Step: 0.1},
		{Name: "release_ms", Label: "release", Unit: "ms", Number: &r.Release, Lo: 1, Hi: 3000, Step: 1},
		{Name: "channels", Label: "channels", Text: &r.Channels, Choices: append(field.Choices("stereo", "both"), channelChoices...)},
	}
}

// Needs is nothing: it listens to what it lowers.
func (*Ring) Needs() Needs { return Needs{} }

// Memory is the time in which its filters die away and its detector has let go of what was before.
func (r *Ring) Memory(p Place) int {
	s, err := dsp.BandpassRBJ(r.Hz, r.Q, float64(p.Rate))
	if err != nil || r.Hz > 0.45*float64(p.Rate) {
		return 0
	}
	fall := math.Log(gainMost / gainSettled)
	return 2*dsp.Settles([]dsp.Biquad{s}) + int(math.Ceil(float64(p.Rate)/1000*fall*(r.Release+r.Attack)))
}

// Words says it.
func (r *Ring) Words() string {
	return fmt.Sprintf(
		"bell at %g Hz, Q %g, down by at most %s dB while it rings over %s dB",
		r.Hz,
		r.Q,
		figure.Signed(r.Range, -1),
		figure.Signed(r.Threshold, -1),
	)
}

// Warning is that of a range over 6 dB.
func (r *Ring) Warning() string { return bigCut(r.Range) }

// Processor lowers the band of both channels alike, or of the mid or the side.
func (r *Ring) Processor(p Place) (Processor, error) {
	if err := Validate(r); err != nil {
		return nil, err
	}
	out := &ringing{of: r}
	if r.Hz > 0.45*float64(p.Rate) || r.Range == 0 {
		return out, nil
	}
	s, err := dsp.BandpassRBJ(r.Hz, r.Q, float64(p.Rate))
	if err != nil {
		return nil, err
	}
	for range 2 {
		out.bands = append(out.bands, dsp.NewFilter([]dsp.Biquad{s}))
	}
	out.detector = NewDetector(Compressor{Threshold: r.Threshold, Ratio: r.Ratio, Knee: ringKnee, Attack: r.Attack, Release: r.Release}, r.Range, float64(p.Rate))
	return out, nil
}

type ringing struct {
	of       *Ring
	bands    []*dsp.Filter
	detector *Detector
	band     [2][]float32
}

func (*ringing) Latency() int { return 0 }

func (g *ringing) Process(x, _ audio.Buffer) {
	if g.bands == nil {
		return
	}
	chs := x.Ch
	if len(chs) == 1 {
		if g.of.Channels == "side" { // a mono sound has no side
			return
		}
	} else if g.of.Channels != "stereo" {
		turnMidSide(x, 0.5)
		defer turnMidSide(x, 1)
		if chs = x.Ch[:1]; g.of.Channels == "side" {
			chs = x.Ch[1:2]
		}
	}
	n := x.Frames()
	for c, ch := range chs {
		if cap(g.band[c]) < n {
			g.band[c] = make([]float32, n)
		}
		g.bands[c].Process(g.band[c][:n], ch)
	}
	for i := range n {
		top := float32(0)
		for c := range chs {
			top = max(top, g.band[c][i], -g.band[c][i])
		}
		db := g.detector.Next(float64(top))
		if db > -1e-4 {
			continue
		}
		gain := dsp.LevelGain(db)
		for c, ch := range chs {
			ch[i] += (gain - 1) * g.band[c][i]
		}
	}
}

// turnMidSide turns left and right into their sum and difference at a gain: at a half there, at one back.
func turnMidSide(x audio.Buffer, gain float32) {
	l, r := x.Ch[0], x.Ch[1]
	for i, v := range l {
		l[i], r[i] = gain*(v+r[i]), gain*(v-r[i])
	}
}
