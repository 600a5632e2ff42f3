package compare

import (
	"context"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
)

// What a kick that stands free is, common practice.
const (
	freeBefore = 0.120 // s before it in which nothing low sounds
	freeGap    = 0.015 // s right before it that are its own rise
	freeRise   = 18.0  // dB by which it stands over that
	freeAfter  = 0.250 // s after which it has died away
	freeFall   = 20.0  // dB by which it has
	freeApart  = 0.2   // s between two
	freeEnough = 60.0  // dB on either side, over which it stands as free as can be
	freeAlike  = 12.0  // dB by which others may be less free than the freest
	freeMost   = 16    // that are measured
	kickSpan   = 0.35  // s that are measured of one
)

// FreeKick is a kick, or the median of several, by itself; levels are about the loudness of all.
type FreeKick struct {
	Count  int
	At     float64      // s, where the freest is
	Weight meter.Figure // dB in 20 to 150 Hz over its first 200 ms, over the loudness, LUFS, of all
	Tone   meter.Figure // dB, that less 1 to 8 kHz over its first 30 ms
	Hz     meter.Figure // where it settles
	Length meter.Figure // ms until its low end has fallen by 20 dB
}

// FreeKicks finds the low hits of a source that stand free, by the envelope of 30 to 150 Hz in steps of 1 ms: 18 dB over what
// is before them, and 20 dB down a quarter of a second later; and measures up to 16 of them, the freest first. loudness is
// that of all that they are a part of, LUFS. Count is 0 where none stands free.
func FreeKicks(ctx context.Context, src audio.Source, loudness meter.Figure) (FreeKick, error) {
	out := FreeKick{Weight: meter.None, Tone: meter.None, Hz: meter.None, Length: meter.None}
	f := src.Format()
	if err := f.Check(); err != nil {
		return out, err
	}
	env, err := lowEnvelope(ctx, src)
	if err != nil {
		return out, err
	}
	all := free(env)
	out.Count = len(all)
	if len(all) == 0 || !loudness.Valid() {
		return out, nil
	}
	out.At = all[0].at
	all = all[:min(len(all), freeMost)]
	var weights, tones, hz, lengths []meter.Figure
	for _, k := range all {
		x := audio.New(f.Rate, f.Channels, int(kickSpan*float64(f.Rate)))
		at := max(0, int64((k.at-0.005)*float64(f.Rate)))
		n := int(min(int64(x.Frames()), f.Frames-at))
		if err := src.ReadAt(x.Slice(0, n), at); err != nil {
			return out, err
		}
		mono := x.Mono()
		low, err := levelOf(mono, 20, 150, 0.2, f.Rate)
		if err != nil {
			return out, err
		}
		click, err := levelOf(mono, 1000, 8000, 0.03, f.Rate)
		if err != nil {
			return out, err
		}
		weights, tones = append(weights, low-loudness), append(tones, low-click)
		lengths = append(lengths, meter.Figure(k.length))
		small, fs := meter.Low(mono, f.Rate)
		if p := meter.KickPitch(small, fs, []float64{math.Max(0, k.at-float64(at)/float64(f.Rate))}); p != nil {
			hz = append(hz, meter.Figure(p.Hz))
		}
	}
	out.Weight, out.Tone, out.Hz, out.Length = meter.Median(weights), meter.Median(tones), meter.Median(hz), meter.Median(lengths)
	return out, nil
}

// levelOf is the mean square of a band over the first seconds of a sound, dBFS.
func levelOf(x []float32, lo, hi, seconds float64, rate int) (meter.Figure, error) {
	s, err := dsp.Bandpass(lo, math.Min(hi, 0.45*float64(rate)), float64(rate))
	if err != nil {
		return meter.None, err
	}
	n := min(len(x), int(seconds*float64(rate)))
	y := make([]float32, n)
	dsp.NewFilter(s).Process(y, x[:n])
	return meter.Figure(dsp.PowerDB(meter.Energy(y)/float64(n) + 1e-20)), nil
}

// lowEnvelope is the level of 30 to 150 Hz in steps of 1 ms, dB.
func lowEnvelope(ctx context.Context, src audio.Source) ([]float64, error) {
	f := src.Format()
	s, err := dsp.Bandpass(30, 150, float64(f.Rate))
	if err != nil {
		return nil, err
	}
	filter := dsp.NewFilter(s)
	step := f.Rate / 1000
	smooth := dsp.NewSmoother(0.004, float64(f.Rate))
	block := 64 * step
	b := audio.New(f.Rate, f.Channels, block)
	y := make([]float32, block)
	var out []float64
	for at := int64(0); at < f.Frames; at += int64(block) {
		if err := ctx.Err(); err != nil {
			return nil, err
		}
		x := b.Slice(0, int(min(int64(block), f.Frames-at)))
		if err := src.ReadAt(x, at); err != nil {
			return nil, err
		}
		m := x.Mono()
		z := y[:len(m)]
		filter.Process(z, m)
		smooth.Process(z, z)
		for i := step - 1; i < len(z); i += step {
			out = append(out, dsp.PowerDB(math.Max(1e-12, float64(z[i]))))
		}
	}
	return out, nil
}

type freeHit struct{ at, free, length float64 }

// free are the hits of an envelope that stand free, the freest first.
func free(env []float64) []freeHit {
	top := math.Inf(-1)
	for _, v := range env {
		top = math.Max(top, v)
	}
	before, gap, after, fall := int(1000*freeBefore), int(1000*freeGap), int(1000*freeAfter), 30
	var out []freeHit
	for i := before; i+after < len(env); i++ {
		if env[i] < top-12 || env[i] < env[i-1] || env[i] < env[i+1] { // a peak among the loud ones
			continue
		}
		highest := true
		for _, v := range env[i-gap : i+fall] {
			highest = highest && v <= env[i]+0.5
		}
		rise := math.Inf(1)
		start := i
		for start > i-60 && start > before && env[start] > env[i]-freeRise {
			start--
		}
		for _, v := range env[max(0, start-before+gap):max(1, start-gap)] {
			rise = math.Min(rise, env[i]-v)
		}
		if !highest || rise < freeRise || start == i-60 {
			continue
		}
		down := env[i] - env[i+after]
		if down < freeFall {
			continue
		}
		length := 0
		for k := i + after; k > i && length == 0; k-- { // from behind: the envelope still ripples with the tone
			if env[k] > env[i]-freeFall {
				length = k - i
			}
		}
		h := freeHit{at: float64(start) / 1000, free: math.Min(rise, freeEnough) + math.Min(down, freeEnough), length: float64(length)}
		if n := len(out); n > 0 && h.at-out[n-1].at < freeApart {
			continue
		}
		out = append(out, h)
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].free > out[j].free })
	for i, h := range out {
		if h.free < out[0].free-freeAlike { // something plays along
			return out[:i]
		}
	}
	return out
}
