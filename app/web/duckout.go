package web

import (
	"bytes"
	"errors"
	"fmt"
	"math"
	"net/http"
	"strconv"
	"strings"

	"github.com/gin-gonic/gin"

	"mellowthump/app/store"
	"mellowthump/app/web/plot"
	"mellowthump/core/audio"
	"mellowthump/core/audio/wav"
	"mellowthump/core/duck"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pocket"
	"mellowthump/core/session"
)

// setKeyed changes the values of a keyed duck.
func (s *Server) setKeyed(c *gin.Context) {
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		was, off := song.Duck()
		if was == nil || !was.Keyed() {
			return "", badInput(c, "keyed", errors.New("there is no keyed duck to set; press Fit first"))
		}
		d := *was
		comp := *was.Comp
		d.Comp = &comp
		var wrong error
		read := func(name, what, unit string, v *float64) {
			text, ok := c.GetPostForm(name)
			if !ok {
				return
			}
			n, err := move.ParseNumber(text, unit)
			if err != nil {
				if wrong == nil {
					wrong = fmt.Errorf("the %s %w", what, err)
				}
				return
			}
			*v = n
		}
		read("threshold", "threshold", "dB", &comp.Threshold)
		read("ratio", "ratio", "", &comp.Ratio)
		read("knee", "knee", "dB", &comp.Knee)
		read("attack", "attack", "ms", &comp.Attack)
		read("hold", "hold", "ms", &comp.Hold)
		read("release", "release", "ms", &comp.Release)
		read("ahead", "look-ahead", "ms", &comp.Lookahead)
		key := move.KeyFilter{Slope: 24}
		if was.Key != nil {
			key = *was.Key
		}
		for name, hz := range map[string]*float64{"key-high": &key.High, "key-low": &key.Low} {
			if text := strings.TrimSpace(c.PostForm(name)); text == "" || text == "–" {
				*hz = 0
			} else {
				read(name, "key filter", "Hz", hz)
			}
		}
		if slope, err := strconv.Atoi(c.PostForm("key-slope")); err == nil {
			key.Slope = slope
		}
		d.Key = &key
		if key.High == 0 && key.Low == 0 {
			d.Key = nil
		}
		if was.Band != nil {
			band := *was.Band
			read("band-hz", "band", "Hz", &band.Hz)
			read("band-range", "range", "dB", &band.Range)
			band.Range = math.Abs(band.Range)
			if shape, ok := c.GetPostForm("band-shape"); ok {
				band.Shape = shape
			}
			if band.Shape == "bell" {
				if band.Q == 0 {
					band.Q = 0.8
				}
				read("band-q", "Q", "", &band.Q)
			}
			if channels, ok := c.GetPostForm("band-channels"); ok {
				band.Channels = channels
			}
			d.Band = &band
		}
		if wrong == nil {
			wrong = d.Validate()
		}
		if wrong != nil {
			return "", badInput(c, "keyed", wrong)
		}
		song.SetDuck(&d, off, "")
		return "Change the keyed duck", nil
	})
}

