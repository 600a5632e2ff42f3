package wav_test

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"math"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/internal/outside"
)

// ramp is a buffer whose samples are whole steps of 16 bits, so that every depth holds them.
func ramp(channels, frames int) audio.Buffer {
	b := audio.New(44100, channels, frames)
	for c := range b.Ch {
		for i := range b.Ch[c] {
			b.Ch[c][i] = float32((i*37+c*911)%65536-32768) / 32768
		}
	}
	return b
}

// build makes a file by hand: any tag, depth and header, with chunks to be passed over.
func build(tag, bits, channels, rate int, extensible bool, data []byte) []byte {
	le := binary.LittleEndian
	var f []byte
	realTag := uint16(tag)
	if extensible {
		tag = 0xFFFE
	}
	f = le.AppendUint16(f, uint16(tag))
	f = le.AppendUint16(f, uint16(channels))
	f = le.AppendUint32(f, uint32(rate))
	f = le.AppendUint32(f, uint32(rate*channels*bits/8))
	f = le.AppendUint16(f, uint16(channels*bits/8))
	f = le.AppendUint16(f, uint16(bits))
	if extensible {
		f = le.AppendUint16(f, 22)
		f = le.AppendUint16(f, uint16(bits))
		f = le.AppendUint32(f, 3)
		f = le.AppendUint16(f, realTag)
		f = append(f, "\x00\x00\x00\x00\x10\x00\x80\x00\x00\xaa\x00\x38\x9b\x71"...)
	}
	chunk := func(id string, body []byte) []byte {
		c := append([]byte(id), le.AppendUint32(nil, uint32(len(body)))...)
		c = append(c, body...)
		if len(body)%2 == 1 {
			c = append(c, 0)
		}
		return c
	}
	body := []byte("WAVE")
	body = append(body, chunk("LIST", []byte("odd length info"))...)
	body = append(body, chunk("fmt ", f)...)
	body = append(body, chunk("fact", []byte{1, 2, 3, 4})...)
	body = append(body, chunk("data", data)...)
	return chunk("RIFF", body)
}

func read(t *testing.T, file []byte) (audio.Buffer, error) {
	t.Helper()
	r, err := wav.NewReader(bytes.NewReader(file), int64(len(file)))
	if err != nil {
		return audio.Buffer{}, err
	}
	return audio.ReadAll(r)
}

// Encodings by the RIFF conventions: two's complement little endian, 8 bits offset binary.
func TestEncodings(t *testing.T) {
	values := []float64{0, 0.5, -0.5, -1, 0.25}
	le := binary.LittleEndian
	encode := map[string]func(b []byte, v float64) []byte{
		"1/8":  func(b []byte, v float64) []byte { return append(b, byte(v*128+128)) },
		"1/16": func(b []byte, v float64) []byte { return le.AppendUint16(b, uint16(int16(v*32768))) },
		"1/24": func(b []byte, v float64) []byte {
			q := int32(v * 8388608)
			return append(b, byte(q), byte(q>>8), byte(q>>16))
		},
		"1/32": func(b []byte, v float64) []byte { return le.AppendUint32(b, uint32(int32(v*2147483648))) },
		"3/32": func(b []byte, v float64) []byte { return le.AppendUint32(b, math.Float32bits(float32(v))) },
		"3/64": func(b []byte, v float64) []byte { return le.AppendUint64(b, math.Float64bits(v)) },
	}
	for name, enc := range encode {
		for _, channels := range []int{1, 2} {
			for _, ext := range []bool{false, true} {
				t.Run(fmt.Sprintf("%s x%d ext %t", name, channels, ext), func(t *testing.T) {
					var tag, bits int
					fmt.Sscanf(name, "%d/%d", &tag, &bits)
					var data []byte
					for _, v := range values {
						for c := range channels {
							data = enc(data, v/float64(c+1))
						}
					}
					b, err := read(t, build(tag, bits, channels, 48000, ext, data))
					if err != nil {
						t.Fatal(err)
					}
					for c := range channels {
						for i, v := range values {
							if got := float64(b.Ch[c][i]); math.Abs(got-v/float64(c+1)) > 1e-9 {
								t.Errorf("channel %d sample %d = %g, want %g", c, i, got, v/float64(c+1))
							}
						}
					}
				})
			}
		}
	}
}

func TestRoundTrip(t *testing.T) {
	for _, channels := range []int{1, 2} {
		for _, depth := range []wav.Depth{wav.Int24, wav.Float32} {
			in := ramp(channels, 4099) // odd, so that the padding byte is needed
			var file bytes.Buffer
			if err := wav.Write(&file, in, depth); err != nil {
				t.Fatal(err)
			}
			out, err := read(t, file.Bytes())
			if err != nil {
				t.Fatal(err)
			}
			for c := range in.Ch {
				for i := range in.Ch[c] {
					if in.Ch[c][i] != out.Ch[c][i] {
						t.Fatalf("%d bits, channel %d, sample %d: %g became %g", depth, c, i, in.Ch[c][i], out.Ch[c][i])
					}
				}
			}
		}
	}
}

// Over full scale is clipped, never wrapped.
func TestClipping(t *testing.T) {
	b := audio.New(48000, 1, 4)
	copy(b.Ch[0], []float32{1.5, -1.5, 1, -1})
	var file bytes.Buffer
	if err := wav.Write(&file, b, wav.Int24); err != nil {
		t.Fatal(err)
	}
	out, _ := read(t, file.Bytes())
	for i, want := range []float64{1, -1, 1, -1} {
		if math.Abs(float64(out.Ch[0][i])-want) > 2e-7 {
			t.Errorf("sample %d = %g, want %g", i, out.Ch[0][i], want)
		}
	}
}

