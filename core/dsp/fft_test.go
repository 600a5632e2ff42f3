package dsp

import (
	"math"
	"math/cmplx"
	"math/rand/v2"
	"slices"
	"testing"

	"gonum.org/v1/gonum/dsp/fourier"
)

// Of every length it gives what gonum's transform gives, to rounding, and of short ones what the definition gives; again and
// again, for it keeps its room.
func TestFFT(t *testing.T) {
	rng := rand.New(rand.NewPCG(1, 2))
	for _, n := range []int{1, 2, 3, 12, 16, 32, 64, 100, 128, 256, 512, 1000, 2048, 4096, 8192, 65536} {
		f := NewFFT(n)
		for turn := range 2 {
			x := make([]float64, n)
			energy := 0.0
			for i := range x {
				x[i] = rng.NormFloat64()
				energy += x[i] * x[i]
			}
			got := f.Coefficients(nil, x)
			want := fourier.NewFFT(n).Coefficients(nil, x)
			tolerance := 1e-12 * math.Sqrt(energy*float64(n))
			for k := range want {
				if cmplx.Abs(got[k]-want[k]) > tolerance {
					t.Fatalf("n %d, turn %d, k %d: %v, gonum has %v", n, turn, k, got[k], want[k])
				}
			}
			back := f.Sequence(nil, got)
			z := make([]complex128, n)
			for i := range z {
				if math.Abs(back[i]/float64(n)-x[i]) > 1e-12*math.Sqrt(energy) {
					t.Fatalf("n %d, i %d: back comes %g, not %g", n, i, back[i]/float64(n), x[i])
				}
				z[i] = complex(x[i], rng.NormFloat64())
			}
			was := slices.Clone(z)
			of := NewComplex(n)
			zc, zw := of.Coefficients(make([]complex128, n), z), fourier.NewCmplxFFT(n).Coefficients(nil, z)
			for k := range zw {
				if cmplx.Abs(zc[k]-zw[k]) > 2*tolerance {
					t.Fatalf("n %d, k %d: %v of complex values, gonum has %v", n, k, zc[k], zw[k])
				}
			}
			for i, v := range of.Sequence(zc, zc) {
				if cmplx.Abs(v/complex(float64(n), 0)-was[i]) > 1e-12*math.Sqrt(2*energy) || of.Len() != n {
					t.Fatalf("n %d, i %d: back comes %v, not %v", n, i, v/complex(float64(n), 0), was[i])
				}
			}
			if n > 128 {
				continue
			}
			for k := range got {
				sum := complex128(0)
				for i, v := range x {
					sum += complex(v, 0) * cmplx.Rect(1, -2*math.Pi*float64(k*i%n)/float64(n))
				}
				if cmplx.Abs(got[k]-sum) > tolerance {
					t.Fatalf("n %d, k %d: %v, by its definition %v", n, k, got[k], sum)
				}
			}
		}
		if f.Len() != n {
			t.Errorf("%d values, not %d", f.Len(), n)
		}
	}
}

func BenchmarkFFT(b *testing.B) {
	x := make([]float64, 4096)
	for i := range x {
		x[i] = math.Sin(float64(i * i))
	}
	dst := make([]complex128, 2049)
	b.Run("own", func(b *testing.B) {
		f := NewFFT(4096)
		for b.Loop() {
			f.Coefficients(dst, x)
		}
	})
	b.Run("gonum", func(b *testing.B) {
		f := fourier.NewFFT(4096)
		for b.Loop() {
			f.Coefficients(dst, x)
		}
	})
}
