package meter

import (
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"reflect"
	"testing"

	"mellowthump/internal/outside"
)

// made is a sound in stretches of odd lengths, which its reader may not keep.
type made struct {
	x    []float32
	fail int // frame at which it ends in an error; 0: none
}

var errMade = errors.New("the file went away")

func (m made) Frames() int { return len(m.x) }

func (m made) Read(f func(x []float32) error) error {
	r := rand.New(rand.NewPCG(1, 2))
	buf := make([]float32, 5000)
	for at := 0; at < len(m.x); {
		n := copy(buf[:1+r.IntN(len(buf))], m.x[at:])
		if m.fail > 0 && at >= m.fail {
			return errMade
		}
		if err := f(buf[:n]); err != nil {
			return err
		}
		for i := range buf {
			buf[i] = 9 // whoever kept it sees this
		}
		at += n
	}
	return nil
}

// apart says where two values differ by more than a billionth; nothing is as far as itself.
func apart(a, b reflect.Value, where string) string {
	switch a.Kind() {
	case reflect.Float32, reflect.Float64:
		x, y := a.Float(), b.Float()
		if x != y && !(math.IsNaN(x) && math.IsNaN(y)) && !(math.Abs(x-y) <= 1e-9*math.Abs(y)) {
			return fmt.Sprintf("%s is %v, not %v", where, x, y)
		}
	case reflect.Int:
		if a.Int() != b.Int() {
			return fmt.Sprintf("%s is %d, not %d", where, a.Int(), b.Int())
		}
	case reflect.Slice:
		if a.Len() != b.Len() {
			return fmt.Sprintf("%s has %d values, not %d", where, a.Len(), b.Len())
		}
		for i := range a.Len() {
			if d := apart(a.Index(i), b.Index(i), fmt.Sprintf("%s[%d]", where, i)); d != "" {
				return d
			}
		}
	case reflect.Struct:
		for i := range a.NumField() {
			if d := apart(a.Field(i), b.Field(i), where+"."+a.Type().Field(i).Name); d != "" {
				return d
			}
		}
	}
	return ""
}

// Parts are the sound, whatever the stretches and wherever the parts end.
func TestParts(t *testing.T) {
	x := make([]float32, 40000)
	for i := range x {
		x[i] = float32(i)
	}
	for _, s := range []Sound{Held(x), made{x: x}} {
		ends := []int{1, 2, 12000, 12001, 39999, 40000}
		var got []float32
		k := 0
		for part, err := range Parts(s, ends) {
			if got = append(got, part...); err != nil || len(got) != ends[k] {
				t.Fatalf("part %d ends at %d: %v", k, len(got), err)
			}
			k++
		}
		if !reflect.DeepEqual(got, x) {
			t.Errorf("%T: the parts are not the sound", s)
		}
		for range Parts(s, ends) {
			break // and may be left
		}
		if y, err := Samples(Filled(s, 50000)); err != nil || len(y) != 50000 || y[39999] != 39999 || y[40000] != 0 {
			t.Errorf("%T filled: %d frames, %v", s, len(y), err)
		}
		if y, err := Samples(Filled(s, 300)); err != nil || len(y) != 300 || y[299] != 299 {
			t.Errorf("%T cut: %d frames, %v", s, len(y), err)
		}
	}
}

// No part ends within a hit's gap, but where nothing follows for more than a minute.
func TestPartEnds(t *testing.T) {
	const rate = 1000
	r := rand.New(rand.NewPCG(5, 6))
	defer func(was int) { shortSound = was }(shortSound)
	shortSound = 1000
	for range 300 {
		frames := 1000 + r.IntN(10*partFrames)
		var hits []int
		for at := r.IntN(300 * rate); at < frames; at += 20 + r.IntN([]int{300, 3000, 90 * rate, 900 * rate}[r.IntN(4)]) {
			hits = append(hits, at)
		}
		ends := partEnds(frames, rate, hits)
		if frames <= shortSound {
			continue
		}
		last := 0
		for _, end := range ends {
			if end <= last || end-last > 2*partFrames+int(2*hitMost*rate) {
				t.Fatalf("a part from %d to %d of %d", last, end, frames)
			}
			last = end
			for i, h := range hits {
				next := frames
				if i+1 < len(hits) {
					next = hits[i+1]
				}
				if h < end && end < next && end-h < int(hitMost*rate) {
					t.Fatalf("a part ends at %d, within the hit from %d to %d", end, h, next)
				}
			}
		}
		if last != frames {
			t.Fatalf("the parts end at %d of %d", last, frames)
		}
	}
}

