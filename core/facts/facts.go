// Package facts tells what a file is: its levels, its pitch, its hits, its role; measured once and kept by content.
package facts

import (
	"context"
	"math"
	"slices"
	"strings"
	"sync/atomic"

	"mellowthump/core/audio"
	"mellowthump/core/group"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Version counts changes of what is measured or how: facts of another version are stale.
const Version = 7

// Facts are the figures of one file: the fields of the command `measure`.
type Facts struct {
	File       string  `json:"file"`
	Format     string  `json:"format"`
	Rate       int     `json:"sample_rate_hz"`
	Channels   int     `json:"channels"`
	BitDepth   int     `json:"bit_depth"`
	DurationS  float64 `json:"duration_s"`
	EncodingIs string  `json:"encoding"`
	meter.Levels
	Fundamental *meter.Pitch `json:"fundamental"`
	Onsets      []float64    `json:"onsets_s"`
	Doubtful    []Doubtful   `json:"doubtful"` // hits that are kept apart, see meter.Onset
}

// Doubtful is a hit that is kept apart, with why.
type Doubtful struct {
	At         float64 `json:"at_s"`
	Confidence float64 `json:"confidence"` // 0 to 1
	Why        string  `json:"why"`
}

// DoubtfulHits returns the hits that are doubtful at a threshold in dB, see meter.QuietHits.
func DoubtfulHits(hits []meter.Onset, quiet float64) []Doubtful {
	out := []Doubtful{}
	for _, h := range hits {
		if why := h.Doubt(quiet); why != "" {
			out = append(out, Doubtful{At: h.At, Confidence: h.Confidence(), Why: why})
		}
	}
	return out
}

// Analysis is what the application keeps of a file besides its facts.
type Analysis struct {
	Facts
	Hits     []meter.Onset  `json:"hits"`              // all that were found, doubtful ones too
	Kick     *meter.Pitch   `json:"kick"`              // the pitch it settles on, heard as a kick
	Clipped  []float64      `json:"clipped_s"`         // where the first clipped runs begin
	Phase    []meter.Figure `json:"correlation_400ms"` // of the channels, over time; nil for mono
	Overview []float32      `json:"overview"`          // peaks of OverviewSteps equal parts
	Energy   []float32      `json:"energy"`            // mean square of each second, mono
	Portrait *Portrait      `json:"portrait"`          // nil where Describe was not asked, or for silence
	Damage   string         `json:"-"`                 // what became of the stored file, "gone", "cut short"; empty: it is whole

	traces *traces
}

// OverviewSteps is the number of parts in an overview.
const OverviewSteps = 1200

// pitchLeast is the share of the energy that lies under 900 Hz in a sound that has a fundamental: -40 dB.
const pitchLeast = 1e-4

const (
	block       = 1 << 15
	clippedKept = 20 // places of clipped runs
)

// Analyse measures a file in one reading. progress is called with 0 to 1 and may be nil.
// Sound that is not finite is refused with the place of the first bad sample.
// Long because several meters run side by side over the same blocks, and are gathered in one place.
func Analyse(ctx context.Context, src audio.Source, name string, progress func(float64)) (*Analysis, error) {
	f := src.Format()
	if err := f.Check(); err != nil {
		return nil, err
	}
	frames := int(f.Frames)
	levels := meter.NewLevelMeter(f.Rate, f.Channels)
	low := meter.NewDecimator(f.Rate)
	hits := meter.NewOnsetMeter(f.Rate)
	mono := make([]float32, frames)
	a := &Analysis{traces: &traces{first: -1}, Overview: make([]float32, min(OverviewSteps, frames))}
	blocks := prefetch(ctx, src)
	defer blocks.stop()
	// Two lanes, each at its own pace: the levels, and all that works on the mono sum.
	var lane group.Group
	forLevels := make(chan *readBlock, blocksAhead)
	var broken atomic.Bool
	lane.Go(func() (err error) {
		for r := range forLevels {
			if err == nil {
				if err = group.Try(func() error { return addLevels(levels, a.Overview, r, frames) }); err != nil {
					broken.Store(true)
				}
			}
			blocks.release(r)
		}
		return err
	})
	var err error
	for at := 0; at < frames && !broken.Load(); at += block {
		r := <-blocks.ready
		if err = r.err; err != nil {
			break
		}
		forLevels <- r
		m := mono[at : at+r.b.Frames()]
		r.b.MonoTo(m)
		a.traces.add(f.Rate, m, at)
		meter.AddBoth(low, hits, m)
		blocks.release(r)
		if progress != nil {
			progress(0.8 * float64(at+len(m)) / float64(frames))
		}
	}
	close(forLevels)
	fs := float64(f.Rate) / float64(low.Factor)
	var tail group.Group // goes on beside what is left of the levels
	if err == nil && !broken.Load() {
		tail.Go(func() error {
			a.Fundamental = meter.Fundamental(low.Out, fs)
			return nil
		})
		tail.Go(func() error {
			a.Hits = hits.Onsets(mono)
			return nil
		})
	}
	if wrong := lane.Wait(); err == nil {
		err = wrong
	}
	if wrong := tail.Wait(); err == nil {
		err = wrong
	}
	if err != nil {
		return nil, err
	}
	a.traces.low, a.traces.lowRate, a.traces.sideShare = low.Out, fs, levels.SideShare()
	a.traces.meanSquare = meter.Energy(mono) / float64(frames)
	a.traces.kinds = kindsOf(mono, f.Rate, attacksIn(a.traces.fine.of))
	fundamental := a.Fundamental
	a.Facts = Facts{
		File: name, Format: f.Container, Rate: f.Rate, Channels: f.Channels, BitDepth: f.BitDepth,
		DurationS: f.Duration(), EncodingIs: string(f.Encoding), Levels: levels.Levels(), Fundamental: fundamental,
	}
	a.Onsets, a.Doubtful = meter.Sure(a.Hits, meter.QuietHits), DoubtfulHits(a.Hits, meter.QuietHits)
	for i, at := range levels.ClippedAt() {
		if i == clippedKept {
			break
		}
		a.Clipped = append(a.Clipped, float64(at)/float64(f.Rate))
	}
	if a.Fundamental != nil && meter.Energy(low.Out)/float64(len(low.Out)) < pitchLeast*meter.Energy(mono)/float64(frames) {
		a.Fundamental = nil // what leaks into the low band is no pitch
	}
	a.Phase = levels.CorrelationOverTime()
	if err := ctx.Err(); err != nil {
		return nil, err
	}
	for at := 0; at < frames; at += f.Rate {
		a.Energy = append(a.Energy, float32(meter.Energy(mono[at:min(at+f.Rate, frames)])/float64(f.Rate)))
	}
	if progress != nil {
		progress(1)
	}
	return a, nil
}

// blocksAhead is how many blocks are in the hands of the reader and of the two lanes.
const blocksAhead = 48

// prefetched reads a source block by block, ahead of its users.
type prefetched struct {
	ready chan *readBlock
	free  chan audio.Buffer
	done  chan struct{} // closed when no more is wanted
	gone  chan struct{} // closed when the reading has ended
}

// readBlock is a block of the source; both lanes release it.
type readBlock struct {
	b    audio.Buffer
	at   int
	err  error
	left atomic.Int32 // lanes that still use it
}

func prefetch(ctx context.Context, src audio.Source) *prefetched {
	f := src.Format()
	frames := int(f.Frames)
	p := &prefetched{ready: make(chan *readBlock), free: make(chan audio.Buffer, blocksAhead), done: make(chan struct{}), gone: make(chan struct{})}
	for range blocksAhead {
		p.free <- audio.New(f.Rate, f.Channels, min(block, frames))
	}
	group.Beside(func() {
		defer close(p.gone)
		for at := 0; at < frames; at += block {
			r := &readBlock{at: at}
			r.left.Store(2)
			select {
			case r.b = <-p.free:
			case <-p.done:
				return
			}
			r.b = r.b.Slice(0, min(block, frames-at))
			if r.err = ctx.Err(); r.err == nil {
				r.err = group.Try(func() error { return src.ReadAt(r.b, int64(at)) })
			}
			select {
			case p.ready <- r:
			case <-p.done:
				return
			}
		}
	})
	return p
}

// release says that a lane is done with a block; it is read into again when both are.
func (p *prefetched) release(r *readBlock) {
	if r.left.Add(-1) == 0 {
		p.free <- r.b
	}
}

// addLevels measures the levels of a block and draws its part of the overview; the error names a sample
// that is no sound.
func addLevels(m *meter.LevelMeter, out []float32, r *readBlock, frames int) error {
	m.Add(r.b)
	for _, ch := range r.b.Ch {
		if !overview(out, ch, r.at, frames) {
			return r.b.Fit(r.at)
		}
	}
	return nil
}

// stop ends the reading and waits for it: the source may be closed afterwards.
func (p *prefetched) stop() {
	close(p.done)
	<-p.gone
}

// overview takes the peaks of a block that begins at frame at; it reports whether all of it
// is sound (audio.Buffer.Fit).
func overview(out, x []float32, at, frames int) bool {
	fit := true
	for i := 0; i < len(x); {
		k := (at + i) * len(out) / frames
		end := min(len(x), ((k+1)*frames+len(out)-1)/len(out)-at) // first frame of the next part
		peak := meter.Peak(x[i:end])
		fit = fit && peak <= audio.MaxSample
		out[k] = max(out[k], peak)
		i = end
	}
	return fit
}

// FormatLine describes the file in words, "24-bit, 44.1 kHz, stereo".
func (f Facts) FormatLine() string {
	return audio.Format{Encoding: audio.Encoding(f.EncodingIs), BitDepth: f.BitDepth, Rate: f.Rate, Channels: f.Channels}.String()
}

// Silent reports whether the file holds nothing to hear.
func (f Facts) Silent() bool { return !f.SamplePeak.Valid() }

// Alike is the likeness from which two files are told as the same sound.
const Alike = 0.985

// HeadOfAll returns the silence that all stems begin with, in seconds: what may be trimmed
// off every one of them without moving them against each other.
func HeadOfAll(all []*Analysis) float64 {
	head := math.Inf(1)
	for _, a := range all {
		if a.Portrait != nil {
			head = math.Min(head, a.Portrait.HeadS)
		}
	}
	if math.IsInf(head, 1) {
		return 0
	}
	return head
}

// words that tell a role in a file's name, in the singular or as they stand; the first that fits counts.
var words = []struct {
	role  session.Role
	words []string
}{
	{session.Effects, []string{"fx", "sfx", "riser", "impact", "sweep", "downlifter", "uplifter", "whoosh", "transition", "scratch"}},
	{session.Bass, []string{"808", "bass", "sub"}},
	{session.Kick, []string{"kick", "bd", "bassdrum", "kik", "kck"}},
	{session.Snare, []string{"snare", "clap", "snap", "sd", "rimshot", "snr"}},
	{session.Hats, []string{"hat", "hihat", "hh", "ride", "cymbal", "crash", "oh", "openhat"}},
	{session.Perc, []string{"perc", "percussion", "rim", "conga", "bongo", "shaker", "tom", "block", "woodblock", "cowbell", "tamb", "tambourine", "clave"}},
	{session.Texture, []string{"texture", "vinyl", "noise", "atmos", "ambience", "crackle", "foley", "drone"}},
	{session.Voice, []string{"vox", "vocal", "voice", "voc", "adlib", "acapella", "rap", "chant"}},
	{session.Melodic, []string{
		"pad", "keys", "key", "piano", "pno", "ep", "bell", "lead", "synth", "melody", "pluck", "string", "str", "guitar", "gtr", "chord", "arp",
		"flute", "organ", "brass", "horn", "trumpet", "sax", "choir", "harp", "mallet", "kalimba", "violin", "cello",
	}},
}

// loops are the words for several drums in one file.
var loops = []string{"loop", "break", "breakbeat", "beat", "drums", "drum", "top", "tops", "groove", "kit"}

// drumsInOne reports whether a name says that a file holds several drums, and names none of them.
func drumsInOne(name string) bool {
	return GuessRole(name) == session.Other && slices.ContainsFunc(wordsOf(name), func(w string) bool { return slices.Contains(loops, w) })
}

// wordsOf are the words of a name, small and without the numbers behind them: "kick2" and "kick 2" are the same word.
func wordsOf(name string) []string {
	fields := strings.FieldsFunc(strings.ToLower(name), func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9')
	})
	for i := range fields {
		if t := strings.TrimRight(fields[i], "0123456789"); t != "" {
			fields[i] = t
		}
	}
	return fields
}

// GuessRole guesses a role from a file's name, Other where the name does not tell.
func GuessRole(name string) session.Role {
	fields := wordsOf(name)
	joined := " " + strings.Join(fields, " ") + " "
	if strings.Contains(joined, " bass drum ") {
		return session.Kick
	}
	for _, w := range words {
		for _, word := range w.words {
			if strings.Contains(joined, " "+word+" ") || strings.Contains(joined, " "+word+"s ") {
				return w.role
			}
		}
	}
	return session.Other
}
