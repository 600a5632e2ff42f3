package levels

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strings"

	"mellowthump/core/dsp"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/mix"
	"mellowthump/core/session"
)

// What keeps an anchor from being used.
var (
	ErrNoKick      = errors.New("no stem is said to be the kick, so there is no kick peak to start from")
	ErrNoMelody    = errors.New("no stem is said to be melodic, so there is none to set against the click")
	ErrNoReference = errors.New("there is no finished track to match; add one first")
)

// unit is what is planned as one: the layers of a kick, the basses, or a stem alone.
type unit struct {
	role  session.Role
	stems []*session.Stem
	peak  float64 // dBFS at the end of the own chain
}

func (l *Ledger) units() []unit {
	var out []unit
	for _, g := range l.Groups {
		if g.Level.Peak.Valid() {
			out = append(out, unit{g.Role, g.Stems, float64(g.Level.Peak)})
		}
	}
	for _, row := range l.Rows {
		if st := row.Stem; !st.Mute && row.Peak().Valid() && st.Role != session.Kick && st.Role != session.Bass {
			out = append(out, unit{st.Role, []*session.Stem{st}, float64(row.Peak())})
		}
	}
	return out
}

// anchor works out what every unit should change by.
func anchor(ctx context.Context, r *mix.Renderer, l *Ledger, w mix.Window, o Options, p *Plan) ([]want, error) {
	switch o.Anchor {
	case Click:
		return byClick(l, o, p)
	case PinkNoise:
		return byNoise(ctx, r, l, w, o, p)
	case Reference:
		return byReference(l, o, p)
	}
	return byKick(l, o, p)
}

// byKick sets the kick to its anchor and all else into its window relative to it.
func byKick(l *Ledger, o Options, p *Plan) ([]want, error) {
	kick := l.Group(session.Kick)
	if kick == nil || !kick.Level.Peak.Valid() {
		return nil, ErrNoKick
	}
	to := l.Song.LevelRules().Kick
	if st := stuck(kick.Stems); st != nil {
		p.Blocked = append(p.Blocked, fmt.Sprintf("%s is locked at every step, so the kick stays at %s and all else is set by that", st.Name, at(kick.Level.Peak)))
		to = float64(kick.Level.Peak)
	}
	out := l.windowed(to, nil, 0)
	if o.HoldBass {
		p.Held = held(out)
	}
	return out, nil
}

// held keeps the basses that would be raised against the kick where they stand against it, and returns their ids.
func held(wants []want) (ids []string) {
	kick := 0.0
	for _, w := range wants {
		if w.stems[0].Role == session.Kick {
			kick = w.db
		}
	}
	for i := range wants {
		w := &wants[i]
		if w.stems[0].Role != session.Bass || w.db <= kick+enough {
			continue
		}
		w.db = kick
		for _, st := range w.stems {
			ids = append(ids, st.ID)
		}
	}
	return ids
}

// windowed sets the kick to a peak and all else into its window relative to it; a melody that is
// given is set to a peak of its own.
func (l *Ledger) windowed(kick float64, melody *session.Stem, melodyPeak float64) []want {
	var out []want
	moved := 0.0
	kickTied := false
	if g := l.Group(session.Kick); g != nil {
		kickTied = stuck(g.Stems) != nil || slices.ContainsFunc(g.Stems, l.tied)
	}
	for _, u := range l.units() {
		var db float64
		win, ok := l.Song.Window(u.role, kick)
		switch {
		case u.role == session.Kick:
			db = figure.Tenth(kick - u.peak)
			moved = db
		case melody != nil && u.stems[0] == melody:
			db = figure.Tenth(melodyPeak - u.peak)
		case !ok: // keeps its relation to the kick
			if db = moved; l.tied(u.stems[0]) || kickTied {
				db = 0
			}
		case slices.ContainsFunc(u.stems, l.tied): // what it may yet lose to a lock must not depend on where it was
			db = figure.Tenth(win.Middle() - u.peak)
		default:
			db = inward(win.Clamp(u.peak) - u.peak)
		}
		if db > 0 && u.role != session.Kick && ducks(u.stems...) {
			db = 0
		}
		out = append(out, want{u.stems, db})
	}
	return out
}

