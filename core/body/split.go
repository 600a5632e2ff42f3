package body

import (
	"context"
	"math"
	"slices"
	"sync"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/group"
)

// The split of a file into what is struck, what is sustained, and the rest: own choice, tried on recorded drums over recorded
// basses and chords.
const (
	splitFrame = 0.167 // s of a frame, at least; the next power of two
	splitHops  = 4     // a frame
	splitHeld  = 0.42  // s over which a sound has to last, twice, to be sustained
	splitWide  = 90.0  // Hz about a frequency that a struck sound fills
	splitLow   = 300.0 // Hz: under it what stands over its own median in time counts as struck too
	splitClear = 1.1   // by which one has to stand over the other to have half of a cell
)

// Apart are the parts of a file; they sum to it.
type Apart struct{ Struck, Sustained, Rest audio.Buffer }

// Split takes a file apart and hands the parts on, block by block, in order: median filtering of the spectrogram (Fitzgerald, DAFx
// 2010), what lasts in time against what is wide in frequency, with a rest where neither stands out (Driedger, Mueller and Disch,
// ISMIR 2014). A kick's low end is no wider than a bass's: there what stands over its own median in time is struck too.
// Channels share their masks, so that places stay. progress, 0 to 1, may be nil. The parts sum to the file within the rounding
// of a sample.
func Split(ctx context.Context, src audio.Source, progress func(float64), write func(Apart) error) error {
	f := src.Format()
	if err := f.Check(); err != nil {
		return err
	}
	return newSplitter(f, splitFrame).run(ctx, src, progress, write)
}

