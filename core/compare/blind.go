package compare

import (
	"crypto/rand"
	"errors"
	"fmt"
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
)

// The kinds of blind tests.
const (
	SameOrDifferent = "same"   // do the two of a trial differ?
	Preference      = "prefer" // which of the two of a trial is better?
)

// Trials of a blind test.
const (
	TrialsUsual = 10
	TrialsLeast = 5
	TrialsMost  = 100
)

// Blind is a blind test of two sounds, A and B. All trials are drawn before the first is heard.
type Blind struct {
	Kind    string    `json:"kind"`
	Order   [][2]bool `json:"order"`   // of each trial: whether its first and its second sound are B
	Answers []bool    `json:"answers"` // same-or-different: that they differ; preference: that the second is better
}

// NewBlind draws the order of a test from the system's source of randomness. Each trial is drawn by itself: what came before tells nothing.
func NewBlind(kind string, trials int) (*Blind, error) {
	if kind != SameOrDifferent && kind != Preference {
		return nil, errors.New("a blind test asks for same or different, or for which is better")
	}
	if trials < TrialsLeast || trials > TrialsMost {
		return nil, fmt.Errorf("a blind test has %d to %d trials, not %d", TrialsLeast, TrialsMost, trials)
	}
	b := &Blind{Kind: kind, Answers: []bool{}}
	bits := make([]byte, trials)
	rand.Read(bits) // never fails
	for _, v := range bits {
		o := [2]bool{v&1 != 0, v&2 != 0}
		if kind == Preference {
			o[1] = !o[0]
		}
		b.Order = append(b.Order, o)
	}
	return b, nil
}

// Done reports whether all trials are answered.
func (b *Blind) Done() bool { return len(b.Answers) >= len(b.Order) }

// Answer answers the next trial, which has to be this one, from 0 on; others were answered before, or come later.
func (b *Blind) Answer(trial int, second bool) error {
	if b.Done() || trial != len(b.Answers) {
		return errors.New("that trial is not the one that is open")
	}
	b.Answers = append(b.Answers, second)
	return nil
}

// Result is what came of a test.
type Result struct {
	Hits   int     // same-or-different: right answers; preference: for B
	Trials int     //
	Chance float64 // of so many or more right by guessing; of a preference so uneven or more, either way, by tossing a coin
}

// Result counts a test; ok is false before its end.
func (b *Blind) Result() (r Result, ok bool) {
	if !b.Done() {
		return r, false
	}
	r.Trials = len(b.Order)
	for i, o := range b.Order {
		hit := b.Answers[i] == (o[0] != o[1])
		if b.Kind == Preference {
			hit = o[0] != b.Answers[i] // the second was chosen and is B, or the first was and is
		}
		if hit {
			r.Hits++
		}
	}
	r.Chance = AtLeast(r.Hits, r.Trials)
	if b.Kind == Preference {
		r.Chance = math.Min(1, 2*AtLeast(max(r.Hits, r.Trials-r.Hits), r.Trials))
	}
	return r, true
}

// AtLeast is the exact chance of k or more heads in n tosses: the upper tail of the binomial distribution with p = 1/2.
func AtLeast(k, n int) float64 {
	if k <= 0 {
		return 1
	}
	sum := 0.0
	for i := k; i <= n; i++ {
		a, _ := math.Lgamma(float64(n + 1))
		b, _ := math.Lgamma(float64(i + 1))
		c, _ := math.Lgamma(float64(n - i + 1))
		sum += math.Exp(a - b - c - float64(n)*math.Ln2)
	}
	return math.Min(1, sum)
}

// sure is the chance under which a result is taken as heard: common practice.
const sure = 0.05

