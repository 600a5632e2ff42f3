package room

import (
	"context"
	"math"
	"math/rand/v2"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/internal/outside"
)

const rate = 44100

// hiss is noise over a corner (96 dB per octave), at a level, dBFS RMS about.
func hiss(r *rand.Rand, rate int, seconds, over, db float64) audio.Buffer {
	x := audio.New(rate, 1, int(seconds*float64(rate)))
	for i := range x.Ch[0] {
		x.Ch[0][i] = float32(r.NormFloat64())
	}
	s, err := dsp.ButterworthHighpass(8, over, float64(rate))
	if err != nil {
		panic(err)
	}
	for range 2 {
		dsp.NewFilter(s).Process(x.Ch[0], x.Ch[0])
	}
	turn(x, db)
	return x
}

func turn(x audio.Buffer, db float64) {
	for _, ch := range x.Ch {
		for i := range ch {
			ch[i] *= float32(dsp.Gain(db))
		}
	}
}

func plus(a, b audio.Buffer) audio.Buffer {
	out := audio.New(a.Rate, len(a.Ch), a.Frames())
	for c := range out.Ch {
		for i := range out.Ch[c] {
			out.Ch[c][i] = a.Ch[c][i] + b.Ch[c][i]
		}
	}
	return out
}

func corner(x, rest audio.Buffer, side Side) (alone, inMix float64, err error) {
	e := meter.NewEar(x.Rate, meter.Playback)
	own, err := Excite(context.Background(), e, x, 0)
	if err != nil {
		return 0, 0, err
	}
	all, err := Excite(context.Background(), e, rest, 0)
	if err != nil {
		return 0, 0, err
	}
	at := func(hz float64) (*Trimmed, error) { return Trim(own, side, hz, 24), nil }
	return Corner(context.Background(), own, func(context.Context) (audio.Buffer, error) { return x, nil }, all.was, side, at)
}

func cornerAlone(t *testing.T, x, rest audio.Buffer, side Side) (alone, inMix float64) {
	t.Helper()
	alone, inMix, err := corner(x, rest, side)
	if err != nil {
		t.Fatal(err)
	}
	return alone, inMix
}

func silence(x audio.Buffer) audio.Buffer { return audio.New(x.Rate, len(x.Ch), x.Frames()) }

// Noise over 400 Hz with rumble far under it lets a corner go in between; a kick lets none; time, gain and rate do not
// move it; in a mix it is never lower.
func TestUnheardCorner(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	music := hiss(r, rate, 3, 400, -20)
	rumble := outside.Sine(rate, 1, 40, dsp.Gain(-70), 3, 0)
	x := plus(music, rumble)
	alone, _ := cornerAlone(t, x, silence(x), Low)
	if alone < 100 || alone > 400 {
		t.Errorf("a corner of %g Hz", alone)
	}
	late := audio.New(rate, 1, x.Frames())
	copy(late.Ch[0][rate/3:], x.Ch[0])
	soft := plus(x, audio.New(rate, 1, x.Frames()))
	turn(soft, -6)
	double := audio.New(2*rate, 1, 2*x.Frames())
	up, _ := dsp.ButterworthLowpass(8, 18000, 2*rate)
	for i, v := range x.Ch[0] {
		double.Ch[0][2*i] = 2 * v
	}
	dsp.NewFilter(up).Process(double.Ch[0], double.Ch[0])
	for name, y := range map[string]audio.Buffer{"later": late, "6 dB softer": soft, "at twice the rate": double} {
		if got, _ := cornerAlone(t, y, silence(y), Low); got != alone {
			t.Errorf("%s: %g Hz, not %g", name, got, alone)
		}
	}
	kick := audio.New(rate, 1, 3*rate)
	for h := 0; h < 6; h++ {
		for i := range rate / 2 {
			ts := float64(i) / rate
			kick.Ch[0][h*rate/2+i] = float32(0.7 * math.Sin(2*math.Pi*(52*ts+1.5*(1-math.Exp(-ts/0.01)))) * math.Exp(-ts/0.12))
		}
	}
	if got, _ := cornerAlone(t, kick, silence(kick), Low); got > 25 {
		t.Errorf("a kick lets %g Hz go", got)
	}
	bass := outside.Sine(rate, 1, 55, 0.4, 3, 0)
	pad := plus(hiss(r, rate, 3, 300, -30), outside.Sine(rate, 1, 110, 0.0006, 3, 0))
	own, mixed := cornerAlone(t, pad, plus(bass, hiss(r, rate, 3, 60, -8)), Low)
	if mixed <= own {
		t.Errorf("under a bass and noise %g Hz go, alone %g", mixed, own)
	}
	if top, _ := cornerAlone(t, bass, silence(bass), High); top == 0 || top > 1000 {
		t.Errorf("a tone of 55 Hz needs %g Hz at the top", top)
	}
	if a, m := cornerAlone(t, audio.New(rate, 2, rate), audio.New(rate, 2, rate), Low); a != 0 || m != 0 {
		t.Errorf("silence lets %g and %g Hz go", a, m)
	}
}

