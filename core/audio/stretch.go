package audio

import "math"

// part is a stretch of a source.
type part struct {
	Source
	from, to int64
}

// Stretch is the part of a source between two times, s; all of it where to is not after from. It lies within the source.
func Stretch(src Source, from, to float64) Source {
	f := src.Format()
	a, b := int64(math.Round(from*float64(f.Rate))), int64(math.Round(to*float64(f.Rate)))
	a, b = min(max(a, 0), f.Frames), min(max(b, 0), f.Frames)
	if b <= a {
		return src
	}
	return part{src, a, b}
}

// Format is that of the source, so many frames long.
func (p part) Format() Format {
	f := p.Source.Format()
	f.Frames = p.to - p.from
	return f
}

// ReadAt reads from the stretch.
func (p part) ReadAt(dst Buffer, frame int64) error { return p.Source.ReadAt(dst, p.from+frame) }
