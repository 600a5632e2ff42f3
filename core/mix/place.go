package mix

import (
	"math"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/session"
)

// place is the gain, pan and width at which a part is summed.
type place struct {
	DB    float64
	Pan   float64 // -1 left, 1 right
	Width float64 // change of the sides' level: -1 mono, 0 as it is, 1 twice
}

func stemPlace(st *session.Stem) place { return place{st.Fader, st.Pan, st.Width} }

// simple reports whether the place is but a gain.
func (p place) simple() bool { return p.Pan == 0 && p.Width == 0 }

// channels returns in how many channels a part of so many stands at the place.
func (p place) channels(n int) int {
	if p.Pan != 0 {
		return 2
	}
	return n
}

// Pan law: equal power, raised so that the middle stays as it is (0 dB) and untouched stems sum
// to their sources; a mono part at a side is 3.01 dB louder there. A stereo part is balanced:
// the far side falls by the same law, the near side stays.
func panGains(pan float64, channels int) (l, r float64) {
	if pan == 0 {
		return 1, 1
	}
	angle := (pan + 1) * math.Pi / 4
	l, r = math.Sqrt2*math.Cos(angle), math.Sqrt2*math.Sin(angle)
	if channels == 2 {
		l, r = min(l, 1), min(r, 1)
	}
	return l, r
}

// matrix returns the gains from the part's channels to left and right.
func (p place) matrix(channels int) (ll, rl, lr, rr float32) {
	g := dsp.Gain(p.DB)
	l, r := panGains(p.Pan, channels)
	if channels == 1 {
		return float32(g * l), 0, float32(g * r), 0
	}
	k := 1 + p.Width // of the sides
	same, cross := (1+k)/2, (1-k)/2
	return float32(g * l * same), float32(g * l * cross), float32(g * r * cross), float32(g * r * same)
}

// addTo adds a part to out, or writes it there where it is the first.
func (p place) addTo(out, in audio.Buffer, first bool) {
	if !p.simple() && len(out.Ch) == 2 {
		ll, rl, lr, rr := p.matrix(len(in.Ch))
		a, b := in.Ch[0], in.Ch[len(in.Ch)-1]
		l, r := out.Ch[0][:len(a)], out.Ch[1][:len(a)]
		if first {
			audio.Clear(l)
			audio.Clear(r)
		}
		for i, v := range a {
			w := b[i]
			l[i] += v*ll + w*rl
			r[i] += v*lr + w*rr
		}
		return
	}
	g := float32(dsp.Gain(p.DB))
	for c := range out.Ch {
		src := in.Ch[min(c, len(in.Ch)-1)]
		dst := out.Ch[c][:len(src)]
		switch {
		case first && g == 1:
			copy(dst, src)
		case first:
			for i, v := range src {
				dst[i] = v * g
			}
		case g == 1:
			for i, v := range src {
				dst[i] += v
			}
		default:
			for i, v := range src {
				dst[i] += v * g
			}
		}
	}
}