// ducks reports whether one of some stems ducks: its peak lies lower then where it makes room, and is not made up for. It was set before.
func ducks(stems ...*session.Stem) bool {
	return slices.ContainsFunc(stems, func(st *session.Stem) bool {
		m, d := st.DuckMove()
		return d != nil && !m.Off
	})
}

// tied reports whether a lock on the way to the master may send a trim back to the stem.
func (l *Ledger) tied(st *session.Stem) bool {
	if l.Song.Master.Locked() && !routesOf(l.Song).together() {
		return true
	}
	for i := range l.Song.Buses {
		if b := &l.Song.Buses[i]; b.Locked() && comesTo(l.Song, st, b.ID) {
			return true
		}
	}
	return false
}

// byClick sets a melody well below a click at full scale and all else relative to it.
func byClick(l *Ledger, o Options, p *Plan) ([]want, error) {
	var melody *Row
	for i := range l.Rows {
		row := &l.Rows[i]
		if row.Stem.Role != session.Melodic || row.Stem.Mute || !row.Peak().Valid() {
			continue
		}
		if o.Melody == row.Stem.ID || o.Melody == "" && (melody == nil || row.Peak() > melody.Peak()) {
			melody = row
		}
	}
	if melody == nil {
		return nil, ErrNoMelody
	}
	under := o.Under
	if under == 0 {
		under = DefaultUnder
	}
	rules := l.Song.LevelRules()
	win, ok := l.Song.Window(session.Melodic, rules.Kick)
	if !ok {
		return nil, ErrNoMelody
	}
	kick := rules.Kick - under - win.Middle()
	var order []string
	for _, row := range sorted(l.Rows, Quietest) {
		order = append(order, row.Stem.Name)
	}
	p.Notes = append(
		p.Notes,
		fmt.Sprintf(
			"%s is set to peak %.0f dB under the click. By ear, set the others from the quietest up: %s.",
			melody.Stem.Name,
			under,
			strings.Join(order, ", "),
		),
	)
	return l.windowed(kick, melody.Stem, -under), nil
}

const (
	noiseFrame  = 4096 // frames a band's level is taken over: 11 Hz apart at 44.1 kHz
	noiseOften  = 0.95 // the level that a band reaches or passes in a twentieth of the time
	noiseSilent = 1e-4 // of the loudest frame's energy: not sounding
)

// byNoise raises each stem until its strongest critical band stands at the threshold over pink
// noise. The noise's own level is then set so that the kick comes to its anchor.
//
// A tone is taken to be just audible when its power reaches that of the noise within one
// equivalent rectangular bandwidth around it (Fletcher's critical ratio, with the bandwidths of
// Glasberg and Moore 1990): threshold 0 dB. Real thresholds lie some dB to either side.
func byNoise(ctx context.Context, r *mix.Renderer, l *Ledger, w mix.Window, o Options, p *Plan) ([]want, error) {
	var out []want
	toKick, loudest := math.NaN(), math.Inf(-1)
	for _, u := range l.units() {
		over, band, err := overNoise(ctx, r, l.Song, u.stems, w)
		if err != nil {
			return nil, err
		}
		if math.IsInf(over, 0) {
			continue
		}
		db := o.Threshold - over
		out = append(out, want{u.stems, db})
		if u.role == session.Kick {
			toKick = l.Song.LevelRules().Kick - (u.peak + db)
			if st := stuck(u.stems); st != nil {
				toKick = -db
			}
		}
		loudest = max(loudest, u.peak+db)
		p.Notes = append(p.Notes, fmt.Sprintf("%s is heard first around %.0f Hz.", unitName(u), band.Middle()))
	}
	if math.IsNaN(toKick) { // no kick: the loudest part takes its place
		toKick = l.Song.LevelRules().Kick - loudest
	}
	for i := range out {
		out[i].db = figure.Tenth(out[i].db + toKick)
	}
	p.Noise = meter.Figure(toKick)
	return out, nil
}

func unitName(u unit) string {
	if len(u.stems) == 1 {
		return u.stems[0].Name
	}
	return "The " + string(u.role)
}

