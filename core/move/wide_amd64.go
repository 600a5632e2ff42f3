//go:build goexperiment.simd

package move

import (
	"simd/archsimd"
	"unsafe"
)

// wide says that the processor takes eight values at once, and that this program was built to let it. What is written here does,
// value by value and in the same order, what its plain counterpart does: the results are the same to the bit.
var wide = archsimd.X86.AVX2()

// lanes is how many values are worked out side by side.
const lanes = 8

// eight is eight values in a row.
type eight = archsimd.Float32x8

// load reads eight values. It does not look whether they are there: whoever calls it has looked at the whole slice.
func load(x []float32, i int) eight {
	return archsimd.LoadFloat32x8((*[lanes]float32)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(x)), 4*i)))
}

// store writes eight values; see load.
func store(x []float32, i int, v eight) {
	v.Store((*[lanes]float32)(unsafe.Add(unsafe.Pointer(unsafe.SliceData(x)), 4*i)))
}

// driveTaps are the taps there and back: each of the way there eight times over, and those of the way back over the whole length.
type driveTaps struct {
	even, uneven, middle, whole [clipTaps / 2][lanes]float32
	back                        [4][]float32 // even, uneven, middle, whole
}

var driveWide = func() *driveTaps {
	t := &driveTaps{}
	for k := range t.back {
		t.back[k] = make([]float32, clipTaps)
	}
	for j := range t.even {
		for l := range lanes {
			t.even[j][l], t.uneven[j][l], t.middle[j][l], t.whole[j][l] = driveEven[j], driveUneven[j], driveMiddle[j], drivePhases[0][j]
		}
		last := clipTaps - 1 - j
		t.back[0][j], t.back[0][last] = driveEven[j], driveEven[j]
		t.back[1][j], t.back[1][last] = driveUneven[j], -driveUneven[j]
		t.back[2][j], t.back[2][last] = driveMiddle[j], driveMiddle[j]
		t.back[3][j] = drivePhases[0][j]
		if j < clipTaps/2-1 {
			t.back[3][clipTaps-2-j] = drivePhases[0][j]
		}
	}
	return t
}()

// addWide is add for as many frames as are worked out side by side, and returns how many these are.
func (g *driving) addWide(added, w []float32, n int) int {
	if !wide {
		return 0
	}
	n -= n % lanes
	if n == 0 {
		return 0
	}
	const half, last = clipTaps / 2, clipTaps - 1
	t := driveWide
	added, w = added[:n+last], w[:n+last]
	var z, p, q, r [lanes]float32
	for i := 0; i < n; i += lanes {
		var pv, qv, rv eight
		zv := archsimd.LoadFloat32x8(&t.whole[half-1]).Mul(load(w, i+half-1))
		for j := range half {
			a, b := load(w, i+j), load(w, i+last-j)
			s, d := a.Add(b), a.Sub(b)
			pv = pv.Add(archsimd.LoadFloat32x8(&t.even[j]).Mul(s))
			qv = qv.Add(archsimd.LoadFloat32x8(&t.uneven[j]).Mul(d))
			rv = rv.Add(archsimd.LoadFloat32x8(&t.middle[j]).Mul(s))
			if j < half-1 {
				zv = zv.Add(archsimd.LoadFloat32x8(&t.whole[j]).Mul(a.Add(load(w, i+last-1-j))))
			}
		}
		zv.Store(&z)
		pv.Add(qv).Store(&p)
		rv.Store(&r)
		pv.Sub(qv).Store(&q)
		archsimd.ClearAVXUpperBits()
		for l := range lanes {
			v0, v1, v2, v3 := g.bend(z[l]), g.bend(p[l]), g.bend(r[l]), g.bend(q[l])
			if v0 == 0 && v1 == 0 && v2 == 0 && v3 == 0 {
				continue
			}
			c, d := archsimd.BroadcastFloat32x8(v1+v3), archsimd.BroadcastFloat32x8(v1-v3)
			m, o := archsimd.BroadcastFloat32x8(v2), archsimd.BroadcastFloat32x8(v0)
			for k := 0; k < clipTaps; k += lanes {
				x := load(t.back[0], k).Mul(c).Add(load(t.back[2], k).Mul(m)).Add(load(t.back[1], k).Mul(d))
				store(added, i+l+k, load(added, i+l+k).Add(x).Add(load(t.back[3], k).Mul(o)))
			}
			archsimd.ClearAVXUpperBits()
		}
	}
	return n
}
