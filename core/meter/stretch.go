package meter

import (
	"context"
	"math"

	"mellowthump/core/audio"
)

// Loudest are the ends, s, of the stretch of so many seconds with the most K-weighted energy (ITU-R BS.1770), on whole
// seconds; of a source that is no longer, all of it.
func Loudest(ctx context.Context, src audio.Source, seconds float64) (from, to float64, err error) {
	f := src.Format()
	if err := f.Check(); err != nil {
		return 0, 0, err
	}
	whole := f.Duration()
	if seconds >= whole {
		return 0, whole, nil
	}
	var each []float64 // energy of each second
	b := audio.New(f.Rate, f.Channels, f.Rate)
	for at := int64(0); at < f.Frames; at += int64(f.Rate) {
		if err := ctx.Err(); err != nil {
			return 0, 0, err
		}
		x := b.Slice(0, int(min(int64(f.Rate), f.Frames-at)))
		if err := src.ReadAt(x, at); err != nil {
			return 0, 0, err
		}
		sum := 0.0
		for _, ch := range Weighted(x).Ch {
			sum += Energy(ch)
		}
		each = append(each, sum)
	}
	n := max(1, int(math.Round(seconds)))
	best, most := 0, -1.0
	for i := 0; i+n <= len(each); i++ {
		sum := 0.0
		for _, e := range each[i : i+n] {
			sum += e
		}
		if sum > most*1.0001 {
			best, most = i, sum
		}
	}
	from = math.Min(float64(best), whole-seconds)
	return from, from + seconds, nil
}
