package move

import (
	"errors"
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

// Limits of a drawn curve.
const (
	DuckFloor  = -60.0  // dB, the lowest gain of a point
	DuckPre    = -250.0 // ms, the earliest point before a hit
	DuckPost   = 2000.0 // ms, the latest after it
	DuckPoints = 24     // the most points
)

// bendRate is how strongly a bend of 1 curves a segment: the ratio of its end slopes is
// exp(bendRate).
const bendRate = 6.0

var duckKind = &Kind{
	Own:  true,
	Name: "duck", Label: "Duck", Does: "lowers the sound at every hit of a trigger",
	Where: OnStem | OnBus, Linear: true, New: func() Params { return StartingDuck() },
}

// StartingDuck is what drawing begins with: the middle of the usual depth, common practice.
func StartingDuck() *Duck {
	return &Duck{School: CurveSchool, Points: []Point{{MS: -5}, {MS: 0, DB: -6}, {MS: 80, DB: -6}, {MS: 160}}}
}

// Duck lowers a stem or a bus at every hit of a trigger: along a drawn curve, by a compressor that the
// trigger keys, or in a band alone. It is linear in what it lowers.
type Duck struct {
	School  string      `json:"school"`  // "curve", "compressor" or "band"
	Trigger string      `json:"trigger"` // id of the song's trigger
	Points  []Point     `json:"points,omitempty"`
	Parts   []HitPart   `json:"parts,omitempty"`      // of a curve: hits that are ducked less than the rest
	Follow  bool        `json:"follow,omitempty"`     // of a curve: where the next hit is close its way back is shorter, see For
	Comp    *Compressor `json:"compressor,omitempty"` // of the keyed schools: the detector
	Key     *KeyFilter  `json:"key,omitempty"`
	Band    *Band       `json:"band,omitempty"`
}

// Wide reports whether the duck lowers the whole spectrum and not a band of it.
func (d *Duck) Wide() bool { return d.Band == nil }

// HitPart says by what part of the curve's depth, in dB, one hit is ducked.
type HitPart struct {
	At   float64 `json:"at_s"`
	Part float64 `json:"part"` // 0 to 1
}

// HitNear is how near two hits count as one, and a hit as the one that a time names, s.
const HitNear = 0.030

// PartAt returns the part for a hit at a time in the song, s.
func (d *Duck) PartAt(at float64) float64 {
	k := sort.Search(len(d.Parts), func(i int) bool { return d.Parts[i].At >= at-HitNear })
	if k < len(d.Parts) && d.Parts[k].At <= at+HitNear {
		return d.Parts[k].Part
	}
	return 1
}

// Point is a breakpoint of the gain curve.
type Point struct {
	MS   float64 `json:"ms"`             // after the hit; negative before it
	Note string  `json:"note,omitempty"` // the same as a note value; it follows the tempo
	DB   float64 `json:"db"`             // gain, 0 or less
	Bend float64 `json:"bend,omitempty"` // -1 to 1, of the segment to the next point; 0 straight in dB
}

// Kind is duck.
func (*Duck) Kind() *Kind { return duckKind }

// Fields are the trigger and, of the keyed schools, the detector's values; a curve's points have no field.
func (d *Duck) Fields() []field.Field {
	out := []field.Field{{Name: "trigger", Label: "hits of", Text: &d.Trigger, Trigger: true}}
	if d.Keyed() && d.Comp != nil {
		out = append(out, d.keyedFields()...)
	}
	return out
}

// Doc names what the fields do not.
func (*Duck) Doc() string { return "`school` and what belongs to it: see below" }

// Needs is the trigger's hits, or of the keyed schools its sound.
func (d *Duck) Needs() Needs {
	if d.Keyed() {
		return Needs{Trigger: d.Trigger, Sound: true}
	}
	return Needs{Trigger: d.Trigger, Hits: SongHits}
}

// Memory of a curve is none: its hits are known. Of a keyed duck it is that of its filters, and of the gain.
func (d *Duck) Memory(p Place) int {
	if !d.Keyed() {
		return 0
	}
	return max(d.Listens(p), d.Carrier().Memory(p)) + int(math.Ceil(MostAhead*float64(p.Rate)/1000))
}

// Words says it.
func (d *Duck) Words() string {
	switch {
	case d.School == BandSchool && d.Band != nil:
		return fmt.Sprintf("keyed band dip of %s dB at %g Hz", figure.Signed(d.Band.Range, 1), d.Band.Hz)
	case d.Keyed() && d.Comp != nil:
		return fmt.Sprintf("keyed compressor, threshold %s dB, ratio %g", figure.Signed(d.Comp.Threshold, 1), d.Comp.Ratio)
	}
	return fmt.Sprintf("ducks by %s dB", figure.Signed(-d.Depth(), 1))
}

// DepthDB is how far the duck goes at the most, dB, 0 or less.
func (d *Duck) DepthDB() float64 {
	switch {
	case d.School == BandSchool:
		return -d.Band.Range
	case d.Keyed():
		return -d.Comp.Reduction(0)
	}
	return d.Depth()
}

// Validate returns an error in plain words where a value is out of its range.
func (d *Duck) Validate() error { return Validate(d) }

// Check checks the points of a curve: at least two, in order of time, starting and ending at 0 dB.
func (d *Duck) Check() error {
	if d.Keyed() {
		return d.keyedCheck()
	}
	if d.School != CurveSchool {
		return fmt.Errorf("the school %q is not known", d.School)
	}
	if len(d.Points) < 2 {
		return errors.New("a duck curve needs at least two points")
	}
	if len(d.Points) > DuckPoints {
		return fmt.Errorf("a duck curve holds at most %d points", DuckPoints)
	}
	for i, p := range d.Parts {
		if !(p.Part >= 0 && p.Part <= 1) || !(p.At >= 0 && p.At <= audio.MaxSeconds) || i > 0 && p.At <= d.Parts[i-1].At {
			return fmt.Errorf("the part of hit %d is out of bounds", i+1)
		}
	}
	for i, p := range d.Points {
		n := i + 1
		switch {
		case math.IsNaN(p.MS+p.DB+p.Bend) || math.IsInf(p.MS+p.DB+p.Bend, 0):
			return fmt.Errorf("point %d is not a number", n)
		case p.MS < DuckPre || p.MS > DuckPost:
			return fmt.Errorf("point %d stands at %.1f ms; times from %g to %g ms are taken", n, p.MS, DuckPre, DuckPost)
		case p.DB > 0:
			return fmt.Errorf("point %d has a gain of %+.1f dB; a duck only lowers", n, p.DB)
		case p.DB < DuckFloor:
			return fmt.Errorf("point %d has a gain of %.1f dB; the lowest is %g", n, p.DB, DuckFloor)
		case p.Bend < -1 || p.Bend > 1:
			return fmt.Errorf("point %d has a bend of %.2f; bends go from -1 to 1", n, p.Bend)
		case i > 0 && p.MS <= d.Points[i-1].MS:
			return fmt.Errorf("point %d (%.1f ms) does not come after point %d (%.1f ms)", n, p.MS, i, d.Points[i-1].MS)
		}
	}
	if d.Points[0].DB != 0 || d.Points[len(d.Points)-1].DB != 0 {
		return errors.New("the first and the last point stay at 0 dB, or each hit would click")
	}
	return nil
}

// AtTempo returns a copy with the times of note values worked out for a tempo.
func (d *Duck) AtTempo(bpm float64) (*Duck, error) {
	c := *d
	if d.Keyed() {
		return &c, c.Check()
	}
	c.Points = append([]Point(nil), d.Points...)
	for i, p := range c.Points {
		if p.Note != "" {
			ms, err := field.NoteMS(p.Note, bpm)
			if err != nil {
				return nil, fmt.Errorf("point %d: %w", i+1, err)
			}
			c.Points[i].MS = ms
		}
	}
	return &c, c.Check()
}

// GainDB returns the gain in dB at a time in ms after a lone hit. Between points it moves
// by (e^(k u) - 1) / (e^k - 1) of the way, k = 6 bend: straight in dB where bend is 0.
func (d *Duck) GainDB(ms float64) float64 {
	if len(d.Points) == 0 {
		return 0
	}
	i := sort.Search(len(d.Points), func(i int) bool { return d.Points[i].MS > ms })
	if i == 0 || i == len(d.Points) {
		return 0
	}
	p, q := d.Points[i-1], d.Points[i]
	u := (ms - p.MS) / (q.MS - p.MS)
	if k := bendRate * p.Bend; math.Abs(k) > 1e-6 {
		u = math.Expm1(k*u) / math.Expm1(k)
	}
	return p.DB + (q.DB-p.DB)*u
}

// Depth returns the deepest gain in dB, 0 or less.
func (d *Duck) Depth() float64 {
	low := 0.0
	for _, p := range d.Points {
		low = min(low, p.DB)
	}
	return low
}

// Span returns the times of the first and the last point, ms.
func (d *Duck) Span() (from, to float64) {
	if len(d.Points) == 0 {
		return 0, 0
	}
	return d.Points[0].MS, d.Points[len(d.Points)-1].MS
}

// Processor returns the gain at p's hits, or by the key. A curve has no latency: hits are known
// ahead.
func (d *Duck) Processor(p Place) (Processor, error) {
	if d.Keyed() {
		if err := d.Check(); err != nil {
			return nil, err
		}
		return newKeyedGain(d, p)
	}
	c, err := d.AtTempo(p.BPM)
	if err != nil {
		return nil, err
	}
	return newDuckGain(c, p), nil
}

// Gain returns the gain curve as amplitude, n frames from p.Start on.
func (d *Duck) Gain(p Place, n int) ([]float32, error) {
	c, err := d.AtTempo(p.BPM)
	if err != nil {
		return nil, err
	}
	g := make([]float32, n)
	newDuckGain(c, p).fill(g)
	return g, nil
}

// How a curve follows the gap to the next hit.
const (
	LetGo    = 1.0 // ms before the next hit at which it is back
	DeepNear = 0.1 // dB; points as near to the deepest hold it
	ClickDB  = 3.0 // dB/ms; steeper gains click
)

// Back returns when a curve begins its way back, at the last point that holds its depth, and the steepest that it then
// comes back, dB/ms.
func (d *Duck) Back() (from, steepest float64) {
	at, low := 0, d.Depth()+DeepNear
	for i, p := range d.Points {
		if p.DB <= low {
			at = i
		}
	}
	for i := at; i+1 < len(d.Points); i++ {
		p, q := d.Points[i], d.Points[i+1]
		slope := (q.DB - p.DB) / (q.MS - p.MS)
		if k := math.Abs(bendRate * p.Bend); k > 1e-6 {
			slope *= k / -math.Expm1(-k) // at one of its ends
		}
		steepest = math.Max(steepest, slope)
	}
	return d.Points[at].MS, steepest
}

// Squeeze returns from where on, and by what part, the way back of a curve is shortened where the next hit comes gap ms
// later: so that it is back LetGo before that, but never steeper than ClickDB. The part is 1 where nothing is.
func (d *Duck) Squeeze(gap float64) (from, by float64) {
	_, end := d.Span()
	if !d.Follow || end <= gap-LetGo {
		return 0, 1
	}
	from, steepest := d.Back()
	if end <= from {
		return 0, 1
	}
	return from, math.Min(1, math.Max((gap-LetGo-from)/(end-from), steepest/ClickDB))
}

// For returns the curve of a hit whose next one comes gap ms later: the duck itself where nothing is shortened. Its
// times are worked out.
func (d *Duck) For(gap float64) *Duck {
	from, by := d.Squeeze(gap)
	if by == 1 {
		return d
	}
	c := *d
	c.Follow, c.Points = false, append([]Point(nil), d.Points...)
	for i, p := range c.Points {
		if p.MS > from {
			c.Points[i].MS = from + (p.MS-from)*by
		}
	}
	return &c
}

// duckGain lays the curve of one hit at every hit; where two overlap the lower counts.
type duckGain struct {
	duck   *Duck
	rate   float64
	curves map[float64][]float32 // by part: amplitude, from frame first (relative to the hit) on
	first  int
	length int
	hits   []int
	next   *Duck // the curve before a next hit at gap, as it was last worked out
	gap    int
	at     int // frame of the next block
	buffer []float32
}

func newDuckGain(d *Duck, p Place) *duckGain {
	from, to := d.Span()
	perMS := float64(p.Rate) / 1000
	g := &duckGain{duck: d, rate: float64(p.Rate), curves: map[float64][]float32{}, first: int(math.Floor(from * perMS)), hits: p.Hits, at: p.Start}
	g.length = int(math.Ceil(to*perMS)) - g.first + 1
	return g
}

// curve returns the gain of a hit that is ducked by a part of the depth.
func (g *duckGain) curve(part float64) []float32 {
	c := g.curves[part]
	if c == nil {
		c = make([]float32, g.length)
		for i := range c {
			c[i] = float32(dsp.Gain(part * g.duck.GainDB(1000*float64(g.first+i)/g.rate)))
		}
		g.curves[part] = c
	}
	return c
}

func (g *duckGain) fill(out []float32) {
	for i := range out {
		out[i] = 1
	}
	end := g.at + len(out)
	for i, h := range g.hits {
		from := h + g.first
		if from >= end {
			break
		}
		lo, hi := max(from, g.at), min(from+g.length, end)
		if lo >= hi {
			continue
		}
		part := g.duck.PartAt(float64(h) / g.rate)
		if g.duck.Follow && i+1 < len(g.hits) {
			if d := g.before(g.hits[i+1] - h); d != g.duck {
				for n := lo; n < hi; n++ {
					out[n-g.at] = min(out[n-g.at], float32(dsp.Gain(part*d.GainDB(1000*float64(n-h)/g.rate))))
				}
				continue
			}
		}
		curve := g.curve(part)
		for n := lo; n < hi; n++ {
			out[n-g.at] = min(out[n-g.at], curve[n-from])
		}
	}
	g.at = end
}

// before is the curve of a hit whose next one comes so many frames later.
func (g *duckGain) before(gap int) *Duck {
	if g.next == nil || g.gap != gap {
		g.next, g.gap = g.duck.For(1000*float64(gap)/g.rate), gap
	}
	return g.next
}

// Process lowers all channels alike.
func (g *duckGain) Process(x, _ audio.Buffer) {
	if cap(g.buffer) < x.Frames() {
		g.buffer = make([]float32, x.Frames())
	}
	gain := g.buffer[:x.Frames()]
	g.fill(gain)
	for c := range x.Ch {
		for i, v := range gain {
			x.Ch[c][i] *= v
		}
	}
}

// Latency is 0.
func (g *duckGain) Latency() int { return 0 }
