package facts

import (
	"context"
	"fmt"
	"math"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/meter"
	"mellowthump/core/midi"
	"mellowthump/core/session"
)

// Portrait is what Describe finds in a file beyond its figures: what it sounds like, and what
// sets it beside other files.
type Portrait struct {
	Spectrum    meter.Spectrum   `json:"spectrum"`
	Sweep       meter.Sweep      `json:"sweep"`           // of each hit, where the file has hits
	Line        []meter.BassNote `json:"line"`            // as a bass line; empty where it is none
	Ducked      float64          `json:"ducked_db"`       // by how much the line is ducked in the file; 0: it is not
	LowShare    float64          `json:"low_share"`       // of the energy, under 150 Hz
	HighShare   float64          `json:"high_share"`      // over 5 kHz
	Sustain     float64          `json:"sustain"`         // share of the time within 20 dB of the loudest
	HeadS       float64          `json:"head_s"`          // silence at the start
	Floor       meter.Figure     `json:"floor_dbfs"`      // quietest twentieth of the time that is not digital silence
	FloorSpread meter.Figure     `json:"floor_spread_db"` // from there to the quietest fifth: a tail spreads, noise does not
	SideShare   float64          `json:"side_share"`      // of the energy; 0: two equal channels
	Pitched     float64          `json:"pitched"`         // share of the low energy that has a pitch
	Attacks     float64          `json:"attacks"`         // a second: places where the sound rises by 6 dB and more
	Strike      float64          `json:"strike_db"`       // by how much it rises at them, median
	Decay       float64          `json:"decay_s"`         // until it has fallen by 20 dB, median; at most a second
	CarriesLow  float64          `json:"carries_low"`     // low energy late in the gaps over that at the hits
	Signature   []float32        `json:"signature"`       // the low part at evenly spread places, signed
	Kinds       Kinds            `json:"kinds"`           // of its hits
	LowHits     []float64        `json:"low_hits_s"`      // of several drums, those that strike low
	Lows        []float64        `json:"lows"`            // share of the energy in each hertz under 64, see meter.LowShares
}

const (
	headAmplitude = 1e-4  // -80 dBFS: under it is silence
	sustainUnder  = 0.01  // of the loudest energy: 20 dB
	blockSeconds  = 0.05  // s, of the energies that tell sustain and floor
	fineSeconds   = 0.01  // s, of those that tell attacks
	attackBlocks  = 4     // blocks before an attack that it rises over
	attackRise    = 6.0   // dB
	attackUnder   = 30.0  // dB under the loudest: softer are none
	decayBlocks   = 100   // blocks for which a decay is followed
	decayFall     = 0.01  // of the energy: 20 dB
	signatureSize = 512   // samples
	lineAbout     = 200.0 // Hz: a line is read where the fundamental lies under it
	sustained     = 0.9   // of the time: what goes on may be a line, whatever it is struck like
	lineLow       = 0.1   // of the energy, under 150 Hz, that it has at the least
	lowTop        = 150.0 // Hz, of the share of the energy that is low
	highFrom      = 5000.0
	struckUnder   = 0.02 // of the energy at the hits: what is struck has died away between them
)

// traces are what Analyse keeps in memory for Describe.
type traces struct {
	low        []float32 // the low part, see meter.Low
	lowRate    float64
	energies   meanSquares // of short blocks, mono
	fine       meanSquares // of shorter ones, for attacks
	first      int         // frame of the first sample over silence, -1 before it
	sideShare  float64
	meanSquare float64 // of the mono sum
	kinds      Kinds
}

// meanSquares are those of equal blocks of a sound.
type meanSquares struct {
	of    []float64
	sum   float64 // of the block being filled
	count int
}

// add follows sound in blocks of a step.
func (m *meanSquares) add(x []float32, step int) {
	for i := 0; i < len(x); {
		end := min(len(x), i+step-m.count)
		m.sum += meter.Energy(x[i:end])
		if m.count += end - i; m.count == step {
			m.of = append(m.of, m.sum/float64(step))
			m.sum, m.count = 0, 0
		}
		i = end
	}
}

