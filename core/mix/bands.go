package mix

import (
	"context"
	"sort"

	"mellowthump/core/audio"
	"mellowthump/core/dsp"
	"mellowthump/core/meter"
	"mellowthump/core/session"
)

// Often says what of a sound's frames counts: the level that is reached or passed in all but a share of those that sound. Frames
// are of so many samples; one under a part of the loudest one's energy does not sound.
type Often struct {
	Frame         int
	Share, Silent float64
}

// BandLevels returns the mean square of some stems together, at the end of their own chains, in each of some bands, Hz.
func (r *Renderer) BandLevels(
	ctx context.Context,
	song *session.Song,
	stems []*session.Stem,
	w Window,
	bands []meter.CriticalBand,
	of Often,
) ([]float64, error) {
	ins, err := r.together(song, stems)
	if err != nil {
		return nil, err
	}
	ids, places := make([]string, len(ins)), make([]place, len(ins))
	for i, in := range ins {
		ids[i], places[i] = in.node.id, in.at
	}
	return Cached(ctx, r.Cache, key("band levels", ids, places, w, bands, of), func() ([]float64, int, error) {
		s := newBandFrames(song.Rate, of.Frame, bands)
		err := pieces(ctx, song.Rate, w, func(ctx context.Context, p Window) error {
			x, err := r.sum(ctx, ins, song.Rate, p, 1)
			if err == nil {
				s.add(x.buf)
			}
			return err
		})
		return s.levels(of.Share, of.Silent), 8 * len(bands), err
	})
}

// bandFrames takes the powers of frames in bands.
type bandFrames struct {
	fft    *dsp.FFT
	window []float64
	scale  float64
	edges  [][2]float64 // of the bands, in bins
	frames [][]float64
	total  []float64
}

func newBandFrames(rate, frame int, bands []meter.CriticalBand) *bandFrames {
	s := &bandFrames{fft: dsp.NewFFT(frame), window: dsp.Hann(frame)}
	power := 0.0
	for _, w := range s.window {
		power += w * w
	}
	s.scale = 2 / (float64(frame) * power)
	bin := float64(rate) / float64(frame)
	for _, b := range bands {
		s.edges = append(s.edges, [2]float64{b.Lo / bin, b.Hi / bin})
	}
	return s
}

// add takes the frames of a buffer, side by side; what is left at its end is not taken.
func (s *bandFrames) add(b audio.Buffer) {
	n := len(s.window)
	x := make([]float64, n)
	var c []complex128
	for at := 0; at+n <= b.Frames(); at += n {
		power := make([]float64, n/2+1)
		for _, ch := range b.Ch {
			for i, v := range ch[at : at+n] {
				x[i] = float64(v) * s.window[i]
			}
			c = s.fft.Coefficients(c, x)
			for k, v := range c {
				power[k] += (real(v)*real(v) + imag(v)*imag(v)) * s.scale / float64(len(b.Ch))
			}
		}
		total, bands := 0.0, make([]float64, len(s.edges))
		for i, e := range s.edges {
			for k := int(e[0] + 0.5); k <= int(e[1]+0.5) && k < len(power); k++ { // a bin reaches half a bin to each side
				in := min(e[1], float64(k)+0.5) - max(e[0], float64(k)-0.5)
				bands[i] += power[k] * max(0, in)
			}
			total += bands[i]
		}
		s.frames, s.total = append(s.frames, bands), append(s.total, total)
	}
}

func (s *bandFrames) levels(share, silent float64) []float64 {
	out := make([]float64, len(s.edges))
	loudest := 0.0
	for _, t := range s.total {
		loudest = max(loudest, t)
	}
	for i := range out {
		var values []float64
		for k, f := range s.frames {
			if s.total[k] > loudest*silent {
				values = append(values, f[i])
			}
		}
		if len(values) > 0 {
			sort.Float64s(values)
			out[i] = values[int(share*float64(len(values)-1)+0.5)]
		}
	}
	return out
}