// The corner that is found is the highest of the third-octaves that passes, read again by an independent script.
func TestCornerByAnIndependentScript(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 3))
	for k := range 3 {
		x := plus(hiss(r, rate, 2.5, 150+200*float64(k), -24), outside.Sine(rate, 1, 35+20*float64(k), dsp.Gain(-50-8*float64(k)), 2.5, 0))
		rest := hiss(r, rate, 2.5, 40, -34)
		alone, inMix := cornerAlone(t, x, rest, Low)
		path, restPath := outside.WriteWAV(t, "x.wav", x, wav.Float32), outside.WriteWAV(t, "rest.wav", rest, wav.Float32)
		var there struct{ Alone, Mix []bool }
		outside.Python(t, `
import json, sys
import numpy as np
from scipy.io import wavfile
from scipy.signal import butter, sosfilt
path, mixpath, corners = json.load(sys.stdin)
fs, x = wavfile.read(path); _, m = wavfile.read(mixpath)
x = x.astype(float); m = m.astype(float)
N = 4096
w = 0.5 - 0.5*np.cos(2*np.pi*(np.arange(N)+0.5)/N)
f = np.arange(N//2+1)*fs/N
erb = lambda f: 24.7*(4.37*f/1000+1)
k = 1000/(24.7*4.37)
n = k*np.log(4.37*20/1000+1) + 0.25*np.arange(200)
fc = (np.exp(n/k)-1)*1000/4.37
fc = fc[fc <= 16000][:, None]
pg = 4*fc/erb(fc)*np.abs(f-fc)/fc
W = (1+pg)*np.exp(-pg)
thr = [(20,78.1),(25,68.7),(31.5,59.5),(40,51.1),(50,44.0),(63,37.5),(80,31.5),(100,26.5),(125,22.1),(160,17.9),(200,14.4),(250,11.4),(315,8.6),(400,6.2),
  (500,4.4),(630,3.0),(800,2.2),(1000,2.4),(1250,3.5),(1600,1.7),(2000,-1.3),(2500,-4.2),(3150,-6.0),(4000,-5.4),(5000,-1.5),(6300,6.0),(8000,12.6),
  (10000,13.9),(12500,12.3),(16000,40.2)]
Q = np.interp(np.log(fc[:,0]), np.log([a for a,_ in thr]), [b for _,b in thr]) - 103
def exc(y):
    return np.array([W @ (np.abs(np.fft.rfft(y[a:a+N]*w))**2 * 2/(N*np.sum(w**2))) for a in range(0, len(y)-N+1, N//2)])
energy = np.array([np.sum(np.abs(np.fft.rfft(x[a:a+N]*w))**2) for a in range(0, len(x)-N+1, N//2)])
ex, em = exc(x), exc(m)
dB = lambda e: 10*np.log10(e + 1e-30)
sounds = (energy > energy.max()*1e-6) & np.any(dB(ex) > Q, axis=1)
def passes(e0, e1):
    a, b = dB(e0), dB(e1)
    heard = np.any((np.abs(b-a) > 1) & (np.maximum(a, b) > Q), axis=1)
    return bool(np.sum(heard & sounds) <= int(0.05*np.sum(sounds)))
out = {"Alone": [], "Mix": []}
for c in corners:
    cut = exc(sosfilt(butter(4, c, "highpass", fs=fs, output="sos"), x))
    out["Alone"].append(passes(ex, cut))
    out["Mix"].append(passes(ex+em, cut+em))
print(json.dumps(out))
`, []any{path, restPath, LowCorners}, &there)
		highest := func(ok []bool) float64 {
			for i := len(ok) - 1; i >= 0; i-- {
				if ok[i] {
					return LowCorners[i]
				}
			}
			return 0
		}
		if a, m := highest(there.Alone), highest(there.Mix); a != alone || m != inMix {
			t.Errorf("sound %d: the script finds %g alone and %g in the mix, we %g and %g", k, a, m, alone, inMix)
		}
		if alone == 0 || alone == 500 {
			t.Errorf("sound %d does not tell: %g Hz", k, alone)
		}
	}
}

func BenchmarkCorner(b *testing.B) {
	r := rand.New(rand.NewPCG(1, 2))
	x := hiss(r, rate, 13.5, 200, -20)
	rest := hiss(r, rate, 13.5, 40, -15)
	for b.Loop() {
		if _, _, err := corner(x, rest, Low); err != nil {
			b.Fatal(err)
		}
	}
}
