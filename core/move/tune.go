package move

import (
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/field"
	"mellowthump/core/figure"
)

var tuneKind = &Kind{
	Own:  true,
	Slow: true,
	Name: "tune", Label: "Tuning", Does: "changes the pitch and leaves the length",
	Where: OnStem, Linear: true, New: func() Params { return &Tune{} },
}

// TuneMost is how far a stem may be tuned to either side, cents.
const TuneMost = 1200.0

// Tune changes the pitch by reading the stem at another speed (band-limited) from every mark on.
// Struck sounds are read from hit to hit, as a sampler would play them: a hit tuned up is over
// sooner, one tuned down is cut off at the next. A line is read from note to note; where the
// reading runs too far ahead or behind it steps back by whole periods, with a crossfade.
type Tune struct {
	Cents   float64    `json:"cents"`
	Trigger string     `json:"trigger,omitempty"` // of a struck sound: whose hits are the marks; empty: a line
	Notes   []NoteTune `json:"notes,omitempty"`   // of a line: where its notes begin, and their own cents
}

// NoteTune is a note of a line.
type NoteTune struct {
	At    float64 `json:"at_s"`            // in the song
	Cents float64 `json:"cents,omitempty"` // on top of the whole stem's
}

// Kind is tune.
func (*Tune) Kind() *Kind { return tuneKind }

// Fields are the whole stem's tuning and the hits of a struck sound; the notes of a line have no field.
func (t *Tune) Fields() []field.Field {
	return []field.Field{
		{Name: "cents", Label: "tuning", Unit: "cents", Number: &t.Cents, Lo: -TuneMost, Hi: TuneMost, Step: 1},
		{Name: "trigger", Label: "hits of", Text: &t.Trigger, Trigger: true, None: true},
	}
}

// Doc names what the fields do not.
func (*Tune) Doc() string { return "for a line `notes`, `[{at_s, cents}]`" }

// Needs is the stem's own hits, of a struck sound.
func (t *Tune) Needs() Needs {
	if t.Trigger == "" {
		return Needs{}
	}
	return Needs{Trigger: t.Trigger, Hits: OwnHits}
}

// Words says it.
func (t *Tune) Words() string { return "detuned by " + figure.Signed(t.Cents, -1) + " cents" }

// Check bounds the notes.
func (t *Tune) Check() error {
	if len(t.Notes) > tuneNotes {
		return fmt.Errorf("a line of more than %d notes", tuneNotes)
	}
	for i, n := range t.Notes {
		if !(math.Abs(n.Cents+t.Cents) <= TuneMost) || !(n.At >= 0 && n.At <= audio.MaxSeconds) || i > 0 && n.At <= t.Notes[i-1].At {
			return fmt.Errorf("note %d of the line is out of bounds", i+1)
		}
	}
	return nil
}

const (
	tuneNotes  = 20000
	tuneTaps   = 32
	tunePhases = 512
	tuneDrift  = 0.030 // s that a line is read ahead or behind, at the most
	tuneLong   = 0.042 // s, the longest period that is stepped by: 24 Hz
	tuneShort  = 0.004 // s, the shortest step
	tuneFade   = 0.012 // s of crossfade at a step
	tuneMatch  = 0.030 // s over which the place of a step is matched
	tuneMark   = 0.003 // s of crossfade before a mark
	tuneTail   = 2.0   // s after a hit that are read
)

// Memory is the time back to the mark before the start, and to what a step from there on may be matched with.
func (t *Tune) Memory(p Place) int {
	marks, _ := t.marks(p)
	k := sort.SearchInts(marks, p.Start+1) - 1
	if k < 0 {
		return max(0, p.Start)
	}
	return p.Start - marks[k] + int((tuneDrift+tuneLong+tuneMatch+tuneFade)*float64(p.Rate)) + tuneTaps
}

// marks returns the frames at which reading starts anew, and the ratio of speeds from each on.
func (t *Tune) marks(p Place) (at []int, ratio []float64) {
	speed := func(cents float64) float64 { return math.Pow(2, cents/1200) }
	if t.Trigger != "" {
		for _, h := range p.Hits {
			at, ratio = append(at, h), append(ratio, speed(t.Cents))
		}
		return at, ratio
	}
	for _, n := range t.Notes {
		at, ratio = append(at, int(math.Round(n.At*float64(p.Rate)))), append(ratio, speed(t.Cents+n.Cents))
	}
	return at, ratio
}

