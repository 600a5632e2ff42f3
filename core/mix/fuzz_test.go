package mix

import (
	"encoding/json"
	"fmt"
	"math"
	"regexp"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// anySound is a library that has a second of sound by any name.
type anySound struct{ sound audio.Buffer }

func (a anySound) Open(string) (audio.Source, func() error, error) {
	return audio.Memory{Buffer: a.sound}, func() error { return nil }, nil
}

func (a anySound) Onsets(string) ([]meter.Onset, error) {
	return []meter.Onset{{At: 0.1}, {At: 0.5}, {At: 0.9, Under: 30}}, nil
}

func (a anySound) KickPitch(string) (meter.Pitch, error) {
	return meter.Pitch{Hz: 52, Settled: true}, nil
}

// number is a number in JSON; odd are those that it is changed into.
var (
	number = regexp.MustCompile(`-?[0-9]+(\.[0-9]+)?(e-?[0-9]+)?`)
	odd    = []string{
		"0",
		"-1",
		"1",
		"1e-9",
		"-1e-9",
		"1e9",
		"-1e9",
		"1e308",
		"-1e308",
		"1e-308",
		"0.5",
		"-0.5",
		"20",
		"-20",
		"100",
		"1000",
		"-1000",
		"20000",
		"2147483648",
		"44100",
		"192000",
		"8000",
		"60",
		"-60",
		"1e18",
	}
)

// A song that comes from elsewhere, whatever it says: it is refused in a sentence, or it is rendered and printed, soon, in
// bounds, and what sounds is finite. The first bytes change numbers of the song by pairs: which, and into what.
func FuzzSong(f *testing.F) {
	_, s := routed()
	for i := range s.Stems {
		s.Stems[i].Audio = strings.Repeat("ab", 32)
	}
	for i, p := range moves() {
		try := s.Clone()
		chain, _ := try.Chain(places[i%len(places)])
		if *chain = chain.With(move.Move{ID: fmt.Sprintf("m%d", i), Params: p}); try.Validate() == nil {
			s = try
		}
	}
	seed, err := json.Marshal(s)
	if err != nil {
		f.Fatal(err)
	}
	if _, err := session.Read(seed); err != nil {
		f.Fatal(err)
	}
	f.Add([]byte{}, seed)
	f.Add([]byte{7, 3, 20, 1, 33, 11}, seed)
	sound := outside.Sine(44100, 2, 55, 0.5, 1, 0)
	f.Fuzz(func(t *testing.T, changes, song []byte) {
		all := number.FindAllIndex(song, -1)
		text, last := strings.Builder{}, 0
		into := map[int]string{}
		for i := 0; i+1 < len(changes) && len(all) > 0; i += 2 {
			into[int(changes[i])%len(all)] = odd[int(changes[i+1])%len(odd)]
		}
		for i, at := range all {
			if v, ok := into[i]; ok {
				text.Write(song[last:at[0]])
				text.WriteString(v)
				last = at[1]
			}
		}
		text.Write(song[last:])
		s, err := session.Read([]byte(text.String()))
		if err != nil || len(s.Stems) == 0 || len(s.Stems) > 8 || s.Rate == 0 {
			return
		}
		outside.Bounded(t, func() {
			r := New(anySound{sound}, 1<<26)
			w := Window{s.Rate / 20, s.Rate / 4}
			check := func(b audio.Buffer) {
				for _, ch := range b.Ch {
					for _, v := range ch {
						if math.IsNaN(float64(v)) || math.IsInf(float64(v), 0) {
							t.Fatalf("%g in what %s renders", v, text.String())
						}
					}
				}
			}
			if b, _, err := r.Solo(t.Context(), &s, SoloAll, w); err == nil {
				check(b)
			}
			_ = r.Print(t.Context(), &s, []Tap{{}, {Stem: s.Stems[0].ID}}, Window{0, s.Rate / 4}, func(b []audio.Buffer) error {
				check(b[0])
				return nil
			})
		})
	})
}
