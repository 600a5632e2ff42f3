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

var dropKind = &Kind{
	Own:  true,
	Name: "drop", Label: "Pitch drop", Does: "lets the notes of a bass fall in pitch",
	Where: OnStem, Linear: true, New: func() Params { return &Drop{From: DropStart, Semitones: 12, MS: 60, Curve: "early"} },
}

// Where a pitch drop begins.
const (
	DropStart   = "start"   // a note begins higher and falls to its own pitch
	DropRelease = "release" // it falls away from it before its end
)

// Drop lets every note of a line fall: from its start, beginning so many semitones higher (or lower) and coming to its own
// pitch in ms; or from its release, its last ms, away from it. The sound is read faster or slower, and whole periods of the
// note's own pitch are left out or played twice, with a crossfade of one period, so that its length stays. Where no note falls
// it is a null.
type Drop struct {
	From      string     `json:"from"` // "start" or "release"
	Semitones float64    `json:"semitones"`
	MS        float64    `json:"ms"`
	Curve     string     `json:"curve"` // "straight", "early" or "late"
	Notes     []DropNote `json:"notes"`
}

// DropNote is a note of the line: from and to in the song, s, and its pitch.
type DropNote struct {
	At  float64 `json:"at_s"`
	End float64 `json:"end_s"`
	Hz  float64 `json:"hz"`
}

const (
	dropLate    = 0.055 // s by which all comes out late: room for half a period of the lowest note and a crossfade
	dropLowest  = 25.0  // Hz
	dropMany    = 20000
	dropPhases  = 256
	dropReaches = dsp.SincTaps/2 + 1
)

// Kind is drop.
func (*Drop) Kind() *Kind { return dropKind }

// Fields are the law; the notes have no field.
func (d *Drop) Fields() []field.Field {
	return []field.Field{
		{Name: "from", Label: "from", Text: &d.From, Choices: field.Choices(DropStart, "its start", DropRelease, "its release")},
		{Name: "semitones", Label: "semitones", Number: &d.Semitones, Lo: -24, Hi: 24, Step: 1},
		{Name: "ms", Label: "over", Unit: "ms", Number: &d.MS, Lo: 5, Hi: 2000, Step: 5},
		{Name: "curve", Label: "curve", Text: &d.Curve, Choices: field.Choices("straight", "straight", "early", "most of it early", "late", "most of it late")},
	}
}

// Doc names what the fields do not.
func (*Drop) Doc() string { return "`notes`, `[{at_s, end_s, hz}]`, in order" }

// Check bounds the notes.
func (d *Drop) Check() error {
	if len(d.Notes) > dropMany {
		return fmt.Errorf("more than %d notes", dropMany)
	}
	for i, n := range d.Notes {
		if !(n.At >= 0 && n.End > n.At && n.End <= audio.MaxSeconds) || !(n.Hz >= dropLowest && n.Hz <= 1000) || i > 0 && n.At < d.Notes[i-1].End-1e-9 {
			return fmt.Errorf("note %d is out of bounds", i+1)
		}
	}
	return nil
}

// Needs is nothing: the notes are its own.
func (*Drop) Needs() Needs { return Needs{} }

// Memory reaches back before the note that sounds at the place, and the sound that it is read from.
func (d *Drop) Memory(p Place) int {
	late := int(dropLate * float64(p.Rate))
	at := float64(p.Start-late) / float64(p.Rate)
	back := 3 * late
	for _, n := range d.Notes {
		if n.At <= at && n.End > at-0.01 {
			back += int((at - n.At) * float64(p.Rate))
		}
	}
	return back
}

// Words says it.
func (d *Drop) Words() string {
	if d.From == DropRelease {
		return fmt.Sprintf("%d notes fall by %s semitones in their last %s ms", len(d.Notes), figure.Short(d.Semitones), figure.Short(d.MS))
	}
	return fmt.Sprintf("%d notes fall by %s semitones to their pitch in %s ms", len(d.Notes), figure.Short(d.Semitones), figure.Short(d.MS))
}

// Offset is the law: by how many semitones a note is off its pitch at a time in s.
func (d *Drop) Offset(n DropNote, at float64) float64 {
	if at < n.At || at >= n.End {
		return 0
	}
	length := math.Min(d.MS/1000, n.End-n.At)
	u := (at - n.At) / length
	if d.From == DropRelease {
		u = (at - (n.End - length)) / length
	}
	u = math.Max(0, math.Min(1, u))
	switch d.Curve {
	case "early":
		u = 1 - (1-u)*(1-u)
	case "late":
		u *= u
	}
	if d.From == DropRelease {
		return -d.Semitones * u
	}
	return d.Semitones * (1 - u)
}

