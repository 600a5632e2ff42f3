package room

import (
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/move"
)

// What of a struck part goes on ringing (own choice, tried on recorded snares, toms and hand drums).
const (
	struckHit   = 25.0 // dB under the loudest frame: softer is no hit
	struckRise  = 4    // frames in which it comes
	struckFrom  = 5    // frames from a hit until what is left of it is its ring: 230 ms
	struckTo    = 9
	struckClear = 3     // frames before the next hit
	struckLeast = 24.0  // dB under the hits: what is softer is their tail
	struckPlain = 16.0  // likewise: what is louder is a fault
	struckPeer  = 15.0  // dB over the median of its octave then
	struckMost  = 18.0  // dB of a bell
	struckLo    = 250.0 // Hz: under it lie the own tones of snares and toms
)

// struckRings are the tones of a struck part that go on a quarter of a second after its hits, when all else has died away.
// Long because hits, what is left of them and its tones are looked for in one go.
func struckRings(frames [][]float64, rate int) []Ringing {
	if len(frames) < struckTo {
		return nil
	}
	bins, bin := len(frames[0]), float64(rate)/ringFrame
	lo, hi := max(2, int(struckLo/bin)), min(bins-3, int(ringHi/bin))
	power := make([]float64, len(frames))
	for i, f := range frames {
		for _, v := range f {
			power[i] += v
		}
	}
	least := slices.Max(power) * math.Pow(10, -struckHit/10)
	var hits []int
	for i, p := range power { // the top of each rise by 6 dB
		rises := i < struckRise || p > 4*slices.Min(power[i-struckRise:i])
		if p > least && rises && (i == 0 || p > power[i-1]) && (i+1 == len(power) || p >= power[i+1]) {
			hits = append(hits, i)
		}
	}
	left := make([]float64, bins)
	all, n := 0.0, 0.0
	for k, h := range hits {
		end := len(frames)
		if k+1 < len(hits) {
			end = hits[k+1] - struckClear
		}
		for i := h + struckFrom; i < min(h+struckTo, end); i++ {
			for b, v := range frames[i] {
				left[b] += v
			}
			all += power[h]
			n++
		}
	}
	if n == 0 || all == 0 {
		return nil
	}
	var out []Ringing
	for b := lo; b <= hi; b++ {
		if left[b] <= left[b-1] || left[b] < left[b+1] || left[b] <= left[b-2] || left[b] < left[b+2] {
			continue
		}
		tone := left[b-2] + left[b-1] + left[b] + left[b+1] + left[b+2]
		under := dsp.PowerDB(all / tone)
		var peers []float64
		for k := int(float64(b) / math.Sqrt2); k <= min(bins-1, int(float64(b)*math.Sqrt2)); k++ {
			peers = append(peers, left[k])
		}
		slices.Sort(peers)
		if under > struckLeast || dsp.PowerDB(left[b]/math.Max(peers[len(peers)/2], 1e-30)) < struckPeer {
			continue
		}
		over := struckLeast - under
		out = append(out, Ringing{Hz: float64(b) * bin, Over: over, After: math.Round(10*under) / 10, Time: 1, Bell: &move.Ring{
			Hz: math.Round(float64(b)*bin*10) / 10, Q: ringQ, Range: math.Round(10*math.Min(struckMost, over+9)) / 10,
			Threshold: math.Round(math.Max(-80, math.Min(0, dsp.PowerDB(tone/n)-18))),
			Ratio:     20, Attack: 10, Release: 150, Channels: "stereo",
		}})
	}
	return out
}
