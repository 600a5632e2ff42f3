package export

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"mellowthump/core/audio/wav"
	"mellowthump/core/duck"
	"mellowthump/core/figure"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/mix"
	"mellowthump/core/move"
	"mellowthump/core/pair"
	"mellowthump/core/session"
)

// What there may be nothing of.
var (
	ErrNoDuck = errors.New("there is no duck to take away yet, or it is off; press Fit, or draw one")
	ErrNoHits = errors.New("there are no hits to take away")
	ErrNoPart = errors.New("there is no bass to take away")
	ErrNoPlan = errors.New("nothing was changed yet, so there is nothing to take away")
)

// Ducked returns the first stem that makes room by a duck, on; nil where none does.
func Ducked(song *session.Song) *session.Stem {
	for _, st := range song.ByRole(song.Ducked()) {
		if m, d := st.DuckMove(); d != nil && !m.Off {
			return st
		}
	}
	return nil
}

// CurveFile is a duck's curve as CSV: ms after the hit, gain in dB.
func CurveFile(name string, rows []duck.CurveRow) File {
	table := [][]string{{"ms", "db"}}
	for _, r := range rows {
		table = append(table, []string{strconv.FormatFloat(r.MS, 'f', 3, 64), strconv.FormatFloat(r.DB, 'f', 3, 64)})
	}
	return CSV(name, ',', table)
}

// Curve is the curve of the song's own duck; of a keyed one the median over the hits, ms by ms.
func Curve(ctx context.Context, r *mix.Renderer, song *session.Song) (File, error) {
	d, _ := song.Duck()
	if d == nil {
		return File{}, ErrNoDuck
	}
	name := song.Name + " duck curve.csv"
	if !d.Keyed() {
		rows, err := duck.Curve(d, song.BPM)
		return CurveFile(name, rows), err
	}
	whole, err := wholeGain(ctx, r, song)
	if err != nil {
		return File{}, err
	}
	gain, err := meter.Samples(whole)
	if err != nil {
		return File{}, err
	}
	hits, err := r.Hits(song, song.DuckTrigger())
	return CurveFile(name, duck.MedianCurve(gain, hits, song.Rate)), err
}

// wholeGain is the gain of the song's duck over its whole length.
func wholeGain(ctx context.Context, r *mix.Renderer, song *session.Song) (meter.Sound, error) {
	st := Ducked(song)
	if st == nil {
		return nil, ErrNoDuck
	}
	n, err := r.Length(song)
	if err != nil {
		return nil, err
	}
	return r.GainOf(ctx, song, st, mix.Window{To: n})
}

// GainMIDI is the duck's gain as a MIDI controller over the song.
func GainMIDI(ctx context.Context, r *mix.Renderer, song *session.Song) (File, error) {
	gain, err := wholeGain(ctx, r, song)
	if err != nil {
		return File{}, err
	}
	values, err := duck.ControlOf(gain, song.Rate)
	return Control(song.Name+" duck gain.mid", values, song.BPM), err
}

// GainWAV is the duck's gain as sound: 1.0 where nothing is lowered.
func GainWAV(ctx context.Context, r *mix.Renderer, song *session.Song) (File, error) {
	gain, err := wholeGain(ctx, r, song)
	return SoundOf(song.Name+" duck gain.wav", gain, song.Rate, wav.Float32), err
}

// triggerHits are the hits of the duck's trigger; none is an error.
func triggerHits(r *mix.Renderer, song *session.Song) ([]int, error) {
	hits, err := r.Hits(song, song.DuckTrigger())
	if err == nil && len(hits) == 0 {
		err = ErrNoHits
	}
	return hits, err
}

// Hits are the hits of the duck's trigger as notes.
func Hits(r *mix.Renderer, song *session.Song) (File, error) {
	const key, length = 36, 0.05 // C2, s
	hits, err := triggerHits(r, song)
	var notes []midi.Note
	for _, h := range hits {
		at := float64(h) / float64(song.Rate)
		notes = append(notes, midi.Note{Start: at, End: at + length, Key: key})
	}
	return Notes(song.Name+" hits.mid", notes, song.BPM), err
}

// Click is a short click at each hit: a trigger for a key input elsewhere, not to be heard.
func Click(r *mix.Renderer, song *session.Song) (File, error) {
	hits, err := triggerHits(r, song)
	if err != nil {
		return File{}, err
	}
	n, err := r.Length(song)
	if err != nil {
		return File{}, err
	}
	return SoundOf(song.Name+" trigger click.wav", mix.ClickSound(hits, mix.Window{To: n}, song.Rate), song.Rate, wav.Int24), nil
}