// Processor reads ahead by as much as the tuning needs.
func (t *Tune) Processor(p Place) (Processor, error) {
	if err := Validate(t); err != nil {
		return nil, err
	}
	rate := float64(p.Rate)
	r := &tuning{struck: t.Trigger != "", plain: math.Pow(2, t.Cents/1200), start: p.Start, base: p.Start, at: p.Start, rate: rate}
	r.marks, r.ratios = t.marks(p)
	fastest := r.plain
	for _, v := range r.ratios {
		fastest = max(fastest, v)
	}
	r.latency = int((tuneDrift+tuneLong+tuneMatch+tuneFade)*rate) + tuneTaps
	if r.struck {
		ahead := 0
		for i, m := range r.marks {
			gap := int(tuneTail * rate)
			if i+1 < len(r.marks) {
				gap = min(gap, r.marks[i+1]-m)
			}
			ahead = max(ahead, gap)
		}
		r.latency = int(float64(ahead)*max(0, fastest-1)) + tuneTaps
	}
	r.table = sincTable(min(1, 1/fastest))
	r.mark = sort.SearchInts(r.marks, p.Start+1) - 1
	return r, nil
}

// sincTable holds windowed-sinc taps for positions between samples, with a cutoff relative to
// half the rate.
func sincTable(cutoff float64) [][]float32 {
	table := make([][]float32, tunePhases+1)
	for i := range table {
		frac := float64(i) / tunePhases
		table[i] = make([]float32, tuneTaps)
		sum := 0.0
		var h [tuneTaps]float64
		for k := range h {
			u := float64(k) - (tuneTaps/2 - 1) - frac
			h[k] = cutoff
			if u != 0 {
				h[k] = math.Sin(math.Pi*cutoff*u) / (math.Pi * u)
			}
			h[k] *= dsp.Kaiser(u/(tuneTaps/2), 9)
			sum += h[k]
		}
		for k := range h {
			table[i][k] = float32(h[k] / sum)
		}
	}
	return table
}

// tuning reads its input at another speed.
type tuning struct {
	struck  bool
	plain   float64 // ratio before the first mark
	marks   []int
	ratios  []float64
	mark    int // the mark that is read from, -1 before the first
	start   int // frame of the first sample of all
	latency int
	rate    float64
	table   [][]float32

	in    [][]float32 // of each channel, from frame base on
	base  int
	at    int     // frame that comes out next
	drift float64 // frames by which the reading is ahead
	// a crossfade under way: the reading that fades out
	old       float64 // its drift
	fade, len int     // frames left, of how many
}

func (t *tuning) Latency() int { return t.latency }

func (t *tuning) Process(x, _ audio.Buffer) {
	if t.in == nil {
		t.in = make([][]float32, len(x.Ch))
	}
	fed := t.base + len(t.in[0])
	for c, ch := range x.Ch {
		t.in[c] = append(t.in[c], ch...)
	}
	n := x.Frames()
	for i := range n {
		if fed+i-t.latency < t.start { // nothing is due yet
			for c := range x.Ch {
				x.Ch[c][i] = 0
			}
			continue
		}
		t.step(x, i)
	}
	// what lies further back than anything can reach is forgotten
	keep := t.at - int((tuneDrift+tuneLong+tuneMatch+tuneFade)*t.rate) - tuneTaps
	if t.struck {
		keep = t.at - tuneTaps
		if t.mark >= 0 {
			keep = min(keep, int(float64(t.at)+min(t.drift, t.old))-tuneTaps)
		}
	}
	if drop := keep - t.base; drop > 1<<15 {
		for c := range t.in {
			t.in[c] = append(t.in[c][:0], t.in[c][drop:]...)
		}
		t.base += drop
	}
}

// step makes one frame.
func (t *tuning) step(x audio.Buffer, i int) {
	if t.mark+1 < len(t.marks) && t.at >= t.marks[t.mark+1] {
		t.mark++
		t.drift, t.fade = 0, 0
	}
	ratio := t.plain
	if t.mark >= 0 {
		ratio = t.ratios[t.mark]
	}
	next := math.MaxInt32
	if t.mark+1 < len(t.marks) {
		next = t.marks[t.mark+1]
	}
	if t.struck {
		t.struckFrame(x, i, next)
	} else {
		t.lineFrame(x, i, next)
	}
	t.drift += ratio - 1
	t.old += ratio - 1
	t.at++
}

