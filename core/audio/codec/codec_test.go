package codec

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/flac"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

func load(t *testing.T, path string) (audio.Format, audio.Buffer, error) {
	t.Helper()
	file, err := os.ReadFile(path)
	if err != nil {
		t.Fatal(err)
	}
	src, err := Open(bytes.NewReader(file), int64(len(file)))
	if err != nil {
		return audio.Format{}, audio.Buffer{}, err
	}
	b, err := audio.ReadAll(src)
	return src.Format(), b, err
}

// sound is two seconds of a sweep with some noise, in whole steps of 16 bits.
func sound(rate, channels int) audio.Buffer {
	b := audio.New(rate, channels, 2*rate+17)
	seed := uint32(5)
	for i := range b.Ch[0] {
		t := float64(i) / float64(rate)
		for c := range b.Ch {
			seed = seed*1664525 + 1013904223
			v := 0.5*math.Sin(2*math.Pi*(50*t+400*t*t)+float64(c)) + 0.02*float64(int32(seed))/(1<<31)
			b.Ch[c][i] = float32(math.Round(v*32768) / 32768)
		}
	}
	return b
}

// encode makes a file by ffmpeg from a WAV of ours.
func encode(t *testing.T, in, name string, args ...string) string {
	t.Helper()
	out := filepath.Join(t.TempDir(), name)
	outside.Run(t, "ffmpeg", append(append([]string{"-v", "error", "-i", in}, args...), out)...)
	return out
}

func same(t *testing.T, got, want audio.Buffer) {
	t.Helper()
	if got.Frames() != want.Frames() || len(got.Ch) != len(want.Ch) || got.Rate != want.Rate {
		t.Fatalf("%d frames of %d channels at %d Hz, want %d of %d at %d", got.Frames(), len(got.Ch), got.Rate, want.Frames(), len(want.Ch), want.Rate)
	}
	for c := range want.Ch {
		for i, v := range want.Ch[c] {
			if got.Ch[c][i] != v {
				t.Fatalf("channel %d, frame %d: %g, want %g", c, i, got.Ch[c][i], v)
			}
		}
	}
}

// Lossless kinds written by ffmpeg and flac read back to the bit, mono and stereo.
func TestLosslessAgainstFFmpeg(t *testing.T) {
	outside.Slow(t)
	for _, channels := range []int{1, 2} {
		in := sound(44100, channels)
		file := outside.WriteWAV(t, "in.wav", in, wav.Int24)
		for name, args := range map[string][]string{
			"s16.aiff":  {"-c:a", "pcm_s16be"},
			"s24.aiff":  {"-c:a", "pcm_s24be"},
			"s32.aiff":  {"-c:a", "pcm_s32be"},
			"sowt.aiff": {"-c:a", "pcm_s16le"},
			"fl32.aiff": {"-c:a", "pcm_f32be"},
			"fl64.aiff": {"-c:a", "pcm_f64be"},
			"s16.flac":  {"-c:a", "flac", "-sample_fmt", "s16"},
			"s24.flac":  {"-c:a", "flac", "-sample_fmt", "s32", "-compression_level", "12"},
			"rf64.wav":  {"-c:a", "pcm_s24le", "-rf64", "always"},
			"f64.wav":   {"-c:a", "pcm_f64le"},
		} {
			t.Run(fmt.Sprintf("%s x%d", name, channels), func(t *testing.T) {
				f, got, err := load(t, encode(t, file, name, args...))
				if err != nil {
					t.Fatal(err)
				}
				same(t, got, in)
				if want := strings.TrimPrefix(filepath.Ext(name), "."); f.Container != want {
					t.Errorf("container %q, want %q", f.Container, want)
				}
			})
		}
	}
}

// Our FLAC, decoded by ffmpeg and tested by Debian's flac, is what was written.
func TestFLACWriter(t *testing.T) {
	for _, channels := range []int{1, 2} {
		for _, bits := range []int{16, 24} {
			in := sound(48000, channels)
			path := filepath.Join(t.TempDir(), "ours.flac")
			f, err := os.Create(path)
			if err != nil {
				t.Fatal(err)
			}
			if err := flac.Write(f, in, bits); err != nil {
				t.Fatal(err)
			}
			if err := f.Close(); err != nil {
				t.Fatal(err)
			}
			outside.Run(t, "flac", "-t", "-s", path) // frames, length and checksum
			_, got, err := load(t, encode(t, path, "back.wav", "-c:a", "pcm_s24le"))
			if err != nil {
				t.Fatal(err)
			}
			same(t, got, in)
			_, own, err := load(t, path)
			if err != nil {
				t.Fatal(err)
			}
			same(t, own, in)
		}
	}
}