// run takes the frames of a file apart in order. Long because frames, masks and what overlaps run in one stream.
func (s *splitter) run(ctx context.Context, src audio.Source, progress func(float64), write func(Apart) error) error {
	ctx, stop := context.WithCancel(ctx)
	var ahead group.Group
	frames := make(chan *splitFrameOf, splitAhead)
	ahead.Go(func() error {
		defer close(frames)
		for at := range s.frames {
			in, err := s.analyse(src, at)
			if err != nil {
				return err
			}
			select {
			case frames <- in:
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		return nil
	})
	err := func() error {
		defer stop()
		for at := range s.frames + s.half {
			in := <-frames // nil past the end
			if in == nil && at < s.frames {
				return ctx.Err() // what the reading says is said below
			}
			if s.push(in); at < s.half {
				continue
			}
			out, err := s.next(src, at-s.half)
			if err == nil && out.Struck.Frames() > 0 {
				err = write(out)
			}
			if err != nil {
				return err
			}
			if progress != nil {
				progress(float64(at) / float64(s.frames+s.half))
			}
		}
		return nil
	}()
	if wrong := ahead.Wait(); err == nil {
		err = wrong
	}
	return err
}

// splitAhead is how many spectra are taken ahead of their masks.
const splitAhead = 4

// splitFrameOf is a frame's spectrum by channel, and its size over all.
type splitFrameOf struct {
	spectra [][]complex128
	size    []float64
}

type splitter struct {
	is        audio.Format
	n, hop    int
	frames    int // in the file
	half      int // frames of the median on each side
	bins      int // of the median on each side
	window    []float64
	scale     float64
	low       []float64       // by bin
	ffts      []*dsp.FFT      // by channel
	ring      []*splitFrameOf // 2 half + 1 of them, the newest last; nil: past an end
	spare     chan *splitFrameOf
	reading   sync.Mutex   // a source is read by one at a time: the frames ahead, and what the rest is taken from
	block     audio.Buffer // of the frame that is taken
	frame     []float64
	forth     *dsp.FFT
	real      [][]float64    // by channel
	spectrum  [][]complex128 // likewise
	overlap   [2]audio.Buffer
	struck    []float64 // masks
	sustained []float64
	mid       []float64
	gate      func(s float64) float64 // of drums: how far a time is a low hit's; nil: masks by medians
}

func newSplitter(f audio.Format, seconds float64) *splitter {
	n := 1
	for float64(n) < seconds*float64(f.Rate) {
		n *= 2
	}
	s := &splitter{is: f, n: n, hop: n / splitHops}
	s.frames = int(math.Ceil(float64(f.Frames)/float64(s.hop))) + splitHops - 1
	s.half = max(1, int(splitHeld*float64(f.Rate)/float64(s.hop)/2))
	s.bins = max(1, int(splitWide*float64(n)/float64(f.Rate)/2))
	s.window = dsp.Hann(n)
	sum := 0.0
	for i := 0; i < n; i += s.hop {
		sum += s.window[i] * s.window[i]
	}
	s.scale = 1 / (sum * float64(n))
	for k := range n/2 + 1 {
		r := float64(k) * float64(f.Rate) / float64(n) / splitLow
		s.low = append(s.low, 1/(1+r*r*r*r))
	}
	s.spare = make(chan *splitFrameOf, splitAhead)
	s.frame, s.forth = make([]float64, n), dsp.NewFFT(n)
	s.block = audio.New(f.Rate, f.Channels, n)
	for range f.Channels {
		s.ffts = append(s.ffts, dsp.NewFFT(n))
		s.real = append(s.real, make([]float64, n))
		s.spectrum = append(s.spectrum, make([]complex128, n/2+1))
	}
	for i := range s.overlap {
		s.overlap[i] = audio.New(f.Rate, f.Channels, n)
	}
	s.ring = make([]*splitFrameOf, 2*s.half+1)
	s.struck, s.sustained = make([]float64, n/2+1), make([]float64, n/2+1)
	s.mid = make([]float64, n/2+1)
	return s
}

// start is where a frame begins in the file.
func (s *splitter) start(at int) int64 { return int64(at-(splitHops-1)) * int64(s.hop) }

// analyse is the spectrum of a frame.
func (s *splitter) analyse(src audio.Source, at int) (*splitFrameOf, error) {
	var out *splitFrameOf
	select {
	case out = <-s.spare:
	default:
		out = &splitFrameOf{size: make([]float64, s.n/2+1)}
		for range s.is.Channels {
			out.spectra = append(out.spectra, make([]complex128, s.n/2+1))
		}
	}
	if err := s.read(src, s.block, s.start(at)); err != nil {
		return nil, err
	}
	if err := s.block.Fit(int(s.start(at))); err != nil {
		return nil, err
	}
	for c, x := range s.block.Ch {
		for i, v := range x {
			s.frame[i] = float64(v) * s.window[i]
		}
		s.forth.Coefficients(out.spectra[c], s.frame)
	}
	for k := range out.size {
		sum := 0.0
		for _, x := range out.spectra {
			sum += real(x[k])*real(x[k]) + imag(x[k])*imag(x[k])
		}
		out.size[k] = math.Sqrt(sum)
	}
	return out, nil
}

func (s *splitter) read(src audio.Source, to audio.Buffer, at int64) error {
	s.reading.Lock()
	defer s.reading.Unlock()
	return src.ReadAt(to, at)
}

// push takes the next frame in, nil past the end.
func (s *splitter) push(f *splitFrameOf) {
	if old := s.ring[0]; old != nil {
		select {
		case s.spare <- old:
		default:
		}
	}
	copy(s.ring, s.ring[1:])
	s.ring[len(s.ring)-1] = f
}

// masks are those of the frame in the middle of the ring.
func (s *splitter) masks(at int) {
	if s.gate != nil {
		open := s.gate((float64(s.start(at)) + float64(s.n)/2) / float64(s.is.Rate))
		for k := range s.struck {
			s.struck[k] = open * s.low[k]
		}
		return
	}
	now := s.ring[s.half]
	var known []*splitFrameOf
	for _, f := range s.ring {
		if f != nil {
			known = append(known, f)
		}
	}
	part := func(from, to int) {
		column, room := make([]float64, len(s.ring)), make([]float64, 0, len(s.ring))
		for k := from; k < to; k++ {
			for i, f := range known { // zero past the ends
				column[i] = f.size[k]
			}
			s.mid[k] = median(column, room)
		}
		at := func(k int) float64 { k = max(k, -k); return now.size[min(k, s.n-k)] } // mirrored at both ends
		row := make([]float64, 0, 2*s.bins+2)                                        // sorted
		for k := from - s.bins; k < from+s.bins; k++ {
			row = sorted(row, at(k))
		}
		for k := from; k < to; k++ {
			if row = sorted(row, at(k+s.bins)); len(row) > 2*s.bins+1 {
				i, _ := slices.BinarySearch(row, at(k-s.bins-1))
				row = append(row[:i], row[i+1:]...)
			}
			wide := math.Max(row[s.bins], s.low[k]*math.Max(0, now.size[k]-s.mid[k]))
			s.struck[k], s.sustained[k] = shares(wide, s.mid[k])
		}
	}
	half := len(s.mid) / 2
	group.All(2, func(i int) { part(i*half, half+i*(len(s.mid)-half)) })
}

// shares are what of a cell is struck and what is sustained; what is left is the rest.
func shares(wide, long float64) (struck, sustained float64) {
	if wide <= 0 && long <= 0 {
		return 0, 0
	}
	w, l := 1.0, 1.0
	if wide > long {
		l = masked(long / wide)
	} else {
		w = masked(wide / long)
	}
	return w / (w + splitApart*l), l / (l + splitApart*w)
}

// masked is a share to the power of the masks, 5/2.
func masked(v float64) float64 { return v * v * math.Sqrt(v) }

var splitApart = masked(splitClear)

// sorted puts a value in its place among sorted ones.
func sorted(v []float64, x float64) []float64 {
	v = append(v, x)
	i := len(v) - 1
	for ; i > 0 && v[i-1] > x; i-- {
		v[i] = v[i-1]
	}
	v[i] = x
	return v
}

// median is the middle of a few values.
func median(v, room []float64) float64 {
	room = room[:0]
	for _, x := range v {
		room = sorted(room, x)
	}
	return room[len(room)/2]
}

// next is what of the parts is complete once the frame in the middle of the ring, the at-th, is laid over what came before.
func (s *splitter) next(src audio.Source, at int) (out Apart, err error) {
	s.masks(at)
	now := s.ring[s.half]
	group.All(s.is.Channels, func(c int) {
		for p, mask := range [][]float64{s.struck, s.sustained} {
			for k, v := range now.spectra[c] {
				s.spectrum[c][k] = complex(real(v)*mask[k], imag(v)*mask[k])
			}
			s.ffts[c].Sequence(s.real[c], s.spectrum[c])
			x := s.overlap[p].Ch[c]
			copy(x, x[s.hop:])
			audio.Clear(x[s.n-s.hop:])
			for i, v := range s.real[c] {
				x[i] += float32(v * s.window[i] * s.scale)
			}
		}
	})
	from := s.start(at)
	a, b := max(0, from), min(s.is.Frames, from+int64(s.hop))
	if b <= a {
		return out, nil
	}
	done := func(p int) audio.Buffer {
		x := audio.New(s.is.Rate, s.is.Channels, int(b-a))
		for c := range x.Ch {
			copy(x.Ch[c], s.overlap[p].Ch[c][a-from:])
		}
		return x
	}
	out = Apart{Struck: done(0), Sustained: done(1), Rest: audio.New(s.is.Rate, s.is.Channels, int(b-a))}
	if err := s.read(src, out.Rest, a); err != nil {
		return out, err
	}
	for c, x := range out.Rest.Ch {
		for i := range x {
			x[i] = float32(float64(x[i]) - float64(out.Struck.Ch[c][i]) - float64(out.Sustained.Ch[c][i]))
		}
	}
	return out, nil
}