// add follows a block of the mono sum.
func (t *traces) add(rate int, mono []float32, at int) {
	t.energies.add(mono, max(1, int(blockSeconds*float64(rate))))
	t.fine.add(mono, max(1, int(fineSeconds*float64(rate))))
	if t.first < 0 {
		for i, v := range mono {
			if v > headAmplitude || -v > headAmplitude {
				t.first = at + i
				break
			}
		}
	}
}

// Describe adds the portrait of a file that Analyse has just measured, with its line where it plays one; src is read again, at
// some places.
func Describe(ctx context.Context, src audio.Source, a *Analysis) error {
	t := a.traces
	if err := Portray(ctx, src, a); err != nil || a.Portrait == nil || t == nil {
		return err
	}
	p := a.Portrait
	role, sure := a.likeliest()
	struck := role == session.Kick && sure > 0.5 && p.Sustain < sustained ||
		len(a.Onsets) > 1 && p.CarriesLow < struckUnder && p.LowShare > 0.4 && role != session.Bass // a kick's hits are no line
	if p.LowShare > lineLow && !struck && a.Fundamental != nil && a.Fundamental.Hz < lineAbout {
		p.Line, p.Ducked = meter.DuckedLine(t.low, t.lowRate)
	}
	return nil
}

// Portray is Describe without the line, which takes most of the time: enough to tell a role.
func Portray(ctx context.Context, src audio.Source, a *Analysis) error {
	if a.Silent() || a.traces == nil {
		return nil
	}
	if err := ctx.Err(); err != nil {
		return err
	}
	spectrum, err := meter.MeasureSpectrum(src)
	if err != nil {
		return err
	}
	t := a.traces
	p := &Portrait{Spectrum: spectrum, SideShare: t.sideShare, Lows: meter.LowShares(t.low, t.lowRate, t.meanSquare)}
	if t.first > 0 {
		p.HeadS = float64(t.first) / float64(a.Rate)
	}
	p.energies(t.energies.of)
	p.attacks(t.fine.of)
	p.Kinds = t.kinds
	if a.Fundamental != nil {
		p.Pitched = a.Fundamental.Periodic
	}
	p.shares()
	low, fs := t.low, t.lowRate
	if a.Kick = meter.KickPitch(t.low, t.lowRate, a.Onsets); a.Kick != nil {
		p.Sweep = meter.KickSweep(low, fs, a.Onsets, a.Kick.Hz)
	} else {
		p.Sweep = meter.Sweep{StartHz: meter.None, TimeMS: meter.None}
	}
	p.CarriesLow = carriesLow(low, fs, a.Onsets)
	if p.Kinds.several() {
		p.LowHits = lowHits(low, fs, a.Onsets)
	}
	a.Portrait = p
	for i := range min(signatureSize, len(low)) {
		p.Signature = append(p.Signature, low[i*len(low)/min(signatureSize, len(low))])
	}
	a.traces = nil
	return nil
}

// energies works out sustain and floor from the energies of short blocks.
func (p *Portrait) energies(e []float64) {
	p.Floor, p.FloorSpread = meter.None, meter.None
	s := append([]float64(nil), e...)
	sort.Float64s(s)
	if len(s) == 0 {
		return
	}
	loudest, within := s[len(s)-1], 0
	for _, v := range s {
		if v > loudest*sustainUnder {
			within++
		}
	}
	p.Sustain = float64(within) / float64(len(s))
	if q := s[len(s)/20]; q > 1e-12 { // digital silence is no noise
		p.Floor = meter.Figure(10 * math.Log10(q))
		p.FloorSpread = meter.Figure(10*math.Log10(s[len(s)/5])) - p.Floor
	}
}

// attack is a place where a sound is struck.
type attack struct {
	at    int     // short block in which it begins
	rise  float64 // dB
	decay int     // short blocks until it has fallen by 20 dB
}