// schools fits all three to the same goal, over the loop, and shows them side by side.
func (s *Server) schools(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v, err := s.view(c, song, "duck", nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	type row struct {
		School, Label string
		Fitted        duck.Fitted
		State         *duck.State
		On            bool
		Values        string
	}
	var rows []row
	if v.State != nil && !v.BassLeads() {
		n, err := s.Renderer.PairLength(&song.Song)
		if err != nil {
			s.failWith(c, err)
			return
		}
		now, off := song.Duck()
		fits, err := duck.FitSchools(c.Request.Context(), s.Renderer, &song.Song, mix.Window{To: n})
		if err != nil && trouble(err) == "" {
			s.failWith(c, err)
			return
		}
		for i, k := range move.Schools {
			if err != nil {
				break
			}
			f := fits[i]
			r := row{School: k.School, Label: k.Label, Fitted: f, On: now != nil && !off && now.School == k.School}
			if f.Duck != nil {
				one := song.Unducked()
				d := *f.Duck
				d.Trigger = song.DuckTrigger()
				r.Values = duck.Values(&d)
				one.SetDuck(&d, false, "")
				if r.State, err = duck.Measure(c.Request.Context(), s.Renderer, &one, v.Win); err != nil {
					s.failWith(c, err)
					return
				}
			}
			rows = append(rows, r)
		}
	}
	out := map[string]any{"ID": song.ID, "Rows": rows, "BassLeads": v.BassLeads()}
	if v.State != nil {
		f, err := duck.FalseTriggers(c.Request.Context(), s.Renderer, &song.Song, v.Win, func(sha string) []float64 {
			if a := v.Facts[sha]; a != nil {
				return a.Onsets
			}
			return nil
		})
		if err != nil {
			s.failWith(c, err)
			return
		}
		out["False"] = f
	}
	s.write(c, http.StatusOK, "schools", out)
}

// stopFalse puts the key filter in that stops the false triggers.
func (s *Server) stopFalse(c *gin.Context) {
	low, err := strconv.ParseFloat(c.PostForm("low"), 64)
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		was, off := song.Duck()
		if was == nil || !was.Keyed() || err != nil {
			return "", badInput(c, "keyed", errors.New("there is no keyed duck to filter"))
		}
		d := *was
		d.Key = &move.KeyFilter{Low: low, Slope: 24}
		if was.Key != nil {
			d.Key.High = was.Key.High
		}
		if err := d.Validate(); err != nil {
			return "", badInput(c, "keyed", err)
		}
		song.SetDuck(&d, off, song.DuckWhy())
		return fmt.Sprintf("Low-pass the key at %g Hz", low), nil
	})
}

// ducked returns the first stem that makes room by a duck, on.
func ducked(song *session.Song) *session.Stem {
	for _, st := range song.ByRole(song.Ducked()) {
		if m, d := st.DuckMove(); d != nil && !m.Off {
			return st
		}
	}
	return nil
}

// wholeGain returns the gain of the song's duck over its whole length; where it cannot, it answers.
func (s *Server) wholeGain(c *gin.Context) (*store.Song, []float32) {
	song := s.load(c)
	if song == nil {
		return nil, nil
	}
	st := ducked(&song.Song)
	if st == nil {
		s.fail(c, http.StatusNotFound, "There is no duck to take away yet, or it is off. Press Fit, or draw one.")
		return nil, nil
	}
	n, err := s.Renderer.Length(&song.Song)
	if err == nil {
		var gain []float32
		if gain, err = s.Renderer.Gain(&song.Song, st, mix.Window{To: n}); err == nil {
			return song, gain
		}
	}
	s.failWith(c, err)
	return nil, nil
}

// measuredCurve is the median gain over the hits, ms by ms, of a keyed duck.
func (s *Server) measuredCurve(c *gin.Context, song *store.Song) ([]duck.CurveRow, error) {
	st := ducked(&song.Song)
	if st == nil {
		return nil, errors.New("the duck is off")
	}
	n, err := s.Renderer.Length(&song.Song)
	if err != nil {
		return nil, err
	}
	gain, err := s.Renderer.Gain(&song.Song, st, mix.Window{To: n})
	if err != nil {
		return nil, err
	}
	hits, err := s.Renderer.Hits(&song.Song, song.DuckTrigger())
	if err != nil {
		return nil, err
	}
	return duck.MedianCurve(gain, hits, song.Rate), nil
}

// duckMIDI sends the gain as a MIDI controller over the song.
func (s *Server) duckMIDI(c *gin.Context) {
	song, gain := s.wholeGain(c)
	if song == nil {
		return
	}
	var out bytes.Buffer
	if err := midi.WriteControl(&out, duck.Control(gain, song.Rate), song.BPM); err != nil {
		s.failWith(c, err)
		return
	}
	attachment(c, fileSafe(song.Name)+" duck gain.mid")
	c.Data(http.StatusOK, "audio/midi", out.Bytes())
}