// DuckedStem is a stem with what is asked of its chain; an empty id names the first that makes room.
func DuckedStem(r *mix.Renderer, song *session.Song, id, with, form string) (File, error) {
	st := song.Stem(id)
	if st == nil {
		if b := song.ByRole(song.Ducked()); len(b) > 0 {
			st = b[0]
		}
	}
	if st == nil {
		return File{}, ErrNoPart
	}
	return Stem(r, song, st, with, form)
}

// Changed reports whether what leaves a stem is not its file as it came.
func Changed(st *session.Stem) bool {
	return st.Source != 0 || st.Clip != 0 || st.Fader != 0 || st.Pan != 0 || st.Width != 0 ||
		slices.ContainsFunc(st.Moves, func(m move.Move) bool { return !m.Off })
}

// All is everything there is to take away, in one archive: each changed stem, muted ones too, of a duck that is on the
// curve, the gain, the hits, the clicks and the settings sheet, and those of Room's moves, over a window, and of Body's.
func All(ctx context.Context, r *mix.Renderer, song *session.Song, settings File, w mix.Window) (File, error) {
	var files []File
	for i := range song.Stems {
		st := &song.Stems[i]
		if !Changed(st) {
			continue
		}
		f, err := Stem(r, song, st, WithAll, "")
		if err != nil {
			return File{}, err
		}
		files = append(files, f)
	}
	if Ducked(song) != nil {
		for _, of := range []func() (File, error){
			func() (File, error) { return Curve(ctx, r, song) },
			func() (File, error) { return GainMIDI(ctx, r, song) },
			func() (File, error) { return GainWAV(ctx, r, song) },
			func() (File, error) { return Hits(r, song) },
			func() (File, error) { return Click(r, song) },
			func() (File, error) { return settings, nil },
		} {
			switch f, err := of(); {
			case errors.Is(err, ErrNoHits):
			case err != nil:
				return File{}, err
			case f.Write != nil:
				files = append(files, f)
			}
		}
	}
	if len(files) == 0 {
		return File{}, ErrNoPlan
	}
	switch f, err := RoomSettings(ctx, r, song, w); {
	case errors.Is(err, ErrNoPlan):
	case err != nil:
		return File{}, err
	default:
		files = append(files, f)
	}
	for _, sheet := range []func(*session.Song) (File, error){BodySettings, WidthSettings} {
		switch f, err := sheet(song); {
		case errors.Is(err, ErrNoPlan):
		case err != nil:
			return File{}, err
		default:
			files = append(files, f)
		}
	}
	return Zip(song.Name+".zip", files), nil
}

// Expect is what the settings sheet says is to be expected.
type Expect struct {
	Bars    string // the loop
	State   *pair.State
	Lead    meter.BassLead // where the bass leads: after and
	Led     meter.BassLead // before
	Freed   meter.Figure   // of the whole mix, dB
	Trigger string
	Input   string // what a keyed duck listens to
}

// Settings are the duck's settings in general terms, to be set by hand elsewhere.
func Settings(ctx context.Context, r *mix.Renderer, song *session.Song, e Expect) (File, error) {
	d, _ := song.Duck()
	st := Ducked(song)
	if d == nil || st == nil {
		return File{}, ErrNoDuck
	}
	var b strings.Builder
	fmt.Fprintf(&b, "%s: ducking %s to %s\n%g bpm\n\n", song.Name, st.Name, e.Trigger, song.BPM)
	switch d.School {
	case move.CurveSchool:
		if err := curveSettings(ctx, &b, r, song, d, e); err != nil {
			return File{}, err
		}
	case move.CompressorSchool:
		fmt.Fprintf(&b, "A keyed compressor\n")
		if err := keyedSettings(ctx, &b, r, song, d, e); err != nil {
			return File{}, err
		}
	case move.BandSchool:
		fmt.Fprintf(&b, "A keyed band dip\n")
		if d.Band.Shape == "bell" {
			fmt.Fprintf(&b, "  band           bell at %g Hz, Q %g, %s\n", d.Band.Hz, d.Band.Q, d.Band.Channels)
		} else {
			fmt.Fprintf(&b, "  band           all below %g Hz, 24 dB per octave, %s\n", d.Band.Hz, d.Band.Channels)
		}
		fmt.Fprintf(&b, "  range          %g dB at the most\n", d.Band.Range)
		if err := keyedSettings(ctx, &b, r, song, d, e); err != nil {
			return File{}, err
		}
	}
	expected(&b, song, e)
	return Text(song.Name+" duck settings.txt", b.String()), nil
}

