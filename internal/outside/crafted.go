package outside

import (
	"bytes"
	"encoding/binary"
	"os/exec"
	"testing"
)

// page is an Ogg page (RFC 3533, 6) with packets under 255 bytes a segment, and its checksum put right.
func page(position int64, serial int, flags byte, packets ...[]byte) []byte {
	p := append([]byte("OggS\x00"), flags)
	p = binary.LittleEndian.AppendUint64(p, uint64(position))
	p = append(p, 1, 0, 0, 0, byte(serial), 0, 0, 0, 0, 0, 0, 0)
	var lacing, body []byte
	for _, k := range packets {
		for n := len(k); n >= 0; n -= 255 {
			lacing = append(lacing, byte(min(n, 255)))
		}
		body = append(body, k...)
	}
	p = append(append(append(p, byte(len(lacing))), lacing...), body...)
	binary.LittleEndian.PutUint32(p[22:], Checksum(p))
	return p
}

// Checksum is that of an Ogg page whose own is 0 (RFC 3533, 6).
func Checksum(p []byte) (crc uint32) {
	for _, b := range p {
		crc ^= uint32(b) << 24
		for range 8 {
			if crc&(1<<31) != 0 {
				crc = crc<<1 ^ 0x04c11db7
			} else {
				crc <<= 1
			}
		}
	}
	return crc
}

// Bits packs numbers as Vorbis does, the lowest bit first: value, width, value, width ...
func Bits(pairs ...uint64) []byte {
	var out []byte
	at := 0
	for i := 0; i < len(pairs); i += 2 {
		for b := range pairs[i+1] {
			if at%8 == 0 {
				out = append(out, 0)
			}
			out[at/8] |= byte(pairs[i]>>b&1) << (at % 8)
			at++
		}
	}
	return out
}

// Vorbis is the three headers of Vorbis I (Xiph.Org, 4.2), the last two as crafted.
func Vorbis(comments uint32, setup []byte) []byte {
	id := append([]byte("\x01vorbis"), 0, 0, 0, 0, 1)
	id = binary.LittleEndian.AppendUint32(id, 44100)
	id = append(id, make([]byte, 12)...)
	id = append(id, 0xb8, 1)
	note := append([]byte("\x03vorbis"), 0, 0, 0, 0)
	note = append(binary.LittleEndian.AppendUint32(note, comments), 1)
	book := append([]byte("\x05vorbis"), setup...)
	return append(page(0, 0, 2, id), append(page(0, 1, 0, note, book), page(44100, 2, 4, []byte{0})...)...)
}

// negative is a sound file whose last page gives a negative length.
func negative(t testing.TB) []byte {
	t.Helper()
	out, err := exec.Command("ffmpeg", "-v", "error", "-f", "lavfi", "-i", "sine=frequency=55:duration=1", "-c:a", "libvorbis", "-f", "ogg", "-").Output()
	if err != nil {
		t.Fatalf("ffmpeg: %v", err)
	}
	last := bytes.LastIndex(out, []byte("OggS"))
	binary.LittleEndian.PutUint64(out[last+6:], 1<<64-5000)
	binary.LittleEndian.PutUint32(out[last+22:], 0)
	binary.LittleEndian.PutUint32(out[last+22:], Checksum(out[last:]))
	return out
}

// Crafted are small files that make a decoder ask for memory or time that no sound needs, or that are none.
func Crafted(t testing.TB) map[string][]byte {
	t.Helper()
	head := []uint64{0, 8, 0x564342, 24}
	return map[string][]byte{
		"2^32 comments": Vorbis(1<<32-1, nil),
		"a codebook of 2^20 x 65535": Vorbis(0, append(
			Bits(append(head, 65535, 16, 1<<20, 24, 1, 1, 19, 5, 1<<20, 21, 2, 4)...), make([]byte, 64)...)),
		"an ordered codebook cut off":     Vorbis(0, Bits(append(head, 1, 16, 1<<20, 24, 1, 1)...)),
		"a negative length":               negative(t),
		"an MP3 tag longer than the file": append([]byte("ID3\x04\x00\x00\x7f\x7f\x7f\x7f"), make([]byte, 200)...),
		"noise":                           bytes.Repeat([]byte("no sound at all "), 99),
	}
}
