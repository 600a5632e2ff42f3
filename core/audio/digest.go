package audio

import (
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"math"
)

// Digest is a hash of what a source sounds like to the bit: its rate, its channels and its samples, whatever file holds
// them. It is read once, in order.
func Digest(src Source) (string, error) {
	f := src.Format()
	h := sha256.New()
	h.Write(binary.LittleEndian.AppendUint32(binary.LittleEndian.AppendUint32(nil, uint32(f.Rate)), uint32(f.Channels)))
	const block = 1 << 14
	b := New(f.Rate, f.Channels, block)
	bytes := make([]byte, 0, 4*block*f.Channels)
	for at := int64(0); at < f.Frames; at += block {
		n := int(min(block, f.Frames-at))
		x := b.Slice(0, n)
		if err := src.ReadAt(x, at); err != nil {
			return "", err
		}
		bytes = bytes[:0]
		for i := range n {
			for c := range x.Ch {
				bytes = binary.LittleEndian.AppendUint32(bytes, math.Float32bits(x.Ch[c][i]+0)) // -0 is 0
			}
		}
		h.Write(bytes)
	}
	return hex.EncodeToString(h.Sum(nil)), nil
}