// struckFrame reads a hit as a sampler would: gone before the next, and after its tail.
func (t *tuning) struckFrame(x audio.Buffer, i, next int) {
	if t.mark < 0 { // before the first hit nothing is struck
		for c := range x.Ch {
			x.Ch[c][i] = t.read(c, float64(t.at))
		}
		return
	}
	pos := float64(t.at) + t.drift
	g := float32(1)
	edge := tuneMark * t.rate
	for _, left := range []float64{float64(next - t.at), float64(next) - pos, float64(t.marks[t.mark]) + tuneTail*t.rate - float64(t.at)} {
		g = min(g, float32(max(0, min(1, left/edge))))
	}
	for c := range x.Ch {
		x.Ch[c][i] = g * t.read(c, pos)
	}
}

// lineFrame reads a line, stepping by whole periods where it runs ahead or behind.
func (t *tuning) lineFrame(x audio.Buffer, i, next int) {
	edge := int(tuneMark * t.rate)
	if t.fade == 0 {
		far := tuneDrift * t.rate
		switch pos := float64(t.at) + t.drift; {
		case t.at >= next-edge && t.drift != 0: // the next note is read from its own start
			t.begin(0, max(1, next-t.at))
		case t.drift > far || t.drift > 0 && pos > float64(next)-tuneFade*t.rate-float64(edge):
			t.begin(t.drift-t.period(pos, -1), int(tuneFade*t.rate))
		case t.drift < -far:
			t.begin(t.drift+t.period(pos, 1), int(tuneFade*t.rate))
		}
	}
	for c := range x.Ch {
		v := t.read(c, float64(t.at)+t.drift)
		if t.fade > 0 {
			w := t.read(c, float64(t.at)+t.old)
			v += (w - v) * float32(t.fade) / float32(t.len)
		}
		x.Ch[c][i] = v
	}
	if t.fade > 0 {
		t.fade--
	}
}

func (t *tuning) begin(drift float64, frames int) {
	t.old, t.drift = t.drift, drift
	t.fade, t.len = frames, frames
}

// period finds how far from pos, back (-1) or ahead (1), the sound is most like itself; frames.
func (t *tuning) period(pos float64, direction int) float64 {
	n := int(tuneMatch * t.rate)
	from := int(pos)
	skip := max(1, int(t.rate/11025)) // fine enough to match a bass
	best, at := math.Inf(-1), int(tuneLong*t.rate)/2
	score := func(lag int) float64 {
		var xy, xx, yy float64
		for k := 0; k < n; k += skip {
			a, b := t.sample(from+k), t.sample(from+k+direction*lag)
			xy, xx, yy = xy+a*b, xx+a*a, yy+b*b
		}
		if xx == 0 || yy == 0 {
			return 0
		}
		return xy / math.Sqrt(xx*yy)
	}
	lo, hi := int(tuneShort*t.rate), int(tuneLong*t.rate)
	for lag := lo; lag <= hi; lag += skip {
		// the longer step is taken where it is as good: fewer steps
		if s := score(lag) + 0.002*float64(lag)/float64(hi); s > best {
			best, at = s, lag
		}
	}
	for _, lag := range []int{at - 2, at - 1, at + 1, at + 2} {
		if s := score(lag) + 0.002*float64(lag)/float64(hi); lag >= lo && lag <= hi && s > best {
			best, at = s, lag
		}
	}
	return float64(at)
}

// sample returns the sum of the channels at a frame, 0 outside what is known.
func (t *tuning) sample(frame int) float64 {
	k := frame - t.base
	if k < 0 || k >= len(t.in[0]) {
		return 0
	}
	s := 0.0
	for c := range t.in {
		s += float64(t.in[c][k])
	}
	return s
}

// read interpolates a channel at a position in frames.
func (t *tuning) read(c int, pos float64) float32 {
	whole := math.Floor(pos)
	frac := pos - whole
	k := int(whole) - t.base - (tuneTaps/2 - 1)
	in := t.in[c]
	if frac < 1e-9 {
		if j := int(whole) - t.base; j >= 0 && j < len(in) && t.plainTable() {
			return in[j]
		}
	}
	h := t.table[int(frac*tunePhases+0.5)]
	if k >= 0 && k+tuneTaps <= len(in) {
		var s float32
		for j, v := range in[k : k+tuneTaps] {
			s += v * h[j]
		}
		return s
	}
	var s float32
	for j := range tuneTaps {
		if k+j >= 0 && k+j < len(in) {
			s += in[k+j] * h[j]
		}
	}
	return s
}

// plainTable reports whether nothing is filtered off, so that a whole position is its sample.
func (t *tuning) plainTable() bool { return len(t.table) > 0 && t.table[0][tuneTaps/2-1] > 0.9999 }