// attacksIn finds where a sound is struck by the energies of its short blocks.
func attacksIn(e []float64) []attack {
	loudest := 0.0
	for _, v := range e {
		loudest = max(loudest, v)
	}
	if loudest == 0 { // a mono sum that is silent: the channels are each other upside down
		return nil
	}
	floor := loudest * math.Pow(10, -attackUnder/10)
	var out []attack
	for i := 0; i < len(e); i++ {
		before := floor / 1000
		for _, v := range e[max(0, i-attackBlocks):i] {
			before = max(before, v)
		}
		at := i // the top of the next few
		for k := i; k < min(len(e), i+attackBlocks); k++ {
			if e[k] > e[at] {
				at = k
			}
		}
		rise := 10 * math.Log10(e[at]/before)
		if e[at] < floor || rise < attackRise || e[i] < 2*before {
			continue
		}
		k := at
		for k < min(len(e), at+decayBlocks) && e[k] > e[at]*decayFall {
			k++
		}
		out = append(out, attack{i, rise, k - at})
		i = at + attackBlocks
	}
	return out
}

// attacks works out how often the sound is struck, how hard, and how soon it dies away.
func (p *Portrait) attacks(e []float64) {
	var strikes, decays []meter.Figure
	for _, a := range attacksIn(e) {
		strikes, decays = append(strikes, meter.Figure(a.rise)), append(decays, meter.Figure(float64(a.decay)*fineSeconds))
	}
	if len(strikes) > 0 {
		p.Attacks = float64(len(strikes)) / (float64(len(e)) * fineSeconds)
		p.Strike, p.Decay = math.Min(60, float64(meter.Median(strikes))), float64(meter.Median(decays))
	}
}

func (p *Portrait) shares() {
	var low, high, all float64
	for i, l := range p.Spectrum.Level {
		if !l.Valid() {
			continue
		}
		e := math.Pow(10, float64(l)/10)
		all += e
		if meter.BandHz(i) < lowTop {
			low += e
		} else if meter.BandHz(i) > highFrom {
			high += e
		}
	}
	if all > 0 {
		p.LowShare, p.HighShare = low/all, high/all
	}
}

// carriesLow compares the low energy late in the gaps between hits with that at the hits: a
// kick alone has died away by then, a bass in the same file has not.
func carriesLow(low []float32, fs float64, hits []float64) float64 {
	const at, late, least = 0.12, 0.25, 0.35 // s
	var hit, rest, hitN, restN float64
	for i, h := range hits {
		end := float64(len(low)) / fs
		if i+1 < len(hits) {
			end = hits[i+1]
		}
		if end-h < least {
			continue
		}
		for n := int(h * fs); n < int((end-0.01)*fs) && n < len(low); n++ {
			e := float64(low[n]) * float64(low[n])
			switch t := float64(n)/fs - h; {
			case t < at:
				hit, hitN = hit+e, hitN+1
			case t > late && t < 0.6:
				rest, restN = rest+e, restN+1
			}
		}
	}
	if hit == 0 || restN == 0 {
		return 0
	}
	return rest / restN / (hit / hitN)
}

// Likeness compares two files: near 1 where they hold the same sound (at any level), near -1
// where one is the other upside down, near 0 else.
func Likeness(a, b *Analysis) float64 { return NewFingerprint(a).Likeness(NewFingerprint(b)) }

// Fingerprint is what files are compared by: a signature, and what energy is left from each of its parts on.
type Fingerprint struct {
	seconds float64
	sound   []float32
	left    [fingerParts + 1]float64 // energy from part k to the end
}

const fingerParts = 16

// NewFingerprint prepares a file to be compared with others.
func NewFingerprint(a *Analysis) *Fingerprint {
	p := &Fingerprint{seconds: a.DurationS}
	if a.Portrait == nil || len(a.Portrait.Signature) < signatureSize/4 {
		return p
	}
	p.sound = a.Portrait.Signature
	for k := fingerParts - 1; k >= 0; k-- {
		sum := 0.0
		for _, v := range p.part(k) {
			sum += float64(v) * float64(v)
		}
		p.left[k] = p.left[k+1] + sum
	}
	return p
}