// A long sound is judged part by part as a short one at once, and what cannot be read is said.
func TestLongIsShort(t *testing.T) {
	outside.Slow(t)
	const seconds = 70
	r := rand.New(rand.NewPCG(3, 4))
	kick, bass := make([]float32, seconds*hitRate), make([]float32, seconds*hitRate-1234)
	var hits []int
	for at := hitRate / 3; at < len(kick)-hitRate; at += hitRate/3 + r.IntN(hitRate) {
		hits = append(hits, at)
		for i := range hitRate / 4 {
			s := float64(i) / hitRate
			kick[at+i] += float32(0.7 * math.Sin(2*math.Pi*52*s) * math.Exp(-s/0.07))
		}
	}
	for i := range bass {
		bass[i] = float32(0.3*math.Sin(2*math.Pi*46*float64(i)/hitRate) + 0.02*r.NormFloat64())
	}
	line := []BassNote{{Start: 0, End: 30, Hz: 46, Note: "F#1"}, {Start: 30, End: 70, Hz: 55, Note: "A1"}}
	type judged struct {
		Figures HitFigures
		Meter   HitMeter
		Lead    BassLead
		Clear   []Figure
		Low     float64
		Fine    []float64
		Around  [][]float32
	}
	judge := func(k, b Sound) (j judged) {
		t.Helper()
		m, err := NewHitMeterOf(k, hitRate, hits, 52, Range{From: hitRate / 2, To: len(kick) - hitRate, End: len(kick)})
		if err != nil {
			t.Fatal(err)
		}
		fail := func(err error) {
			if err != nil {
				t.Fatal(err)
			}
		}
		j.Figures, err = m.MeasureOf(b)
		fail(err)
		j.Lead, err = m.MeasureLead(b, line, j.Figures)
		fail(err)
		j.Clear, err = m.Clearances(b)
		fail(err)
		j.Low, err = m.LowEnergy(b)
		fail(err)
		j.Fine, err = m.FineSpectrum(b)
		fail(err)
		fail(m.AtHits(b, 700, func(hit int, x, home []float32) { j.Around = append(j.Around, x, home) }))
		j.Meter = *m
		j.Meter.kick, j.Meter.ends, j.Meter.wide, j.Meter.smooth = nil, nil, nil, nil
		for i, v := range j.Meter.Kick {
			if v < 1e-12 { // where a state comes to rest depends on where it began
				j.Meter.Kick[i] = 0
			}
		}
		if len(m.ends) > 1 != (shortSound < len(kick)) {
			t.Fatalf("%d parts", len(m.ends))
		}
		return j
	}
	want := judge(Held(kick), Held(bass))
	defer func(was int) { shortSound = was }(shortSound)
	shortSound = 1 << 18
	for _, s := range [][2]Sound{{Held(kick), Held(bass)}, {made{x: kick}, made{x: bass}}} {
		got := judge(s[0], s[1])
		if d := math.Abs(got.Low/want.Low - 1); d > 1e-9 {
			t.Errorf("%T: low energy is %g off", s[0], d)
		}
		got.Low, got.Figures.Low = want.Low, want.Figures.Low
		for i, v := range got.Fine {
			if math.Abs(v/want.Fine[i]-1) > 1e-9 {
				t.Errorf("%T: bin %d is %g, want %g", s[0], i, v, want.Fine[i])
			}
		}
		got.Fine = want.Fine
		if where := apart(reflect.ValueOf(got), reflect.ValueOf(want), "it"); where != "" {
			t.Errorf("%T: part by part %s", s[0], where)
		}
	}
	m, err := NewHitMeterOf(made{x: kick}, hitRate, hits, 52, Range{To: len(kick)})
	if err != nil {
		t.Fatal(err)
	}
	if _, err := m.MeasureOf(made{bass, len(bass) / 2}); !errors.Is(err, errMade) {
		t.Errorf("a bass that goes away: %v", err)
	}
	if _, err := NewHitMeterOf(made{kick, len(kick) / 2}, hitRate, hits, 52, Range{To: len(kick)}); !errors.Is(err, errMade) {
		t.Errorf("a kick that goes away: %v", err)
	}
}
