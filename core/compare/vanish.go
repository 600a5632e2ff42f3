package compare

import (
	"context"
	"math"
	"sort"
	"sync/atomic"

	"mellowthump/core/audio"
	"mellowthump/core/device"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
	"mellowthump/core/meter"
)

// What is lost on a device, by common practice.
const (
	heardBy    = 3.0  // dB over the rest and the noise in one ERB, from which a sound is heard
	stemSounds = 60.0 // dB under its own loudest frame, under which a stem does not sound
)

// StemSound is a stem as it comes to the master.
type StemSound struct {
	ID, Name string
	Kick     bool
	Sound    audio.Buffer
}

// StemThere is what is left of a stem on a device.
type StemThere struct {
	ID, Name string
	Lost     meter.Figure // LU that it loses against what the whole mix loses; under 0: it stands out
	Room     meter.Figure // share of its frames that are heard in the room; None where it is silent
	There    meter.Figure // and on the device
}

// Missing is by how much less of it is heard than in the room, as a share.
func (s StemThere) Missing() float64 {
	if !s.Room.Valid() || !s.There.Valid() {
		return 0
	}
	return math.Max(0, float64(s.Room-s.There))
}

// Vanished is what a mix loses on a device.
type Vanished struct {
	device.Device
	Lost    meter.Figure // dB, of the K-weighted energy of the mix, without what the device is softer
	Hits    int          // of the kick in the loop
	Unheard []int        // those that are not heard, of Hits
	Stems   []StemThere  // what loses most of what was heard first
}

// Vanish says what of a mix vanishes on each device: its parts sum to it, from..to are the frames of the loop in them, hits
// the frames of the kick's; playback is the level, dB SPL, of -20 dBFS RMS in the room. A frame of a stem is heard where it
// stands 3 dB over the other stems, over the threshold of hearing and over the noise beside the device, in some ERB; a hit
// where the kick's frame at it is. Ceilings are left out: they take from all alike.
func Vanish(ctx context.Context, parts []StemSound, hits []int, from, to int, playback float64) ([]Vanished, error) {
	out := make([]Vanished, len(device.All))
	if len(parts) == 0 {
		return nil, nil
	}
	rate := parts[0].Sound.Rate
	ear := meter.NewEar(rate, playback)
	places := []*place{newPlace(nil, ear, ear.Quiet)}
	for i, d := range device.All {
		_, quiet := d.Quiet(rate, playback)
		sections, err := d.Sections(float64(rate))
		if err != nil {
			return nil, err
		}
		p := newPlace(&device.All[i], ear, quiet)
		for k := range p.gain {
			g := dsp.Response(sections, float64(k)*float64(rate)/float64(ear.Frame), float64(rate))
			p.gain[k] = real(g)*real(g) + imag(g)*imag(g)
		}
		places = append(places, p)
	}
	weight := weighting(rate, ear.Frame)
	kicks := false
	for _, p := range parts {
		kicks = kicks || p.Kick
	}
	var starts []int
	for at := from; at+ear.Frame <= to; at += ear.Frame / 2 {
		starts = append(starts, at)
	}
	frames := len(starts)
	var struck []int
	if kicks {
		for _, h := range hits {
			if h >= from && h+ear.Frame/2 < to {
				struck = append(struck, h)
			}
		}
	}
	starts = append(starts, struck...)
	s := make([]*stood, len(places))
	for i := range s {
		s[i] = newStood(len(parts), len(starts), len(struck))
	}
	var next atomic.Int64
	group.All(2, func(int) {
		w := newLooking(ear, len(parts))
		for i := int(next.Add(1)) - 1; i < len(starts) && ctx.Err() == nil; i = int(next.Add(1)) - 1 {
			w.look(parts, starts[i], places, weight, func(place int, part int, heard bool, energy float64) { s[place].note(part, i, heard, energy) }, i >= frames)
		}
	})
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for i := range device.All {
		out[i] = s[i+1].against(s[0], device.All[i], parts, frames)
	}
	return out, nil
}

// place is the room, or a device: what it does to the power in each bin.
type place struct {
	device *device.Device
	gain   []float64
	quiet  []float64
}

func newPlace(d *device.Device, e *meter.Ear, quiet []float64) *place {
	p := &place{device: d, gain: make([]float64, e.Frame/2+1), quiet: quiet}
	for i := range p.gain {
		p.gain[i] = 1
	}
	return p
}

// weighting is the power by which K weights each bin, ITU-R BS.1770.
func weighting(rate, frame int) []float64 {
	k := meter.KWeighting(float64(rate))
	out := make([]float64, frame/2+1)
	for i := range out {
		g := dsp.Response(k, float64(i)*float64(rate)/float64(frame), float64(rate))
		out[i] = real(g)*real(g) + imag(g)*imag(g)
	}
	return out
}

// looking is what one frame is looked at with.
type looking struct {
	ear         *meter.Ear
	plain, mono [][]float64 // power of each part: mean of its channels, and of their sum
	there       []float64
	excite      [][]float64
	all         []float64
	silent      []bool
	middle      audio.Buffer
}

