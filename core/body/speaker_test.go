package body

import (
	"context"
	"math"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/device"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/session"
	"mellowthump/internal/outside"
)

// sub is a song of a pure bass at 45 Hz beside a soft pad, with its line.
func sub(t *testing.T) (*mix.Renderer, *session.Song, []meter.BassNote, mix.Window) {
	t.Helper()
	lib := &mix.Memory{}
	song := session.New("x", 120)
	song.Rate = rate
	bass, pad := audio.New(rate, 1, 4*rate), audio.New(rate, 1, 4*rate)
	var line []meter.BassNote
	for k := range 6 {
		at := 0.3 + 0.6*float64(k)
		line = append(line, meter.BassNote{Start: at, End: at + 0.5, Hz: 45, Note: "F#1"})
		for i := range rate / 2 {
			s := float64(i) / rate
			bass.Ch[0][int(at*rate)+i] = float32(0.4 * math.Sin(2*math.Pi*45*s) * math.Min(1, math.Min(s/0.02, (0.5-s)/0.02)))
		}
	}
	for i := range pad.Ch[0] {
		pad.Ch[0][i] = float32(0.002 * math.Sin(2*math.Pi*660*float64(i)/rate))
	}
	a, b := strings.Repeat("a", 64), strings.Repeat("b", 64)
	lib.Put(a, bass)
	lib.Put(b, pad)
	song.Stems = []session.Stem{{ID: "b", Name: "Sub", Role: session.Bass, Audio: a}, {ID: "p", Name: "Pad", Role: session.Melodic, Audio: b}}
	return mix.New(lib, 1<<28), &song, line, mix.Window{To: 4 * rate}
}

// A pure sine of 45 Hz is not heard on a phone, and that is said; the drive that is found makes it heard, at the same
// loudness, and half a decibel less does not; on earbuds it is heard as it is.
func TestOnSmallSpeakers(t *testing.T) {
	r, song, line, w := sub(t)
	ctx := context.Background()
	phone := device.All[0]
	o, err := device.HearNotes(ctx, r, song, line, w, phone, 83)
	if err != nil || len(o.Notes) != 6 || len(o.Unheard()) != 6 || o.Enough() {
		t.Fatalf("%+v %v", o, err)
	}
	if s := o.Sentence(); !strings.Contains(s, "6 of 6 notes are not heard: F#1") {
		t.Error(s)
	}
	if e, err := device.HearNotes(ctx, r, song, line, w, device.All[3], 83); err != nil || !e.Enough() || !e.Notes[0].Audible[0] {
		t.Errorf("earbuds: %+v %v", e, err)
	}
	d, err := LeastDrive(ctx, r, song, line, w, phone, 83)
	if err != nil || !d.Reached || d.Move.Over != driveOver {
		t.Fatalf("%+v %v", d, err)
	}
	less := *d.Move
	if less.Drive -= driveStep; less.Drive > 0 {
		if l, err := device.HearNotes(ctx, r, drivenBy(song, &less), line, w, phone, 83); err != nil || l.Enough() {
			t.Errorf("%+v does it too (%v)", less, err)
		}
	}
	was, err := r.Loudness(ctx, song, mix.SoloBass, w)
	if err != nil {
		t.Fatal(err)
	}
	now, err := r.Loudness(ctx, drivenBy(song, d.Move), mix.SoloBass, w)
	if err != nil || math.Abs(float64(now.Integrated-was.Integrated)) > 0.1 {
		t.Errorf("the loudness moves by %.2f LU (%v)", float64(now.Integrated-was.Integrated), err)
	}
	f, ok := UnheardNotes(song, o, d)
	if !ok || f.What != "6 of 6 notes unheard on a phone" {
		t.Fatalf("%+v", f)
	}
	if _, err := f.Edit().Apply(song); err != nil {
		t.Fatal(err)
	}
	if m, ok := song.Stem("b").Move(session.BodyDrive).Params.(*move.Drive); !ok || m.Drive != d.Move.Drive {
		t.Error("it is not put in")
	}
	if o, err := device.HearNotes(ctx, r, song, line, w, phone, 83); err != nil || !o.Enough() {
		t.Errorf("applied: %+v %v", o, err)
	}
	if _, ok := UnheardNotes(song, o, d); ok {
		t.Error("it is told again")
	}
}