// ffmpeg writes, we read; we write, ffmpeg reads: the same samples both ways.
func TestAgainstFFmpeg(t *testing.T) {
	in := ramp(2, 5000)
	ours := outside.WriteWAV(t, "ours.wav", in, wav.Int24)
	for _, codec := range []string{"pcm_s16le", "pcm_s24le", "pcm_s32le", "pcm_f32le", "pcm_f64le"} {
		theirs := filepath.Join(t.TempDir(), codec+".wav")
		outside.Run(t, "ffmpeg", "-v", "error", "-i", ours, "-c:a", codec, theirs)
		file, err := os.ReadFile(theirs)
		if err != nil {
			t.Fatal(err)
		}
		out, err := read(t, file)
		if err != nil {
			t.Fatalf("%s: %v", codec, err)
		}
		if out.Frames() != in.Frames() || len(out.Ch) != 2 {
			t.Fatalf("%s: %d frames of %d channels", codec, out.Frames(), len(out.Ch))
		}
		for c := range in.Ch {
			for i := range in.Ch[c] {
				if in.Ch[c][i] != out.Ch[c][i] {
					t.Fatalf("%s: channel %d, sample %d: %g became %g", codec, c, i, in.Ch[c][i], out.Ch[c][i])
				}
			}
		}
	}
}

// A read beyond either end gives silence there, and what lies between.
func TestReadAtEdges(t *testing.T) {
	in := ramp(1, 100)
	var file bytes.Buffer
	if err := wav.Write(&file, in, wav.Float32); err != nil {
		t.Fatal(err)
	}
	r, err := wav.NewReader(bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		t.Fatal(err)
	}
	for _, at := range []int64{-150, -50, 0, 60, 100, 500} {
		b := audio.New(44100, 1, 120)
		for i := range b.Ch[0] {
			b.Ch[0][i] = 9
		}
		if err := r.ReadAt(b, at); err != nil {
			t.Fatal(err)
		}
		for i, v := range b.Ch[0] {
			want := float32(0)
			if k := at + int64(i); k >= 0 && k < 100 {
				want = in.Ch[0][k]
			}
			if v != want {
				t.Fatalf("read at %d: sample %d = %g, want %g", at, i, v, want)
			}
		}
	}
}

func TestBadFiles(t *testing.T) {
	good := build(1, 16, 1, 44100, false, make([]byte, 2000))
	wrongAlign := bytes.Clone(good)
	at := bytes.Index(wrongAlign, []byte("fmt ")) + 8
	wrongAlign[at+12] = 7
	cases := map[string]struct {
		file []byte
		say  string
	}{
		"text":         {[]byte("these are the lyrics, not the bass"), "not a WAV"},
		"empty":        {nil, "not a WAV"},
		"truncated":    {good[:len(good)-900], "cut short"},
		"header only":  {good[:30], "cut short"},
		"no samples":   {build(1, 16, 1, 44100, false, nil), "no audio"},
		"three":        {build(1, 16, 3, 44100, false, make([]byte, 60)), "3 channels"},
		"1 Hz":         {build(1, 16, 1, 1, false, make([]byte, 60)), "1 Hz"},
		"10 MHz":       {build(1, 16, 1, 10_000_000, false, make([]byte, 60)), "10000000 Hz"},
		"12 bits":      {build(1, 12, 2, 44100, false, make([]byte, 60)), "12-bit"},
		"compressed":   {build(85, 16, 1, 44100, false, make([]byte, 60)), "compressed"},
		"wrong align":  {wrongAlign, "contradicts"},
		"no channels":  {build(1, 16, 0, 44100, false, make([]byte, 60)), "contradicts"},
		"data first":   {append([]byte("RIFF\x20\x00\x00\x00WAVEdata\x04\x00\x00\x00"), 1, 2, 3, 4), "out of order"},
		"endless junk": {append([]byte("RIFF\x20\x00\x00\x00WAVE"), bytes.Repeat([]byte("junk\x00\x00\x00\x00"), 2000)...), "not a WAV"},
	}
	for name, c := range cases {
		t.Run(name, func(t *testing.T) {
			_, err := read(t, c.file)
			if err == nil || !strings.Contains(err.Error(), c.say) {
				t.Errorf("says %v, want a word of %q", err, c.say)
			}
		})
	}
	_, err := read(t, good[:len(good)-882]) // 441 of 1000 samples are missing
	if want := "promises 0.02 s, the file holds 0.01 s"; err == nil || !strings.Contains(err.Error(), want) {
		t.Errorf("says %v, want %q", err, want)
	}
}

// Programs that stream leave the size open.
func TestUnknownSize(t *testing.T) {
	file := build(1, 16, 1, 44100, false, []byte{0, 0x40, 0, 0xC0})
	binary.LittleEndian.PutUint32(file[len(file)-8:], 0xFFFFFFFF)
	b, err := read(t, file)
	if err != nil || b.Frames() != 2 || b.Ch[0][0] != 0.5 || b.Ch[0][1] != -0.5 {
		t.Errorf("%v, %v", b, err)
	}
}

func FuzzReader(f *testing.F) {
	f.Add(build(1, 16, 2, 44100, true, make([]byte, 64)))
	f.Add(build(3, 32, 1, 8000, false, make([]byte, 64)))
	f.Add(build(1, 24, 2, 192000, true, make([]byte, 66))[:60])
	f.Add([]byte("RIFF....WAVE"))
	f.Fuzz(func(t *testing.T, file []byte) {
		r, err := wav.NewReader(bytes.NewReader(file), int64(len(file)))
		if err != nil {
			return
		}
		b, err := audio.ReadAll(r)
		if err == nil && int64(b.Frames()) != r.Format().Frames {
			t.Errorf("%d frames read, %d promised", b.Frames(), r.Format().Frames)
		}
	})
}