// Says says what came of a test of two named sounds.
func (b *Blind) Says(a, second string) string {
	r, ok := b.Result()
	if !ok {
		return fmt.Sprintf("Left after %d of %d trials: no result.", len(b.Answers), len(b.Order))
	}
	if b.Kind == Preference {
		liked, n := second, r.Hits
		if r.Hits < r.Trials-r.Hits {
			liked, n = a, r.Trials-r.Hits
		}
		switch {
		case 2*n == r.Trials:
			return fmt.Sprintf("Even: %d of %d for each. Neither is better.", n, r.Trials)
		case r.Chance < sure:
			return fmt.Sprintf("%s was better %d of %d times. A coin is as uneven in %s of tests: it is preferred.", liked, n, r.Trials, percent(r.Chance))
		}
		return fmt.Sprintf("%s was better %d of %d times. A coin is as uneven in %s of tests: no clear preference.", liked, n, r.Trials, percent(r.Chance))
	}
	out := fmt.Sprintf("%d of %d right. Guessing does as well in %s of tests: ", r.Hits, r.Trials, percent(r.Chance))
	if r.Chance < sure {
		return out + "the difference is heard."
	}
	return out + "no difference was shown."
}

func percent(p float64) string {
	switch p *= 100; {
	case p < 0.1:
		return "under 0.1 %"
	case p < 10:
		return figure.Short(p) + " %"
	}
	return fmt.Sprintf("%.0f %%", p)
}

// ErrLoud is said of two sounds that cannot be made equally loud.
var ErrLoud = errors.New("one of the two is silent, or too short to have a loudness: there is nothing to match")

// ErrSame is said of two sounds between which there is nothing to hear.
var ErrSame = errors.New("the two are the same sound here, to the last bit but one: there is nothing to hear between them")

// Same reports whether two sounds of Pair are the same but for a step of 24 bits.
func Same(p [2]audio.Buffer) bool {
	const step = 1.5 / (1 << 23)
	for c, ch := range p[0].Ch {
		for i, v := range ch {
			if d := v - p[1].Ch[c][i]; d > step || d < -step {
				return false
			}
		}
	}
	return true
}

// Pair makes two sounds alike in all but what is to be heard: stereo, of one length, equally loud by ITU-R BS.1770 (the louder
// is turned down, both where a peak would pass -1 dBFS). The error is ErrLoud where one has no loudness. matched false leaves
// their levels as they stand to each other.
func Pair(a, b audio.Buffer, matched bool) ([2]audio.Buffer, error) {
	var out [2]audio.Buffer
	n := min(a.Frames(), b.Frames())
	var loud [2]meter.Figure
	for i, x := range []audio.Buffer{a, b} {
		out[i] = audio.New(x.Rate, 2, n)
		for c := range out[i].Ch {
			copy(out[i].Ch[c], x.Ch[min(c, len(x.Ch)-1)])
		}
		if loud[i] = meter.IntegratedLoudness(out[i]); !loud[i].Valid() {
			return out, ErrLoud
		}
	}
	gains := [2]float64{}
	if matched {
		soft := math.Min(float64(loud[0]), float64(loud[1]))
		gains = [2]float64{soft - float64(loud[0]), soft - float64(loud[1])}
	}
	over := 0.0
	for i := range out {
		if p := float64(meter.PeakDB(out[i].Ch...)) + gains[i] + 1; p > over {
			over = p
		}
	}
	for i := range out {
		g := float32(dsp.Gain(gains[i] - over))
		for _, ch := range out[i].Ch {
			for k := range ch {
				ch[k] *= g
			}
		}
	}
	return out, nil
}

// Veiled is a sound with a dither of its own each time, triangular, of one step of 24 bits: no two that go out are the same to
// the bit, whether they differ or not.
func Veiled(x audio.Buffer) audio.Buffer {
	const step = 1.0 / (1 << 23)
	out := audio.New(x.Rate, len(x.Ch), x.Frames())
	var seed [8]byte
	rand.Read(seed[:])
	state := uint64(0)
	for _, v := range seed {
		state = state<<8 | uint64(v)
	}
	next := func() float64 {
		state = state*6364136223846793005 + 1442695040888963407
		return float64(state>>11) / (1 << 53)
	}
	for c, ch := range x.Ch {
		for i, v := range ch {
			out.Ch[c][i] = float32(float64(v) + step*(next()-next()))
		}
	}
	return out
}