// dropTaps are the taps of a reading between frames.
var dropTaps = func() (h [dropPhases][dsp.SincTaps]float32) {
	for k := range h {
		h[k] = dsp.FractionalDelay(float64(k) / dropPhases)
	}
	return h
}()

// Processor reads every channel at the same places.
func (d *Drop) Processor(p Place) (Processor, error) {
	if err := Validate(d); err != nil {
		return nil, err
	}
	late := int(dropLate * float64(p.Rate))
	return &dropping{of: *d, rate: float64(p.Rate), late: late, keeps: 2*late + dsp.SincTaps, at: p.Start - late, lag: float64(late), next: p.Start - late}, nil
}

type dropping struct {
	of          Drop
	rate        float64
	late, keeps int // frames: of the latency; of the past that is kept
	at          int // song frame of the next sample that comes out
	next        int
	lag         float64 // frames behind the newest sample at which it is read
	old         float64 // likewise before a jump
	fade, long  float64 // frames left of a crossfade; its length
	past        [][]float32
}

func (g *dropping) Latency() int { return g.late }

// step moves the places of the readings on by a frame.
func (g *dropping) step() {
	at := float64(g.at) / g.rate
	notes := g.of.Notes
	k := sort.Search(len(notes), func(i int) bool { return notes[i].At > at }) - 1
	home := float64(g.late)
	if g.fade > 0 {
		g.fade--
	}
	jump := func(to float64, over float64) {
		g.old, g.lag, g.fade, g.long = g.lag, to, over, over
	}
	join := 0.004
	soon := k+1 < len(notes) && notes[k+1].At-at < join // the next note is read as it is from its start on
	if k < 0 || at >= notes[k].End || soon {
		if g.lag != home {
			over := join
			if soon {
				over = math.Max(1/g.rate, notes[k+1].At-at)
			}
			jump(home, math.Floor(over*g.rate))
		}
		return
	}
	n := notes[k]
	off := g.of.Offset(n, at)
	if off == 0 {
		return
	}
	by := math.Exp2(off/12) - 1
	g.lag -= by
	if g.fade > 0 {
		g.old -= by
		return
	}
	period := g.rate / n.Hz
	if math.Abs(g.lag-home) > period/2 {
		jump(g.lag+math.Copysign(period, home-g.lag), math.Min(period/2, 0.006*g.rate))
	}
}

// read is a channel's sound so many frames behind its newest sample, which is w's sample at i.
func read(w []float32, i int, lag float64) float32 {
	whole := math.Floor(lag)
	k := int((lag - whole) * dropPhases)
	from := i - int(whole)
	if k == 0 && lag-whole < 1e-9 {
		return w[max(0, from)]
	}
	h := &dropTaps[k]
	from += dsp.SincTaps/2 - 1 // the taps delay by so much themselves
	if from >= len(w) || from-dsp.SincTaps+1 < 0 {
		return w[max(0, min(len(w)-1, i-int(whole)))]
	}
	var v float32
	for j, t := range h {
		v += t * w[from-j]
	}
	return v
}

func (g *dropping) Process(x, _ audio.Buffer) {
	n := x.Frames()
	type place struct {
		lag, old float64
		part     float32 // of the old one
	}
	places := make([]place, n)
	still := true
	for i := range places {
		g.step()
		p := place{lag: g.lag}
		if g.fade > 0 {
			p.old, p.part = g.old, float32(0.5-0.5*math.Cos(math.Pi*g.fade/g.long)) // no kink at either end
		}
		still = still && p.part == 0 && p.lag == float64(g.late)
		places[i] = p
		g.at++
	}
	for c, ch := range x.Ch {
		if c == len(g.past) {
			g.past = append(g.past, make([]float32, g.keeps))
		}
		w := append(g.past[c], ch...)
		if still {
			copy(ch, w[g.keeps-g.late:])
		} else {
			for i, p := range places {
				v := read(w, g.keeps+i, p.lag)
				if p.part > 0 {
					v += (read(w, g.keeps+i, p.old) - v) * p.part
				}
				ch[i] = v
			}
		}
		g.past[c] = append(g.past[c][:0], w[len(w)-g.keeps:]...)
	}
}
