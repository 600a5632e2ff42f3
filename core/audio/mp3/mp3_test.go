package mp3

import (
	"math"
	"os"
	"path/filepath"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// What an encoder put before and behind a sound is taken off, to the sample as ffmpeg does it: both rates, mono and stereo; the sound is where it
// was before it was encoded.
func TestDelayIsTakenOff(t *testing.T) {
	for _, c := range []struct{ rate, channels, frames int }{{44100, 2, 3*44100 + 17}, {48000, 1, 2*48000 + 501}, {32000, 2, 32000 + 7}} {
		x := audio.New(c.rate, c.channels, c.frames)
		for i := range c.frames {
			in := math.Mod(float64(i)/float64(c.rate), 0.4)
			for ch := range x.Ch {
				x.Ch[ch][i] = float32(0.7 * math.Sin(2*math.Pi*(300+200*float64(ch))*in) * math.Exp(-in/0.03))
			}
		}
		dir := t.TempDir()
		file := filepath.Join(dir, "a.mp3")
		outside.Run(t, "ffmpeg", "-v", "error", "-i", outside.WriteWAV(t, "a.wav", x, wav.Int16), "-c:a", "libmp3lame", "-b:a", "160k", file)
		theirs := filepath.Join(dir, "b.wav")
		outside.Run(t, "ffmpeg", "-v", "error", "-i", file, "-c:a", "pcm_f32le", theirs)
		open := func(name string) (*os.File, int64) {
			f, err := os.Open(name)
			if err != nil {
				t.Fatal(err)
			}
			t.Cleanup(func() { f.Close() })
			is, _ := f.Stat()
			return f, is.Size()
		}
		f, _ := open(file)
		d, err := NewDecoder(f)
		if err != nil {
			t.Fatal(err)
		}
		got, err := audio.ReadAll(audio.Sequential(d))
		if err != nil {
			t.Fatal(err)
		}
		g, size := open(theirs)
		r, err := wav.NewReader(g, size)
		if err != nil {
			t.Fatal(err)
		}
		want, err := audio.ReadAll(r)
		if err != nil {
			t.Fatal(err)
		}
		if got.Frames() != want.Frames() || got.Frames() != c.frames || len(got.Ch) != c.channels {
			t.Errorf("%d Hz: %d frames, ffmpeg has %d, given were %d", c.rate, got.Frames(), want.Frames(), c.frames)
			continue
		}
		off, all := 0.0, 0.0
		for ch := range got.Ch {
			for i, v := range want.Ch[ch] {
				off, all = off+math.Pow(float64(got.Ch[ch][i]-v), 2), all+float64(v)*float64(v)
			}
		}
		if db := 10 * math.Log10(off/all); db > -36 { // a frame beside it they would be -21 dB apart
			t.Errorf("%d Hz: ffmpeg's is another by %.1f dB", c.rate, db)
		}
	}
}
