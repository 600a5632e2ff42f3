package compare

import (
	"mellowthump/core/audio"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
)

// Through is a way in which a sound is listened to: between its channels, a part of its band, or on a stand-in.
type Through struct {
	ID, Name, Group string
	lo, hi          float64 // Hz of a band; 0: open
}

// Throughs are all of them, in groups; the first is the sound as it is.
var Throughs = func() []Through {
	out := []Through{
		{ID: "", Name: "stereo", Group: "channels"}, {ID: "mono", Name: "mono", Group: "channels"}, {ID: "side", Name: "side", Group: "channels"},
		{
			ID:    "low",
			Name:  "under 200 Hz",
			Group: "band",
			hi:    200,
		}, {ID: "sub", Name: "sub, under 80 Hz", Group: "band", hi: 80}, {ID: "second", Name: "80 to 300 Hz", Group: "band", lo: 80, hi: 300},
	}
	for _, d := range device.All {
		out = append(out, Through{ID: d.ID, Name: d.Short(), Group: "device"})
	}
	return out
}()

// ThroughOf returns the way with an id; ok is false where there is none.
func ThroughOf(id string) (t Through, ok bool) {
	for _, t := range Throughs {
		if t.ID == id {
			return t, true
		}
	}
	return Throughs[0], false
}

// Ends are those of a band, Hz; 0 is open.
func (t Through) Ends() (lo, hi float64) { return t.lo, t.hi }

// bandOrder is that of the Butterworth filters of a band: 24 dB per octave.
const bandOrder = 4

// Sections are the filters of a band at a rate in Hz.
func (t Through) Sections(rate float64) (out []dsp.Biquad, err error) {
	if t.hi > 0 {
		if out, err = dsp.ButterworthLowpass(bandOrder, t.hi, rate); err != nil {
			return nil, err
		}
	}
	if t.lo > 0 {
		high, err := dsp.ButterworthHighpass(bandOrder, t.lo, rate)
		if err != nil {
			return nil, err
		}
		out = append(out, high...)
	}
	return out, nil
}

// Listen returns a loop as it is heard so, going round; playback is the level, dB SPL, of -20 dBFS RMS. What is handed in is left as it is.
func (t Through) Listen(x audio.Buffer, playback float64) (audio.Buffer, error) {
	if d, ok := device.Of(t.ID); ok {
		return d.Play(x, true, playback)
	}
	if t.Group == "band" {
		s, err := t.Sections(float64(x.Rate))
		if err != nil {
			return x, err
		}
		lead := min(int(device.Lead*float64(x.Rate)), x.Frames())
		y := audio.New(x.Rate, len(x.Ch), x.Frames())
		head := make([]float32, lead)
		for c, ch := range x.Ch {
			f := dsp.NewFilter(s)
			f.Process(head, ch[len(ch)-lead:])
			f.Process(y.Ch[c], ch)
		}
		return y, nil
	}
	if t.ID == "" {
		return x, nil
	}
	return between(x, t.ID == "side"), nil
}

// between is a sound in mono on both sides; or its side, which is what vanishes there.
func between(b audio.Buffer, side bool) audio.Buffer {
	out := audio.New(b.Rate, max(1, len(b.Ch)), b.Frames())
	if len(b.Ch) < 2 {
		if !side && len(b.Ch) == 1 {
			copy(out.Ch[0], b.Ch[0])
		}
		return out
	}
	sign := float32(1)
	if side {
		sign = -1
	}
	for i, l := range b.Ch[0] {
		v := (l + sign*b.Ch[1][i]) / 2
		out.Ch[0][i], out.Ch[1][i] = v, v
	}
	return out
}
