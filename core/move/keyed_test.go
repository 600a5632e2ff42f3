package move

import (
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/dsp"
	"mellowthump/internal/outside"
)

func comp() Compressor {
	return Compressor{Threshold: -20, Ratio: 4, Knee: 0, Attack: 5, Hold: 0, Release: 80}
}

// The static curve by eq. 4 of Giannoulis, Massberg and Reiss (2012), worked out by hand at the ends,
// the middle and outside of the knee.
func TestStaticCurve(t *testing.T) {
	c := comp()
	c.Knee = 8
	for level, want := range map[float64]float64{
		-60: 0, -24: 0, -20: 0.75 * 16 / 16, -16: 0.75 * 64 / 16, -12: 6, 0: 15, // y = T + (x-T)/4 beyond the knee
		-22: 0.75 * 4 / 16,
	} {
		if got := c.Reduction(level); math.Abs(got-want) > 1e-9 {
			t.Errorf("at %g dB: %g dB, want %g", level, got, want)
		}
	}
	c.Knee = 0
	if c.Reduction(-20) != 0 || math.Abs(c.Reduction(-8)-9) > 1e-9 {
		t.Error("the hard knee is not hard")
	}
}

// The static curve against ffmpeg's sidechaincompress (hard knee, peak detection) on steps of a
// steady key: after each step has settled, the gains agree within 0.1 dB.
func TestStaticCurveAgainstFFmpeg(t *testing.T) {
	const seconds = 0.5
	levels := []float64{-30, -24, -18, -12, -6, -1}
	n := int(seconds * testRate)
	sound, key := audio.New(testRate, 1, n*len(levels)), audio.New(testRate, 1, n*len(levels))
	for i := range key.Ch[0] {
		sound.Ch[0][i] = 0.25
		key.Ch[0][i] = float32(dsp.Gain(levels[i/n]))
	}
	a, b := outside.WriteWAV(t, "sound.wav", sound, wav.Float32), outside.WriteWAV(t, "key.wav", key, wav.Float32)
	out := filepath.Join(t.TempDir(), "out.raw")
	c := comp()
	outside.Run(
		t,
		"ffmpeg",
		"-v",
		"error",
		"-i",
		a,
		"-i",
		b,
		"-filter_complex",
		fmt.Sprintf(
			"[0][1]sidechaincompress=threshold=%.9f:ratio=%g:attack=%g:release=%g:knee=1:detection=peak:link=maximum",
			dsp.Gain(c.Threshold),
			c.Ratio,
			c.Attack,
			c.Release,
		),
		"-f",
		"f32le",
		out,
	)
	raw, err := os.ReadFile(out)
	if err != nil {
		t.Fatal(err)
	}
	d := &Duck{School: CompressorSchool, Comp: &c}
	gain, err := d.Gains(Place{Rate: testRate}, len(key.Ch[0]), key.Ch[0], 0)
	if err != nil {
		t.Fatal(err)
	}
	for i, level := range levels {
		at := (i+1)*n - 10
		theirs := dsp.DB(float64(math.Float32frombits(binary.LittleEndian.Uint32(raw[4*at:]))) / 0.25)
		mine := dsp.DB(float64(gain[at]))
		if math.Abs(mine-theirs) > 0.1 || math.Abs(mine+c.Reduction(level)) > 0.01 {
			t.Errorf("a key of %g dB: %.2f dB, ffmpeg %.2f, the curve %.2f", level, mine, theirs, -c.Reduction(level))
		}
	}
}

// Time constants (same paper, eq. 7 and 17): behind a step the attack has done 1 - 1/e of the
// reduction after its time; the release has let 1 - 1/e of it go after its own, counted from the end
// of the hold.
func TestTimeConstants(t *testing.T) {
	c := Compressor{Threshold: -40, Ratio: 2, Attack: 10, Hold: 0, Release: 200}
	d := NewDetector(c, 0, testRate)
	full := -c.Reduction(0)
	var at float64
	for i := 0; ; i++ {
		if g := d.Next(1); g <= full*(1-1/math.E) {
			at = 1000 * float64(i) / testRate
			break
		}
	}
	if math.Abs(at-10) > 0.1 {
		t.Errorf("the attack takes %.2f ms, want 10", at)
	}
	c.Attack, c.Hold = 0.05, 30
	d = NewDetector(c, 0, testRate)
	for range testRate {
		d.Next(1)
	}
	for i := 0; ; i++ {
		if g := d.Next(0); g >= full/math.E {
			at = 1000 * float64(i) / testRate
			break
		}
	}
	if math.Abs(at-230) > 0.5 {
		t.Errorf("hold and release take %.2f ms, want 230", at)
	}
}

// A bound is never passed.
func TestRange(t *testing.T) {
	d := NewDetector(comp(), 6, testRate)
	low := 0.0
	for range 5000 {
		low = min(low, d.Next(1))
	}
	if math.Abs(low+6) > 1e-9 {
		t.Errorf("a range of 6 dB lets %.3f dB through", low)
	}
}