func (p *Fingerprint) part(k int) []float32 {
	n := len(p.sound)
	return p.sound[k*n/fingerParts : (k+1)*n/fingerParts]
}

// Likeness is the correlation of two signatures, 0 where it cannot come to alike any more: what is left of both, however
// it lay, would not make it (Cauchy and Schwarz).
func (p *Fingerprint) Likeness(q *Fingerprint) float64 {
	if len(p.sound) == 0 || len(p.sound) != len(q.sound) || math.Abs(p.seconds-q.seconds) > 0.05 {
		return 0
	}
	whole := math.Sqrt(p.left[0] * q.left[0])
	if whole == 0 {
		return 0
	}
	xy := 0.0
	for k := range fingerParts {
		if math.Abs(xy)+math.Sqrt(p.left[k]*q.left[k]) < Alike*whole {
			return 0
		}
		y := q.part(k)
		for i, v := range p.part(k) {
			xy += float64(v) * float64(y[i])
		}
	}
	return xy / whole
}

// Line returns the bass line of a file: as it was heard or, where MIDI notes are given, as they
// name it, with the pitch that was heard while each sounds. It is nil where there is neither.
func Line(a *Analysis, notes *session.MIDI) []meter.BassNote {
	var heard []meter.BassNote
	if a != nil && a.Portrait != nil {
		heard = a.Portrait.Line
	}
	if notes == nil {
		return heard
	}
	var line []meter.BassNote
	for _, n := range notes.Notes {
		b := meter.BassNote{Start: n.Start + notes.Offset, End: n.End + notes.Offset, Hz: meter.NoteHz(n.Key)}
		b.Note, b.Cents = meter.Note(b.Hz)
		most := (b.End - b.Start) / 2 // of it, at the least, is to be heard at that pitch
		for _, h := range heard {
			cents := 1200 * math.Log2(h.Hz/b.Hz)
			if both := min(h.End, b.End) - max(h.Start, b.Start); both >= most && math.Abs(cents) < midiCents {
				most, b.Hz, b.Cents, b.Glide = both, h.Hz, cents, h.Glide
			}
		}
		line = append(line, b)
	}
	return line
}

// midiCents is how far from a MIDI note what is heard may lie to be it out of tune.
const midiCents = 100.0

// LineRoot names the pitch class that a line stands on most, and its share of the time; empty
// where there is no line.
func LineRoot(line []meter.BassNote) (root string, share float64) {
	time := map[string]float64{}
	all := 0.0
	for _, n := range line {
		name := n.Note
		for len(name) > 0 && (name[len(name)-1] >= '0' && name[len(name)-1] <= '9' || name[len(name)-1] == '-') {
			name = name[:len(name)-1]
		}
		time[name] += n.End - n.Start
		all += n.End - n.Start
	}
	most := 0.0
	for name, t := range time {
		if t > most || t == most && name < root {
			root, most = name, t
		}
	}
	if all == 0 {
		return "", 0
	}
	return root, most / all
}

// percent is for sentences.
func percent(share float64) string { return fmt.Sprintf("%.0f %%", 100*share) }

// midiShare is the part of the notes that must meet a stem's hits.
const midiShare = 0.5

// Notes are the notes of a MIDI file for a stem, shifted so that they meet its hits; an error says where they are not its
// own.
func Notes(a *Analysis, stem, file string, notes []midi.Note) (*session.MIDI, error) {
	offset, share := midi.Match(midi.Starts(notes), a.Onsets)
	if share < midiShare {
		return nil, fmt.Errorf("only %.0f %% of its notes meet the hits of %s at any offset; is it the right one?", 100*share, stem)
	}
	return &session.MIDI{Name: file, Offset: math.Round(offset*1e4) / 1e4, Notes: notes}, nil
}
