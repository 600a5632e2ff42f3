package compare

import (
	"crypto/rand"
	"fmt"
	"math/big"

	"mellowthump/core/figure"
)

// Drill is a kind of question for the ears: two sounds of one loop, of which the second was changed, and what was done to it.
type Drill struct {
	Key, Name, Asks string
	Unit            string
	Levels          []float64 // how much was changed, from easy to hard
	Options         []string  // one of them is right; %s stands for the level
}

// DrillBands are the bands of the drill of bands, Hz.
var DrillBands = []float64{60, 120, 250, 1000, 4000}

// Drills are all kinds. Levels and bands are common practice.
var Drills = []Drill{
	{
		Key:     "band",
		Name:    "which band was raised",
		Asks:    "The second has one band raised by %s dB. Which?",
		Unit:    "dB",
		Levels:  []float64{9, 6, 4, 3, 2, 1.5},
		Options: []string{"60 Hz", "120 Hz", "250 Hz", "1 kHz", "4 kHz"},
	},
	{
		Key:     "duck",
		Name:    "more or less duck",
		Asks:    "The second is ducked %s dB more, or less?",
		Unit:    "dB",
		Levels:  []float64{6, 4, 3, 2, 1.5, 1},
		Options: []string{"more", "less"},
	},
	{
		Key:     "cents",
		Name:    "how many cents",
		Asks:    "The bass of the second was retuned. By how much?",
		Unit:    "cents",
		Levels:  []float64{50, 35, 25, 17, 12, 8, 5},
		Options: []string{"%s cents down", "not at all", "%s cents up"},
	},
	{
		Key:     "louder",
		Name:    "which is louder",
		Asks:    "One of the two is %s dB louder. Which?",
		Unit:    "dB",
		Levels:  []float64{3, 2, 1.5, 1, 0.7, 0.5},
		Options: []string{"the first", "the second"},
	},
}

// DrillOf returns the kind with a key; ok is false where there is none.
func DrillOf(key string) (Drill, bool) {
	for _, d := range Drills {
		if d.Key == key {
			return d, true
		}
	}
	return Drill{}, false
}

// Question is a question of a drill.
type Question struct {
	Drill  string `json:"drill"`
	Level  int    `json:"level"`  // of the drill's levels
	Truth  int    `json:"truth"`  // the option that is right
	Answer int    `json:"answer"` // that was given; -1 before
}

// Ask draws a question at a level.
func (d Drill) Ask(level int) Question {
	n, err := rand.Int(rand.Reader, big.NewInt(int64(len(d.Options))))
	if err != nil {
		panic(err) // the system's source never fails
	}
	return Question{Drill: d.Key, Level: min(max(level, 0), len(d.Levels)-1), Truth: int(n.Int64()), Answer: -1}
}

// Right reports whether it was answered rightly.
func (q Question) Right() bool { return q.Answer == q.Truth }

// Says words the question.
func (d Drill) Says(level int) string { return worded(d.Asks, d.Levels[level]) }

// Option words an option.
func (d Drill) Option(i, level int) string { return worded(d.Options[i], d.Levels[level]) }

func worded(text string, level float64) string {
	for i := 0; i+1 < len(text); i++ {
		if text[i:i+2] == "%s" {
			return fmt.Sprintf(text, figure.Short(level))
		}
	}
	return text
}

// NextLevel is the level that a drill has come to: after two right answers in a row at one level the next is harder, after a
// wrong one easier (two down, one up: Levitt 1971, J. Acoust. Soc. Am. 49, which settles where 71 % are right; from memory).
func NextLevel(answered []Question, levels int) int {
	level, run := 0, 0
	for _, q := range answered {
		if q.Level != level { // of another count of levels
			level, run = min(max(q.Level, 0), levels-1), 0
		}
		if !q.Right() {
			level, run = max(0, level-1), 0
			continue
		}
		if run++; run == 2 {
			level, run = min(levels-1, level+1), 0
		}
	}
	return level
}