// What is heard on a phone is read again by scipy: the same filters, roex excitation and threshold, note by note, before and after the
// drive; the margins agree to 0.5 dB.
func TestPhoneByAnIndependentScript(t *testing.T) {
	r, song, line, w := sub(t)
	ctx := context.Background()
	phone := device.All[0]
	for _, s := range []*session.Song{song, drivenBy(song, &move.Drive{Adds: move.DriveBoth, Drive: 9, Over: 120, Level: -12})} {
		o, err := device.HearNotes(ctx, r, s, line, w, phone, 83)
		if err != nil {
			t.Fatal(err)
		}
		path := func(bass bool) string {
			c := s.Clone()
			for i := range c.Stems {
				c.Stems[i].Mute = (c.Stems[i].Role == session.Bass) != bass
			}
			x, _, err := r.Solo(ctx, &c, mix.SoloAll, mix.Window{From: -int(settle * rate), To: w.To})
			if err != nil {
				t.Fatal(err)
			}
			return outside.WriteWAV(t, "x.wav", audio.Buffer{Rate: rate, Ch: [][]float32{x.Mono()}}, wav.Float32)
		}
		var starts []float64
		for _, n := range line {
			starts = append(starts, n.Start)
		}
		var margins []float64
		outside.Python(t, `
import json, sys
import numpy as np
from scipy.io import wavfile
from scipy.signal import butter, lfilter, sosfilt
a, b, starts = json.load(sys.stdin)
fs, x = wavfile.read(a); _, m = wavfile.read(b)
def bell(f0, Q, dB): # Bristow-Johnson, Cookbook formulae
    A = 10**(dB/40); w0 = 2*np.pi*f0/fs; al = np.sin(w0)/(2*Q)
    b = [1+al*A, -2*np.cos(w0), 1-al*A]; a = [1+al/A, -2*np.cos(w0), 1-al/A]
    return lambda y: lfilter(b, a, y)
peak = bell(2500, 1, 4)
play = lambda y: peak(sosfilt(butter(4, 12000, fs=fs, output="sos"), sosfilt(butter(4, 350, "highpass", fs=fs, output="sos"), y.astype(float))))
x, m = play(x), play(m)
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
Q = np.interp(np.log(fc[:,0]), np.log([a for a,_ in thr]), [b for _,b in thr]) - (83 - 12) - 20
exc = lambda y, at: 10*np.log10(W @ (np.abs(np.fft.rfft(y[at:at+N]*w))**2 * 2/(N*np.sum(w**2))) + 1e-30)
lead = int(0.25*fs)
out = []
for s in starts:
    at, all, first = int((s+0.02)*fs)+lead, [], True
    while first or at-lead+N <= (s+0.5)*fs:
        first = False
        if at+N > len(x): break
        b, r = exc(x, at), exc(m, at)
        over = b > Q
        all.append(np.max((b-np.maximum(r, Q))[over]) if over.any() else -100)
        at += N//2
    out.append(float(np.median(all)))
print(json.dumps(out))
`, []any{path(true), path(false), starts}, &margins)
		for i, n := range o.Notes {
			switch {
			case n.Margin.Valid() != (margins[i] > -100):
				t.Errorf("note %d: %v here, %.2f there", i, n.Margin, margins[i])
			case n.Margin.Valid() && math.Abs(float64(n.Margin)-margins[i]) > 0.5:
				t.Errorf("note %d: %.2f dB over the rest, scipy says %.2f", i, float64(n.Margin), margins[i])
			}
		}
	}
}
