package meter

import (
	"math"
)

// BassNote is one note of a bass line.
type BassNote struct {
	Start float64 `json:"start_s"`
	End   float64 `json:"end_s"`
	Hz    float64 `json:"hz"` // settled
	Note  string  `json:"note"`
	Cents float64 `json:"cents"`
	Glide float64 `json:"glide_cents"` // from where it starts to where it settles; 0: none

	clear float64 // how periodic it is, median
}

const (
	lineHop    = 0.010 // s between the frames of a line
	lineFloor  = 1e-3  // of the loudest frame's energy: quieter is silence
	lineSplit  = 70.0  // cents from which a lasting change of pitch is another note
	lineLeast  = 0.050 // s, the shortest note
	lineRise   = 2.0   // ratio of energies, 20 ms apart, that begins a note anew
	glideLeast = 60.0  // cents: less is no glide
	glideBack  = 4     // frames before a note in which its glide may have begun
	glideMost  = 0.15  // s a glide may take

	startBefore = 0.050 // s before a piece of pitch in which its note may have been struck
	startAfter  = 0.045 // s after its first frame, likewise
	lineCovered = 0.5   // of a struck note's time that has one pitch, or its harmonics are asked
	lineClear   = 0.85  // median of its frames, from which on a pitch is one
	lineLasts   = 0.08  // s that it lasts
	lineSounds  = 0.03  // of its energy's peak: down to there it sounds
)

// BassLine reads the notes of a monophonic bass from its low part (see Low): the pitch of
// frames 10 ms apart by YIN, cut where the energy rises or falls away and where the pitch
// changes for good. A note begins where it is struck (see noteStarts), else where the sound leaves what it was.
// Where no one pitch lasts through a struck note, its harmonics tell. A glide belongs to the note it leads to.
func BassLine(low []float32, fs float64) []BassNote {
	line, _ := DuckedLine(low, fs)
	return line
}

// DuckedLine is BassLine, with by how much the bass is ducked already, dB; 0 where it is not.
func DuckedLine(low []float32, fs float64) (line []BassNote, ducked float64) {
	f := framesOf(low, fs, int(lineHop*fs), lineFloor)
	if len(f) == 0 {
		return nil, 0
	}
	hop := math.Floor(lineHop*fs) / fs
	window := float64(int(fs/MinHz)+2) / fs // a frame's pitch is that of its first part
	cents := make([]float64, len(f))
	for i := range f {
		cents[i] = math.NaN()
		if f[i].hz > 0 && f[i].periodic > 0.6 {
			cents[i] = 1200 * math.Log2(f[i].hz/MinHz)
		}
	}
	struck := newStarts(low, fs)
	var notes []BassNote
	for i := 0; i < len(f); {
		if math.IsNaN(cents[i]) {
			i++
			continue
		}
		j := i + 1
		for j < len(f) && !math.IsNaN(cents[j]) && !rises(f, j) && !lasting(cents, i, j) && !struck.between(float64(j)*hop, hop) {
			j++
		}
		first := i // a glide may have begun before it was taken for the note's
		for first > max(0, i-glideBack) && (cents[first-1]-cents[first])*(cents[i]-cents[min(i+glideBack, j-1)]) > 0 {
			first--
		}
		if n, ok := noteOf(cents[first:j], i-first, float64(i)*hop, float64(j-1)*hop+window/2+hop); ok {
			var periodic []float64
			for _, p := range f[i:j] {
				periodic = append(periodic, p.periodic)
			}
			n.clear = Middle(periodic)
			notes = append(notes, n)
		}
		i = j
	}
	notes = joined(notes)
	for k := range notes {
		n := &notes[k]
		was := 0.0
		if k > 0 && n.Start-notes[k-1].End < startBefore {
			was = notes[k-1].Hz
		}
		n.Start = struck.begins(n.Start, was, n.Hz*math.Pow(2, -n.Glide/1200))
		if k > 0 && notes[k-1].End > notes[k].Start {
			notes[k-1].End = notes[k].Start
		}
	}
	return underDucks(gapped(struck.complete(struck.apart(lasted(notes))), low, fs), low, fs)
}