// curveSettings lists a curve's points, and a keyed compressor that comes near.
func curveSettings(ctx context.Context, b *strings.Builder, r *mix.Renderer, song *session.Song, d *move.Duck, e Expect) error {
	at, err := d.AtTempo(song.BPM)
	if err != nil {
		return err
	}
	fmt.Fprintf(b, "A gain curve at every hit\n      ms   in 1/16      dB\n")
	sixteenth := 60000 / song.BPM / 4
	for _, p := range at.Points {
		fmt.Fprintf(b, "%8.1f  %8.2f  %6.1f\n", p.MS+0, p.MS/sixteenth+0, p.DB+0)
	}
	for i, part := range song.Sections {
		if part.Shallower == 0 {
			continue
		}
		to := "the end"
		if i+1 < len(song.Sections) {
			to = song.Position(song.Sections[i+1].From)
		}
		does := "it rests"
		if !part.Rests() {
			does = fmt.Sprintf("it has %s %% of its depth", figure.Short(100*(1-part.Shallower)))
		}
		fmt.Fprintf(b, "From %s to %s (%s) %s.\n", song.Position(part.From), to, part.Name, does)
	}
	if at.Follow {
		from, _ := at.Back()
		fmt.Fprintf(
			b,
			"Its release follows the gap to the next hit: where that comes before the last point, the\npoints after %.1f ms stand closer together, so that it is "+
				"back %.0f ms before the hit.\n",
			from,
			move.LetGo,
		)
	}
	if song.Leader == session.BassLeads { // a compressor cannot tell the kick's attack from its tail
		return nil
	}
	n, err := r.PairLength(song)
	if err != nil {
		return err
	}
	f, err := duck.FitSchool(ctx, r, song, mix.Window{To: n}, move.CompressorSchool)
	if err != nil {
		return err
	}
	if f.Duck != nil {
		fmt.Fprintf(b, "\nA keyed compressor that comes near\n")
		if err := keyedSettings(ctx, b, r, song, f.Duck, e); err != nil {
			return err
		}
		fmt.Fprintf(b, "  it reaches     %s dB of clearance in the worst tenth of the whole song's hits; %g are asked\n", signed1(f.P10), song.Targets.Clearance)
	}
	return nil
}

func signed1(f meter.Figure) string {
	if !f.Valid() {
		return "–"
	}
	return figure.Signed(float64(f), 1)
}

// keyedSettings lists a keyed duck's settings, and at which level of its key they hold.
func keyedSettings(ctx context.Context, b *strings.Builder, r *mix.Renderer, song *session.Song, d *move.Duck, e Expect) error {
	k := d.Comp
	n, err := r.Length(song)
	if err != nil {
		return err
	}
	key, _, err := r.Key(ctx, song, song.DuckTrigger(), mix.Window{To: n})
	if err != nil {
		return err
	}
	peak, err := duck.KeyPeak(key)
	if err != nil {
		return err
	}
	fmt.Fprintf(b, "  key input      %s\n", e.Input)
	if d.Key != nil && d.Key.High > 0 {
		fmt.Fprintf(b, "  key high-pass  %g Hz, %d dB per octave\n", d.Key.High, d.Key.Slope)
	}
	if d.Key != nil && d.Key.Low > 0 {
		fmt.Fprintf(b, "  key low-pass   %g Hz, %d dB per octave\n", d.Key.Low, d.Key.Slope)
	}
	fmt.Fprintf(
		b,
		"  threshold      %.1f dB\n  ratio          %g to 1\n  knee           %g dB\n  attack         %g ms\n  hold           %g ms\n  release        %g ms\n  "+
			"look-ahead     %g ms\n  detection      peak\n",
		k.Threshold,
		k.Ratio,
		k.Knee,
		k.Attack,
		k.Hold,
		k.Release,
		k.Lookahead,
	)
	if peak.Valid() {
		fmt.Fprintf(b, "  key level      peaks at %s dBFS here; where yours peaks higher or lower, move the threshold by as much\n", signed1(peak))
	}
	return nil
}

func expected(b *strings.Builder, song *session.Song, e Expect) {
	r := e.State.Readout
	lost, before, after := "bass", e.State.Before.ClearanceP10, e.State.After.ClearanceP10
	if song.Leader == session.BassLeads {
		lost, before, after = "kick", e.Led.P10, e.Lead.P10
	}
	fmt.Fprintf(
		b,
		"\nWhat to expect over %s of what is on here\n  gain reduction on the meter  up to %.1f dB\n  clearance, worst tenth       %s to %s dB\n  %s loss        "+
			"            %.1f LU, %.1f dB in 20 to 150 Hz\n  back before the next hit     %d of %d\n  freed headroom               %.1f dB in kick and bass "+
			"together; the whole mix may rise by %.1f dB\n",
		e.Bars,
		-float64(r.Depth),
		signed1(before),
		signed1(after),
		lost,
		float64(r.BassLoss),
		float64(r.BassLossLow),
		r.Back,
		r.Of,
		float64(r.Freed),
		float64(e.Freed),
	)
	fmt.Fprintf(
		b,
		"\nThe MIDI file holds the gain as controller 11 with its fine part 43: 16383 is full gain, straight in amplitude.\nCompare by ear at matched loudness; "+
			"the ears decide.\n",
	)
}