// overNoise returns by how much the strongest critical band of some stems stands over that of
// pink noise of 0 dBFS RMS, dB, and which band it is.
func overNoise(ctx context.Context, r *mix.Renderer, song *session.Song, stems []*session.Stem, w mix.Window) (float64, meter.CriticalBand, error) {
	bands := meter.CriticalBands(math.Min(16000, 0.45*float64(song.Rate)))
	levels, err := r.BandLevels(ctx, song, stems, w, bands, mix.Often{Frame: noiseFrame, Share: noiseOften, Silent: noiseSilent})
	if err != nil {
		return 0, meter.CriticalBand{}, err
	}
	best, at := math.Inf(-1), meter.CriticalBand{}
	for i, b := range bands {
		if levels[i] <= 0 {
			continue
		}
		if over := dsp.PowerDB(levels[i] / dsp.PinkShare(b.Lo, b.Hi, float64(song.Rate))); over > best {
			best, at = over, b
		}
	}
	return best, at, nil
}

const (
	matchDown  = 10.0 // dB by which a finished track is turned down; common practice
	matchMost  = 12.0 // dB by which a stem is moved against the others, at the most
	matchHold  = 0.02 // weight of staying where it is, against a dB squared in a band
	matchFloor = 50.0 // dB under the loudest band of the finished track: bands under it do not count
)

// byReference moves the stems so that their third-octave bands together come near to those of a
// finished track turned down by 10 dB: least squares in dB over the bands, each stem held to
// within 12 dB of the others and lightly to its place.
// Long because it is one solution: its steps share bands, weights and limits.
func byReference(l *Ledger, o Options, p *Plan) ([]want, error) {
	if o.Finished == nil {
		return nil, ErrNoReference
	}
	units := l.units()
	powers := make([][]float64, len(units))
	for i, u := range units {
		powers[i] = make([]float64, meter.Bands)
		for _, st := range u.stems {
			s, ok := o.Sounds[st.Audio]
			if !ok {
				continue
			}
			db := st.Source + st.Clip + st.Fader + l.Song.Master.Fader
			for _, b := range l.Song.Path(st.Bus) {
				db += b.Fader
			}
			for b, v := range s.Spectrum.Level {
				if v.Valid() {
					powers[i][b] += math.Pow(10, (float64(v)+db)/10)
				}
			}
		}
	}
	top := math.Inf(-1)
	for _, v := range o.Finished.Level {
		if v.Valid() {
			top = max(top, float64(v))
		}
	}
	var bands []int
	for b, v := range o.Finished.Level {
		any := 0.0
		for i := range powers {
			any += powers[i][b]
		}
		if v.Valid() && float64(v) > top-matchFloor && any > 0 {
			bands = append(bands, b)
		}
	}
	if len(bands) == 0 {
		return nil, errors.New("the finished track and the stems have no band in common")
	}
	error2 := func(common float64, own []float64) float64 {
		e := 0.0
		for _, b := range bands {
			sum := 0.0
			for i := range own {
				sum += powers[i][b] * math.Pow(10, (common+own[i])/10)
			}
			d := dsp.PowerDB(sum) - (float64(o.Finished.Level[b]) - matchDown)
			e += d * d
		}
		for _, d := range own {
			e += matchHold * d * d * float64(len(bands))
		}
		return e
	}
	common, own := 0.0, make([]float64, len(units))
	best := error2(common, own)
	for step := 8.0; step >= 0.05; step /= 2 { // one at a time, finer and finer
		for again := true; again; {
			again = false
			try := func(v *float64, to float64) {
				was := *v
				*v = to
				if e := error2(common, own); e < best-1e-9 {
					best, again = e, true
				} else {
					*v = was
				}
			}
			for _, d := range []float64{step, -step} {
				try(&common, common+d)
				for i := range own {
					if math.Abs(own[i]+d) <= matchMost {
						try(&own[i], own[i]+d)
					}
				}
			}
		}
	}
	var out []want
	for i, u := range units {
		out = append(out, want{u.stems, figure.Tenth(common + own[i])})
	}
	worst, at := 0.0, 0
	for _, b := range bands {
		sum := 0.0
		for i := range own {
			sum += powers[i][b] * math.Pow(10, (common+own[i])/10)
		}
		if d := dsp.PowerDB(sum) - (float64(o.Finished.Level[b]) - matchDown); math.Abs(d) > math.Abs(worst) {
			worst, at = d, b
		}
	}
	p.Notes = append(p.Notes, fmt.Sprintf("What levels cannot mend: %s dB against the finished track around %.0f Hz.", figure.ShortPlus(worst), meter.BandHz(at)))
	return out, nil
}