// lasted drops notes of which nothing is left: pieces of pitch just before a strike are the struck note's own,
// and so is their glide.
func lasted(notes []BassNote) []BassNote {
	out, glide := notes[:0], 0.0
	for _, n := range notes {
		if n.End-n.Start < lineLeast {
			glide = n.Glide
			continue
		}
		if n.Glide == 0 {
			n.Glide = glide
		}
		glide = 0
		out = append(out, n)
	}
	return out
}

const (
	gapQuiet  = 0.03  // of the note's peak
	gapLeast  = 0.008 // s: longer than a low tone stays near its zero
	gapBefore = 0.015 // s before a note's start in which a gap may begin
	gapAfter  = 0.06  // s after it in which it may end
)

// gapped lets a note that comes after a moment of silence begin behind it: the pitch of a frame is told ahead. A piece of which
// nothing is left then belongs to the note after it.
func gapped(notes []BassNote, low []float32, fs float64) []BassNote {
	var out []BassNote
	for k := range notes {
		n := &notes[k]
		from, to := max(0, int((n.Start-gapBefore)*fs)), min(len(low), int((n.Start+gapAfter)*fs))
		peak := float32(0)
		for _, v := range low[min(from, len(low)):min(len(low), int((n.Start+0.15)*fs))] {
			peak = max(peak, v, -v)
		}
		begins, ends := 0, 0
		for i := from; i < to; i++ {
			j := i
			for j < to && low[j] < gapQuiet*peak && -low[j] < gapQuiet*peak {
				j++
			}
			if j < to && float64(j-i) >= gapLeast*fs {
				begins, ends = i, j
			}
			i = j
		}
		if ends == 0 || float64(ends)/fs < n.Start {
			out = append(out, *n)
			continue
		}
		n.Start = float64(ends) / fs
		if i := len(out) - 1; i >= 0 {
			out[i].End = min(out[i].End, float64(begins)/fs)
		}
		switch {
		case n.End-n.Start >= lineLeast:
			out = append(out, *n)
		case k+1 < len(notes) && notes[k+1].Start-n.End < lineLeast:
			notes[k+1].Start = n.Start
		}
	}
	return out
}

// rises reports whether the energy at frame j begins a note anew.
func rises(f []pitchFrame, j int) bool {
	return j >= 2 && f[j].energy > lineRise*f[j-2].energy && f[j].energy > f[j-1].energy
}

// lasting reports whether from frame j on the pitch stays away from what it has settled to
// since frame i.
func lasting(cents []float64, i, j int) bool {
	const ahead = 5
	if j-i < int(glideMost/lineHop) || j+ahead > len(cents) {
		return false
	}
	settled := Middle(cents[max((i+j)/2, j-30):j])
	for _, c := range cents[j : j+ahead] {
		if math.IsNaN(c) || math.Abs(c-settled) < lineSplit {
			return false
		}
	}
	return true
}

// noteOf makes a note of the pitches of its frames; before are those of a glide that begins earlier.
func noteOf(cents []float64, before int, start, end float64) (BassNote, bool) {
	if end-start < lineLeast || len(cents)-before < 4 {
		return BassNote{}, false
	}
	settled := Middle(cents[(len(cents)+before)/2:])
	n := BassNote{Start: start, End: end, Hz: MinHz * math.Pow(2, settled/1200)}
	n.Note, n.Cents = Note(n.Hz)
	if g := settled - cents[0]; math.Abs(g) >= glideLeast && math.Abs(g) < 2500 {
		within := 0 // a glide moves steadily: most of its frames lie between its ends
		for _, c := range cents[:min(len(cents), int(glideMost/lineHop))] {
			if u := (c - cents[0]) / g; u > -0.1 && u < 1.1 {
				within++
			}
		}
		if within >= min(len(cents), int(glideMost/lineHop))*3/4 {
			n.Glide = g
		}
	}
	return n, true
}

// joined puts pieces of one note back together that a short dropout has cut.
func joined(notes []BassNote) []BassNote {
	var out []BassNote
	for _, n := range notes {
		if k := len(out) - 1; k >= 0 && n.Start-out[k].End < 0.03 && n.Glide == 0 &&
			math.Abs(1200*math.Log2(n.Hz/out[k].Hz)) < 20 && n.End-n.Start < 0.1 {
			out[k].End = n.End
			continue
		}
		out = append(out, n)
	}
	return out
}