func newLooking(e *meter.Ear, parts int) *looking {
	w := &looking{ear: e, there: make([]float64, e.Frame/2+1), all: make([]float64, len(e.Hz)), silent: make([]bool, parts)}
	for range parts {
		w.plain = append(w.plain, make([]float64, e.Frame/2+1))
		w.mono = append(w.mono, make([]float64, e.Frame/2+1))
		w.excite = append(w.excite, make([]float64, len(e.Hz)))
	}
	w.middle = audio.Buffer{Ch: [][]float32{make([]float32, e.Frame)}}
	return w
}

// look says of each part in each place whether it is heard in a frame, and its K-weighted energy; of a hit only of the kick,
// whose stems count as one.
func (w *looking) look(parts []StemSound, at int, places []*place, weight []float64, note func(place, part int, heard bool, energy float64), hit bool) {
	n := w.ear.Frame
	for i, p := range parts {
		w.ear.Power(w.plain[i], p.Sound, at)
		w.middle.Rate = p.Sound.Rate
		for k := range w.middle.Ch[0] {
			sum := float32(0)
			for _, ch := range p.Sound.Ch {
				if at+k >= 0 && at+k < len(ch) {
					sum += ch[at+k]
				}
			}
			w.middle.Ch[0][k] = sum / float32(len(p.Sound.Ch))
		}
		w.ear.Power(w.mono[i], w.middle, 0)
	}
	for pi, pl := range places {
		clear(w.all)
		for i := range parts {
			energy := 0.0
			for k := range w.there {
				v := w.plain[i][k]
				if d := pl.device; d != nil && (d.OneBox || float64(k)*float64(w.middle.Rate)/float64(n) < d.OneLow) {
					v = w.mono[i][k]
				}
				v *= pl.gain[k]
				w.there[k] = v
				energy += v * weight[k]
			}
			w.ear.Excite(w.excite[i], w.there, 0, len(w.all))
			for k, v := range w.excite[i] {
				w.all[k] += v
			}
			if !hit {
				note(pi, i, false, energy)
			}
		}
		over := math.Pow(10, heardBy/10)
		if hit {
			kick := make([]float64, len(w.all))
			for i, p := range parts {
				if p.Kick {
					for k, v := range w.excite[i] {
						kick[k] += v
					}
				}
			}
			note(pi, 0, stands(kick, w.all, pl.quiet, over), 0)
			continue
		}
		for i := range parts {
			if stands(w.excite[i], w.all, pl.quiet, over) {
				note(pi, i, true, 0)
			}
		}
	}
}

// stands reports whether an excitation stands over the rest of all and over what is quiet in some channel.
func stands(x, all, quiet []float64, over float64) bool {
	for k, v := range x {
		if v > over*math.Max(all[k]-v, quiet[k]) {
			return true
		}
	}
	return false
}

// stood is what was noted of a place.
type stood struct {
	heard  [][]bool
	energy [][]float64
	frames int
	struck int
}

func newStood(parts, frames, struck int) *stood {
	s := &stood{frames: frames - struck, struck: struck}
	for range parts {
		s.heard = append(s.heard, make([]bool, frames))
		s.energy = append(s.energy, make([]float64, frames))
	}
	return s
}

func (s *stood) note(part, frame int, heard bool, energy float64) {
	if energy > 0 {
		s.energy[part][frame] = energy
	}
	s.heard[part][frame] = s.heard[part][frame] || heard
}

func (s *stood) sums() (all float64, each []float64) {
	each = make([]float64, len(s.energy))
	for i, e := range s.energy {
		for _, v := range e[:s.frames] {
			each[i] += v
		}
		all += each[i]
	}
	return all, each
}

func (s *stood) against(room *stood, d device.Device, parts []StemSound, frames int) Vanished {
	v := Vanished{Device: d, Lost: meter.None, Hits: s.struck}
	for i := range s.struck {
		if !s.heard[0][frames+i] {
			v.Unheard = append(v.Unheard, i)
		}
	}
	was, wasEach := room.sums()
	now, nowEach := s.sums()
	lost := math.Inf(1)
	if was > 0 && now > 0 {
		lost = dsp.PowerDB(was / now)
		v.Lost = meter.Figure(lost)
	}
	for i, p := range parts {
		t := StemThere{ID: p.ID, Name: p.Name, Lost: meter.None, Room: meter.None, There: meter.None}
		if wasEach[i] > 0 && nowEach[i] > 0 {
			t.Lost = meter.Figure(dsp.PowerDB(wasEach[i]/nowEach[i]) - lost)
		}
		loudest := 0.0
		for _, e := range room.energy[i][:frames] {
			loudest = math.Max(loudest, e)
		}
		sounds, a, b := 0, 0, 0
		for k, e := range room.energy[i][:frames] {
			if e <= loudest*math.Pow(10, -stemSounds/10) {
				continue
			}
			sounds++
			if room.heard[i][k] {
				a++
			}
			if s.heard[i][k] {
				b++
			}
		}
		if sounds > 0 {
			t.Room, t.There = meter.Figure(float64(a)/float64(sounds)), meter.Figure(float64(b)/float64(sounds))
		}
		v.Stems = append(v.Stems, t)
	}
	sort.SliceStable(v.Stems, func(i, j int) bool {
		a, b := v.Stems[i], v.Stems[j]
		if math.Abs(a.Missing()-b.Missing()) > 0.01 {
			return a.Missing() > b.Missing()
		}
		return lossOf(a) > lossOf(b)
	})
	return v
}

func lossOf(s StemThere) float64 {
	if !s.Lost.Valid() {
		return 0
	}
	return float64(s.Lost)
}