// run takes sound and key through a duck, in blocks.
func keyedRun(t *testing.T, d *Duck, x, key []float32, block int) []float32 {
	t.Helper()
	p, err := d.Processor(Place{Rate: testRate})
	if err != nil {
		t.Fatal(err)
	}
	late := p.Latency()
	x = append(append([]float32(nil), x...), make([]float32, late)...)
	key = append(append([]float32(nil), key...), make([]float32, late)...)
	for at := 0; at < len(x); at += block {
		end := min(at+block, len(x))
		p.Process(audio.Buffer{Rate: testRate, Ch: [][]float32{x[at:end]}}, audio.Buffer{Rate: testRate, Ch: [][]float32{key[at:end]}})
	}
	return x[late:]
}

// A band dip with a range of 0 dB is a null, so is a bell whose key is silent; below a crossover a
// silent key leaves the level of every tone as it was (an all-pass); blocks do not matter; the
// look-ahead is compensated.
func TestBandDip(t *testing.T) {
	x := tone(52, 1)
	key, silent := tone(52, 1), make([]float32, testRate)
	c := comp()
	bell := &Band{Shape: "bell", Hz: 52, Q: 1, Range: 0, Channels: "stereo"}
	d := &Duck{School: BandSchool, Comp: &c, Band: bell}
	if y := keyedRun(t, d, x, key, 512); off(x, y, 0, len(x)) != 0 {
		t.Error("a range of 0 dB is no null")
	}
	bell.Range = 9
	if y := keyedRun(t, d, x, silent, 512); off(x, y, 0, len(x)) > 1e-7 {
		t.Error("a bell with a silent key is no null")
	}
	c.Threshold, c.Release = -60, 3000
	y := keyedRun(t, d, x, key, 512)
	if got := dsp.DB(float64(peak(y[testRate/2:])) / float64(peak(x[testRate/2:]))); math.Abs(got+9) > 0.1 {
		t.Errorf("fully open, the bell takes %.2f dB at its middle, want -9", got)
	}
	if z := keyedRun(t, d, x, key, 4096); off(y, z, 0, len(y)) > 1e-6 {
		t.Error("blocks matter")
	}
	c.Lookahead = 5
	impulse := make([]float32, 4000)
	impulse[2000] = 1
	if z := keyedRun(t, d, impulse, make([]float32, 4000), 333); z[2000] != 1 || peak(z[:2000]) != 0 {
		t.Error("the look-ahead moves the sound")
	}
	c.Lookahead = 0
	below := &Duck{School: BandSchool, Comp: &c, Band: &Band{Shape: "below", Hz: 120, Range: 9, Channels: "stereo"}}
	for _, hz := range []float64{30, 90, 120, 170, 600} {
		x := tone(hz, 1)
		y := keyedRun(t, below, x, silent, 1000)
		if got := dsp.DB(float64(peak(y[testRate/2:])) / float64(peak(x[testRate/2:]))); math.Abs(got) > 0.01 {
			t.Errorf("%g Hz through the open crossover: %.3f dB", hz, got)
		}
	}
	// mid and side: a sound in the side alone is not touched by a dip of the mid
	bell.Channels = "mid"
	p, _ := d.Processor(Place{Rate: testRate})
	l, r := tone(52, 0.5), tone(52, 0.5)
	for i := range r {
		r[i] = -r[i]
	}
	was := append([]float32(nil), l...)
	p.Process(audio.Buffer{Rate: testRate, Ch: [][]float32{l, r}}, audio.Buffer{Rate: testRate, Ch: [][]float32{key[:len(l)]}})
	if off(was, l, 0, len(l)) > 1e-6 {
		t.Error("a dip of the mid lowers the side")
	}
}

func peak(x []float32) float32 {
	var m float32
	for _, v := range x {
		m = max(m, v, -v)
	}
	return m
}

// A key filter keeps a snare from triggering; bad values are refused in words.
func TestKeyFilter(t *testing.T) {
	c := comp()
	d := &Duck{School: CompressorSchool, Comp: &c, Key: &KeyFilter{Low: 100, Slope: 24}}
	g, err := d.Gains(Place{Rate: testRate}, testRate, tone(1000, 1), 0)
	if err != nil || g[testRate/2] != 1 {
		t.Errorf("a key of 1 kHz behind a low-pass at 100 Hz gives %g, %v", g[testRate/2], err)
	}
	d.Key = nil
	if g, _ = d.Gains(Place{Rate: testRate}, testRate, tone(1000, 1), 0); g[testRate/2] > 0.5 {
		t.Errorf("without it: %g", g[testRate/2])
	}
	for _, bad := range []*Duck{
		{School: "gate"}, {School: CompressorSchool}, {School: CompressorSchool, Comp: &Compressor{}}, {School: BandSchool, Comp: &c},
		{School: BandSchool, Comp: &c, Band: &Band{Shape: "notch", Hz: 50, Channels: "stereo"}}, {School: BandSchool, Comp: &c, Band: &Band{Shape: "bell", Hz: 50,
			Q: 1, Channels: "left"}},
		{School: CompressorSchool, Comp: &c, Key: &KeyFilter{High: 200, Low: 100, Slope: 24}}, {School: CompressorSchool, Comp: &c, Key: &KeyFilter{Low: 100,
			Slope: 7}},
	} {
		if Validate(bad) == nil {
			t.Errorf("%+v is taken", bad)
		}
	}
}
