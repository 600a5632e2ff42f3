package facts

import (
	"encoding/json"
	"fmt"
	"math"
	"reflect"
	"strings"
	"testing"

	"mellowthump/core/audio"
)

// odd are sounds in which something that is divided by is nothing: silent sums, silent channels, single samples, full-scale DC.
var odd = map[string]func(rate, n int) audio.Buffer{
	"one channel the other upside down": func(rate, n int) audio.Buffer {
		b := audio.New(rate, 2, n)
		for i := range n {
			v := float32(0.5 * math.Sin(2*math.Pi*100*float64(i)/float64(rate)) * math.Exp(-float64(i%(rate/2))/float64(rate/8)))
			b.Ch[0][i], b.Ch[1][i] = v, -v
		}
		return b
	},
	"a silent right": func(rate, n int) audio.Buffer {
		b := audio.New(rate, 2, n)
		for i := range n {
			b.Ch[0][i] = float32(math.Sin(2 * math.Pi * 55 * float64(i) / float64(rate)))
		}
		return b
	},
	"silence":          func(rate, n int) audio.Buffer { return audio.New(rate, 2, n) },
	"one sample":       func(rate, n int) audio.Buffer { b := audio.New(rate, 2, n); b.Ch[0][n/2] = 1; return b },
	"the first sample": func(rate, n int) audio.Buffer { b := audio.New(rate, 1, n); b.Ch[0][0] = -1; return b },
	"the last sample":  func(rate, n int) audio.Buffer { b := audio.New(rate, 1, n); b.Ch[0][n-1] = 1; return b },
	"the least sample": func(rate, n int) audio.Buffer {
		b := audio.New(rate, 1, n)
		b.Ch[0][n/3] = math.SmallestNonzeroFloat32
		return b
	},
	"two samples apart": func(rate, n int) audio.Buffer {
		b := audio.New(rate, 2, n)
		b.Ch[0][n/2], b.Ch[1][n-1] = 1, -1
		return b
	},
	"full-scale DC":      func(rate, n int) audio.Buffer { return constant(rate, n, 1, 1) },
	"DC, left and right": func(rate, n int) audio.Buffer { return constant(rate, n, 1, -1) },
	"DC far over":        func(rate, n int) audio.Buffer { return constant(rate, n, 5000, 5000) },
	"DC, then nothing": func(rate, n int) audio.Buffer {
		b := constant(rate, n, 1, 1)
		for _, ch := range b.Ch {
			clear(ch[n/2:])
		}
		return b
	},
}

func constant(rate, n int, left, right float32) audio.Buffer {
	b := audio.New(rate, 2, n)
	for i := range n {
		b.Ch[0][i], b.Ch[1][i] = left, right
	}
	return b
}

// No figure of a file that is kept is NaN or infinite, whatever it holds and however short it is; all of it can be stored.
func TestFinite(t *testing.T) {
	for name, make := range odd {
		for _, rate := range []int{22050, 44100, 96000} {
			for _, n := range []int{1, 2, 100, rate / 7, 3 * rate} {
				src := audio.Memory{Buffer: make(rate, n)}
				a, err := Analyse(t.Context(), src, name, nil)
				if err == nil {
					err = Describe(t.Context(), src, a)
				}
				at := fmt.Sprintf("%s, %d frames at %d Hz", name, n, rate)
				if err != nil {
					t.Errorf("%s: %v", at, err)
					continue
				}
				if _, err := json.Marshal(a); err != nil {
					t.Errorf("%s: it cannot be stored: %v", at, err)
				}
				finite(t, at, reflect.ValueOf(*a))
				a.Guess(name)
			}
		}
	}
}

// finite looks into all that is exported for a float that is not finite; a meter.Figure that is not is one that there is none of.
func finite(t *testing.T, at string, v reflect.Value) {
	switch v.Kind() {
	case reflect.Float32, reflect.Float64:
		if f := v.Float(); (math.IsInf(f, 0) || math.IsNaN(f)) && v.Type().Name() != "Figure" {
			t.Errorf("%s: %g", at, f)
		}
	case reflect.Pointer:
		if !v.IsNil() {
			finite(t, at, v.Elem())
		}
	case reflect.Slice, reflect.Array:
		for i := range v.Len() {
			finite(t, at, v.Index(i))
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.IsExported() && !strings.HasPrefix(f.Tag.Get("json"), "-") {
				finite(t, at+": "+f.Name, v.Field(i))
			}
		}
	}
}
