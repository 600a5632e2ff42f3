package room

import (
	"context"
	"math"
	"slices"

	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// Voice is the id of a voice among the parts of a crowd: it is in no mix.
const Voice = "voice"

// ltass is the long-term average speech spectrum of men and women together, third-octaves from 63 Hz to 16 kHz, dB SPL for
// 70 dB overall: Byrne et al., J. Acoust. Soc. Am. 96(4), 1994, table II (from memory).
var ltass = []float64{
	38.6,
	43.5,
	54.4,
	57.7,
	56.8,
	60.2,
	60.3,
	59.0,
	62.1,
	62.1,
	60.5,
	56.8,
	53.7,
	53.0,
	52.0,
	48.7,
	48.1,
	46.8,
	45.6,
	44.5,
	44.3,
	43.7,
	43.4,
	41.3,
	40.7,
}

// ltassFirst is the band of BandHz at which it begins, 63 Hz.
const ltassFirst = 5

// Where a voice has to be heard, Hz; common practice.
var (
	voiceBody  = [2]float64{200, 500}
	voiceWords = [2]float64{1000, 4000}
)

// speech is the excitation of steady speech at a level, dBFS RMS.
func speech(e *meter.Ear, level float64) []float64 {
	total := 0.0
	for _, l := range ltass {
		total += math.Pow(10, l/10)
	}
	power, out := make([]float64, e.Frame/2+1), make([]float64, len(e.Hz))
	bin := float64(e.Rate) / float64(e.Frame)
	for i, l := range ltass {
		p := math.Pow(10, (l+level)/10) / total
		lo, hi := meter.BandHz(ltassFirst+i)*math.Pow(10, -0.05)/bin, meter.BandHz(ltassFirst+i)*math.Pow(10, 0.05)/bin
		for k := int(lo + 0.5); k <= int(hi+0.5) && k < len(power); k++ {
			power[k] += p * max(0, min(hi, float64(k)+0.5)-max(lo, float64(k)-0.5)) / (hi - lo)
		}
	}
	e.Excite(out, power, 0, len(out))
	return out
}

// WithVoice returns the crowd with a voice in it: speech of the long-term average spectrum, steady, at a level, dBFS RMS.
// The crowd itself stays.
func (c *Crowd) WithVoice(level float64) *Crowd {
	s := &Excited{ear: c.ear}
	e := speech(c.ear, level)
	for range c.sum {
		s.was = append(s.was, e)
	}
	return c.joined(&session.Stem{ID: Voice, Name: "the voice"}, s, nil, mix.Key("voice", c.key, level))
}

// WithVoiceOf returns the crowd with the song's own voice in it, as it is, or brought to a level, dBFS RMS while it sounds.
// It also returns its own level; None where it is silent in the window.
func (c *Crowd) WithVoiceOf(ctx context.Context, r *mix.Renderer, song *session.Song, w mix.Window, level meter.Figure) (*Crowd, meter.Figure, error) {
	in, lead := wide(song, w)
	alone := session.New("voice", song.BPM)
	alone.Rate, alone.Stems = song.Rate, []session.Stem{{ID: Voice, Name: song.Voice.Name, Role: session.Other, Audio: song.Voice.Audio}}
	key, x, err := hearing(r, &alone, in)
	if err != nil {
		return nil, meter.None, err
	}
	e, err := excited(ctx, r, c.ear, key, x, lead)
	if err != nil {
		return nil, meter.None, err
	}
	sounding, sum := e.Sounding(), 0.0
	if len(sounding) == 0 {
		return c, meter.None, nil
	}
	at := make([]bool, len(e.was))
	for _, f := range sounding {
		at[f] = true
		sum += e.total[f]
	}
	own := meter.Figure(dsp.PowerDB(sum / float64(len(sounding))))
	gain := 1.0
	if level.Valid() {
		gain = math.Pow(10, float64(level-own)/10)
	}
	s := &Excited{ear: c.ear, at: e.at}
	for _, w := range e.was {
		turned := make([]float64, len(w))
		for n, v := range w {
			turned[n] = v * gain
		}
		s.was = append(s.was, turned)
	}
	v := c.joined(&session.Stem{ID: Voice, Name: song.Voice.Name}, s, at, mix.Key("voice of", c.key, key, gain))
	return v, own, nil
}

// joined returns the crowd with one more part.
func (c *Crowd) joined(st *session.Stem, s *Excited, at []bool, key string) *Crowd {
	v := *c
	v.key = key
	v.Stems = append(slices.Clip(c.Stems), st)
	v.each = append(slices.Clip(c.each), s)
	v.at = append(slices.Clip(c.at), at)
	v.sum = nil
	v.add()
	return &v
}

// covered is the share of a voice's cells of frame and ERB, between two frequencies, that the beat covers: each counts alike.
func (c *Crowd) covered(band [2]float64) float64 {
	of := len(c.each) - 1
	covered, all := 0, 0
	for f, w := range c.each[of].was {
		for n, v := range w {
			if c.ear.Hz[n] < band[0] || c.ear.Hz[n] > band[1] || v <= c.ear.Quiet[n] || !c.judged(of, f) {
				continue
			}
			if all++; v <= c.sum[f][n]-v {
				covered++
			}
		}
	}
	if all == 0 {
		return 0
	}
	return float64(covered) / float64(all)
}

// VoiceSpace is what a beat leaves a voice.
type VoiceSpace struct {
	Body, Words float64 // share covered in 200 to 500 Hz and in 1 to 4 kHz
	Dips        []Dip   // that let it through, one a stem, who covers most first
}

// Space says what the beat covers of a voice, and finds the dips that let it through. The crowd is one with a voice.
func (c *Crowd) Space() VoiceSpace {
	out := VoiceSpace{Body: c.covered(voiceBody), Words: c.covered(voiceWords)}
	for _, k := range c.Covers() {
		if k.Of != Voice || k.Lost < coverTell/4 || len(out.Dips) == coverMost {
			continue
		}
		if d, ok := c.Dip(k); ok {
			out.Dips = append(out.Dips, d)
		}
	}
	return out
}