// duckGain sends the gain as a WAV: 1.0 where nothing is lowered.
func (s *Server) duckGain(c *gin.Context) {
	song, gain := s.wholeGain(c)
	if song == nil {
		return
	}
	attachment(c, fileSafe(song.Name)+" duck gain.wav")
	sendWAV(c, audio.Buffer{Rate: song.Rate, Ch: [][]float32{gain}}, wav.Float32)
}

// duckClick sends a short click at each hit: a trigger for a key input elsewhere, not to be heard.
func (s *Server) duckClick(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	hits, err := s.Renderer.Hits(&song.Song, song.DuckTrigger())
	if err != nil {
		s.failWith(c, err)
		return
	}
	n, err := s.Renderer.Length(&song.Song)
	if err != nil {
		s.failWith(c, err)
		return
	}
	if len(hits) == 0 {
		s.fail(c, http.StatusNotFound, "There are no hits to click at.")
		return
	}
	x := mix.Clicks(hits, mix.Window{To: n}, song.Rate)
	attachment(c, fileSafe(song.Name)+" trigger click.wav")
	sendWAV(c, audio.Buffer{Rate: song.Rate, Ch: [][]float32{x}}, wav.Int24)
}

// duckSheetText sends the settings in general terms, to be set by hand elsewhere.
func (s *Server) duckSheetText(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	d, _ := song.Duck()
	st := ducked(&song.Song)
	if d == nil || st == nil {
		s.fail(c, http.StatusNotFound, "There is no duck to write down yet, or it is off. Press Fit, or draw one.")
		return
	}
	v, err := s.view(c, song, "duck", nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	if v.State == nil || v.State.Readout == nil {
		s.fail(c, http.StatusConflict, "The duck cannot be measured: "+v.Trouble)
		return
	}
	var b strings.Builder
	trigger := v.triggerName()
	fmt.Fprintf(&b, "%s: ducking %s to %s\n%g bpm\n\n", song.Name, st.Name, trigger, song.BPM)
	keyed := func(d *move.Duck) {
		k := d.Comp
		fmt.Fprintf(&b, "  key input      %s\n", v.keyInput())
		if d.Key != nil && d.Key.High > 0 {
			fmt.Fprintf(&b, "  key high-pass  %g Hz, %d dB per octave\n", d.Key.High, d.Key.Slope)
		}
		if d.Key != nil && d.Key.Low > 0 {
			fmt.Fprintf(&b, "  key low-pass   %g Hz, %d dB per octave\n", d.Key.Low, d.Key.Slope)
		}
		fmt.Fprintf(&b, "  threshold      %.1f dB\n  ratio          %g to 1\n  knee           %g dB\n  attack         %g ms\n  hold           %g ms\n  release        %g ms\n  look-ahead     %g ms\n  detection      peak\n",
			k.Threshold, k.Ratio, k.Knee, k.Attack, k.Hold, k.Release, k.Lookahead)
	}
	switch d.School {
	case move.CurveSchool:
		at, err := d.AtTempo(song.BPM)
		if err != nil {
			s.failWith(c, err)
			return
		}
		fmt.Fprintf(&b, "A gain curve at every hit\n      ms   in 1/16      dB\n")
		sixteenth := 60000 / song.BPM / 4
		for _, p := range at.Points {
			fmt.Fprintf(&b, "%8.1f  %8.2f  %6.1f\n", p.MS, p.MS/sixteenth, p.DB)
		}
		n, err := s.Renderer.PairLength(&song.Song)
		if err != nil {
			s.failWith(c, err)
			return
		}
		var f duck.Fitted
		if !v.BassLeads() { // a compressor cannot tell the kick's attack from its tail
			f, err = duck.FitSchool(c.Request.Context(), s.Renderer, &song.Song, mix.Window{To: n}, move.CompressorSchool)
		}
		if err == nil && f.Duck != nil {
			fmt.Fprintf(&b, "\nA keyed compressor that comes near\n")
			keyed(f.Duck)
		}
	case move.CompressorSchool:
		fmt.Fprintf(&b, "A keyed compressor\n")
		keyed(d)
	case move.BandSchool:
		fmt.Fprintf(&b, "A keyed band dip\n")
		if d.Band.Shape == "bell" {
			fmt.Fprintf(&b, "  band           bell at %g Hz, Q %g, %s\n", d.Band.Hz, d.Band.Q, d.Band.Channels)
		} else {
			fmt.Fprintf(&b, "  band           all below %g Hz, 24 dB per octave, %s\n", d.Band.Hz, d.Band.Channels)
		}
		fmt.Fprintf(&b, "  range          %g dB at the most\n", d.Band.Range)
		keyed(d)
	}
	r := v.State.Readout
	lost, before, after := "bass", v.State.Before.ClearanceP10, v.State.After.ClearanceP10
	if v.BassLeads() {
		lost, before, after = "kick", v.Agree.Led.P10, v.Agree.Lead.P10
	}
	fmt.Fprintf(&b, "\nWhat to expect over %s\n  gain reduction on the meter  up to %.1f dB\n  clearance, worst tenth       %s to %s dB\n  %s loss                    %.1f LU, %.1f dB in 20 to 150 Hz\n  back before the next hit     %d of %d\n  freed headroom               %.1f dB in kick and bass together; the whole mix may rise by %.1f dB\n",
		v.Bars(), -float64(r.Depth), figure(before, 1), figure(after, 1), lost, float64(r.BassLoss), float64(r.BassLossLow), r.Back, r.Of, float64(r.Freed), float64(v.MixFreed()))
	fmt.Fprintf(&b, "\nThe MIDI file holds the gain as controller 11 with its fine part 43: 16383 is full gain, straight in amplitude.\nCompare by ear at matched loudness; the ears decide.\n")
	attachment(c, fileSafe(song.Name)+" duck settings.txt")
	c.Data(http.StatusOK, "text/plain; charset=utf-8", []byte(b.String()))
}

// cameBack compares a bass that was bounced anew with the duck that was planned for the old file.
func (s *Server) cameBack(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v, err := s.view(c, song, "duck", nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	out := map[string]any{"ID": song.ID}
	if st := ducked(&song.Song); st != nil && st.Was != "" && v.State != nil && !v.BassLeads() {
		a, err := duck.ComeBack(c.Request.Context(), s.Renderer, &song.Song, v.Win, st.ID, st.Was)
		if err != nil {
			s.failWith(c, err)
			return
		}
		out["Stem"], out["A"] = st, a
		out["Picture"] = plot.CameBack(plot.Back{MS: a.MS, Planned: a.Planned, Got: a.Got})
	}
	s.write(c, http.StatusOK, "cameback", out)
}

// setHandover moves the place where kick and bass meet: the tail's fade and the duck together.
func (s *Server) setHandover(c *gin.Context) {
	song := s.load(c)
	if song == nil {
		return
	}
	v, err := s.view(c, song, "duck", nil)
	if err != nil {
		s.failWith(c, err)
		return
	}
	s.edit(c, "duck", func(song *session.Song) (string, error) {
		to, err := move.ParseNumber(c.PostForm("ms"), "ms")
		if err == nil && !(to >= 20 && to <= 1000) {
			err = fmt.Errorf("a handover at %g ms is outside 20 to 1000", to)
		}
		if err != nil {
			return "", badInput(c, "points", err)
		}
		if v.State == nil || !v.State.After.HandoverMedian.Valid() {
			return "", badInput(c, "points", errors.New("there is no handover to move: the bass never takes over before the next hit"))
		}
		if err := duck.MoveHandover(song, float64(v.State.After.HandoverMedian), to, pocket.TailFade); err != nil {
			return "", badInput(c, "points", err)
		}
		return fmt.Sprintf("Handover to %.0f ms", to), nil
	})
}