// MP3 and Vorbis against ffmpeg's decode of the same file: the same sound within the
// rounding of two decoders, wherever each of them starts.
func TestLossyAgainstFFmpeg(t *testing.T) {
	outside.Slow(t)
	for _, channels := range []int{1, 2} {
		file := outside.WriteWAV(t, "in.wav", sound(44100, channels), wav.Int24)
		for name, args := range map[string][]string{
			"x.mp3": {"-c:a", "libmp3lame", "-b:a", "192k"}, "x.ogg": {"-c:a", "libvorbis", "-q:a", "6"},
		} {
			t.Run(fmt.Sprintf("%s x%d", name, channels), func(t *testing.T) {
				lossy := encode(t, file, name, args...)
				f, got, err := load(t, lossy)
				if err != nil {
					t.Fatal(err)
				}
				_, want, err := load(t, encode(t, lossy, "ffmpeg.wav", "-c:a", "pcm_f32le"))
				if err != nil {
					t.Fatal(err)
				}
				if f.Channels != channels || !Lossy(f.Container) {
					t.Errorf("%+v", f)
				}
				if off, worst := align(got.Ch[0], want.Ch[0]); worst > 0.002 {
					t.Errorf("differs by %.4f at the best offset of %d frames", worst, off)
				}
			})
		}
	}
}

// align finds the offset of two decodes of the same file, up to 3000 frames, and what is left
// of their difference.
func align(a, b []float32) (offset int, worst float64) {
	worst = math.Inf(1)
	for off := 0; off < 3000; off++ {
		w := 0.0
		for i := 10000; i < 40000; i += 7 {
			if w = math.Max(w, math.Abs(float64(a[i+off]-b[i]))); w >= worst {
				break
			}
		}
		if w < worst {
			offset, worst = off, w
		}
	}
	return offset, worst
}

// A file that ends early says by how much, whatever its kind.
func TestCutShort(t *testing.T) {
	file := outside.WriteWAV(t, "in.wav", sound(44100, 2), wav.Int24)
	for _, name := range []string{"x.aiff", "x.flac"} {
		path := encode(t, file, name)
		st, _ := os.Stat(path)
		if err := os.Truncate(path, st.Size()/2); err != nil {
			t.Fatal(err)
		}
		if _, _, err := load(t, path); err == nil || !strings.Contains(err.Error(), "cut short") && !strings.Contains(err.Error(), "damaged") {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, junk := range []string{"", "x", "FORM\x00\x00\x00\x04AIFF", "FORM....WAVE", "fLaC", "fLaC\x00\x00", "OggS", "OggS rubbish that is long enough",
		"ID3\x04\x00\x00\x00\x00\x00\x00", "\xff\xfb\x90\x00", "MThd"} {
		src, err := Open(strings.NewReader(junk), int64(len(junk)))
		if err == nil {
			_, err = audio.ReadAll(src)
		}
		if err == nil {
			t.Errorf("%q was read", junk)
		}
	}
}

func TestForwardOnly(t *testing.T) {
	path := encode(t, outside.WriteWAV(t, "in.wav", sound(44100, 1), wav.Int24), "x.flac")
	f, _ := os.Open(path)
	defer f.Close()
	st, _ := f.Stat()
	src, err := Open(f, st.Size())
	if err != nil {
		t.Fatal(err)
	}
	b := audio.New(44100, 1, 100)
	if err := src.ReadAt(b, 0); err != nil {
		t.Fatal(err)
	}
	if err := src.ReadAt(b, 50); !errors.Is(err, audio.ErrBackwards) {
		t.Errorf("going back says %v", err)
	}
}

// 16 bits are dithered: the error is noise of the triangular kind, 0.5 LSB RMS (sqrt(1/12 +
// 2/12) steps; Lipshitz, Wannamaker and Vanderkooy 1992), without bias, not tied to the sound.
func TestDither(t *testing.T) {
	b := outside.Sine(44100, 1, 440, 0.0001, 5, 0)
	_, got, err := load(t, outside.WriteWAV(t, "x.wav", b, wav.Int16))
	if err != nil {
		t.Fatal(err)
	}
	sum, square, cross, own := 0.0, 0.0, 0.0, 0.0
	for i, v := range b.Ch[0] {
		e := float64(got.Ch[0][i]-v) * 32768
		sum, square, cross, own = sum+e, square+e*e, cross+e*float64(v), own+float64(v)*float64(v)
	}
	n := float64(b.Frames())
	if rms := math.Sqrt(square / n); math.Abs(rms-0.5) > 0.01 || math.Abs(sum/n) > 0.01 || math.Abs(cross)/math.Sqrt(own*square) > 0.02 {
		t.Errorf("RMS %.3f, mean %.4f, correlation %.4f", rms, sum/n, cross/math.Sqrt(own*square))
	}
}

// Lossy reports whether a container's audio has gone through a lossy codec.
func Lossy(container string) bool { return container == "mp3" || container == "ogg" }
