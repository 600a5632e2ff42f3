package device

import (
	"math"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

const rate = 44100

// The response of every stand-in is scipy's of the written design (Butterworth filters; bells and shelves of Bristow-Johnson's
// Audio EQ Cookbook), to 0.1 dB.
func TestDevicesByScipy(t *testing.T) {
	type peak struct {
		Shelf     bool
		Hz, Q, DB float64
	}
	type design struct {
		From, To float64
		Order    int
		Peaks    []peak
	}
	hz := []float64{25, 45, 63, 90, 120, 180, 250, 350, 500, 900, 1500, 2500, 5000, 9000, 12000, 15000}
	var in []design
	for _, d := range All {
		v := design{From: d.From, To: d.To, Order: d.Order}
		for _, p := range d.Peaks {
			v.Peaks = append(v.Peaks, peak{p.Shape == dsp.LowShelf, p.Hz, p.Q, p.DB})
		}
		in = append(in, v)
	}
	var out [][]float64
	outside.Python(t, `
import json, sys
import numpy as np
from scipy.signal import butter, sosfreqz, freqz
hz, designs = json.load(sys.stdin)
fs = 44100
def peak(p):
    A = 10**(p["DB"]/40); w = 2*np.pi*p["Hz"]/fs; al = np.sin(w)/(2*p["Q"]); c = np.cos(w)
    if not p["Shelf"]:
        return [1+al*A, -2*c, 1-al*A], [1+al/A, -2*c, 1-al/A]
    s = 2*np.sqrt(A)*al
    return [A*((A+1)-(A-1)*c+s), 2*A*((A-1)-(A+1)*c), A*((A+1)-(A-1)*c-s)], [(A+1)+(A-1)*c+s, -2*((A-1)+(A+1)*c), (A+1)+(A-1)*c-s]
out = []
for d in designs:
    h = sosfreqz(butter(d["Order"], d["From"], "highpass", fs=fs, output="sos"), hz, fs=fs)[1] * sosfreqz(butter(d["Order"], d["To"], fs=fs,
      output="sos"), hz, fs=fs)[1]
    for p in d["Peaks"] or []:
        b, a = peak(p)
        h = h * freqz(b, a, hz, fs=fs)[1]
    out.append(list(20*np.log10(np.abs(h))))
print(json.dumps(out))
`, []any{hz, in}, &out)
	for i, d := range All {
		for k, f := range hz {
			is, err := d.ResponseDB(f, rate)
			if err != nil || math.Abs(is-out[i][k]) > 0.1 {
				t.Errorf("%s at %.0f Hz: %.2f dB, scipy says %.2f (%v)", d.ID, f, is, out[i][k], err)
			}
		}
	}
}

// What is played is what is written: the phone gives no 45 Hz and has one speaker, the club sums its lows and no others, a
// ceiling holds, the noise of the car is as loud as it is said to be, and a loop goes round without a seam.
func TestDevicesPlay(t *testing.T) {
	rms := func(x []float32) float64 { return dsp.PowerDB(meter.Energy(x)/float64(len(x)) + 1e-20) }
	phone, _ := Of("phone")
	low := outside.Sine(rate, 2, 45, 0.5, 1, 0)
	y, err := phone.Play(low, true, 83)
	if err != nil || len(y.Ch) != 1 || y.Frames() != low.Frames() {
		t.Fatalf("%d channels, %d frames, %v", len(y.Ch), y.Frames(), err)
	}
	if l := rms(y.Ch[0]) - rms(low.Ch[0]); l > -60 {
		t.Errorf("the phone gives 45 Hz at %.1f dB", l)
	}
	club, _ := Of("club")
	for hz, mono := range map[float64]bool{50: true, 1000: false} {
		x := outside.Sine(rate, 2, hz, 0.1, 1, 0)
		for i := range x.Ch[1] {
			x.Ch[1][i] = -x.Ch[1][i]
		}
		y, err := club.Play(x, true, 83)
		if err != nil {
			t.Fatal(err)
		}
		if kept := rms(y.Ch[0]) > rms(x.Ch[0])-20; kept == mono {
			t.Errorf("the club at %.0f Hz, out of phase: %.1f dB", hz, rms(y.Ch[0])-rms(x.Ch[0]))
		}
	}
	loud := outside.Sine(rate, 1, 1000, 0.6, 1, 0)
	if y, err = phone.Play(loud, true, 83); err != nil || float64(meter.PeakDB(y.Ch...)) > phone.Ceiling+1 {
		t.Errorf("the phone gives %.1f dBFS (%v)", float64(meter.PeakDB(y.Ch...)), err)
	}
	car, _ := Of("car")
	if y, err = car.Play(audio.New(rate, 2, 4*rate), true, 83); err != nil {
		t.Fatal(err)
	}
	if l, want := rms(y.Ch[0]), 68+3-83-20.0; math.Abs(l-want) > 0.3 {
		t.Errorf("road noise of %.2f dBFS, %.2f asked", l, want)
	}
	jump, most := math.Abs(float64(y.Ch[0][0]-y.Ch[0][len(y.Ch[0])-1])), 0.0
	for i := 1; i < len(y.Ch[0]); i++ {
		most = math.Max(most, math.Abs(float64(y.Ch[0][i]-y.Ch[0][i-1])))
	}
	if jump > most {
		t.Errorf("the noise jumps by %.4f where it goes round, %.4f elsewhere", jump, most)
	}
	for _, d := range All { // 63 whole periods: heard round, it is a tone that never began
		d.Noise = 0
		x := outside.Sine(rate, 2, 630, 0.02, 0.1, 0)
		y, err := d.Play(x, true, 83)
		if err != nil {
			t.Fatal(err)
		}
		n := y.Frames()
		for i := range 70 { // a period
			if a, b := y.Ch[0][i], y.Ch[0][n-70+i]; math.Abs(float64(a-b)) > 1e-3*0.02 {
				t.Errorf("%s: the start differs from the end, %g and %g", d.ID, a, b)
				break
			}
		}
	}
}
