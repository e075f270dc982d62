package visual

import "math"

var linear = func() (t [256]float64) {
	for i := range t {
		c := float64(i) / 255
		if c <= 0.04045 {
			t[i] = c / 12.92
		} else {
			t[i] = math.Pow((c+0.055)/1.055, 2.4)
		}
	}
	return t
}()

// oklab converts an opaque sRGB colour; the lightness is Ottosson's toe-corrected
// one, which runs from 0 for black to 1 for white.
func oklab(r, g, b uint8) (lightness, a, bb float64) {
	lr, lg, lb := linear[r], linear[g], linear[b]
	l := math.Cbrt(0.4122214708*lr + 0.5363325363*lg + 0.0514459929*lb)
	m := math.Cbrt(0.2119034982*lr + 0.6806995451*lg + 0.1073969566*lb)
	s := math.Cbrt(0.0883024619*lr + 0.2817188376*lg + 0.6299787005*lb)
	const k1, k2 = 0.206, 0.03
	const k3 = (1 + k1) / (1 + k2)
	raw := 0.2104542553*l + 0.7936177850*m - 0.0040720468*s
	toe := k3*raw - k1
	lightness = 0.5 * (toe + math.Sqrt(toe*toe+4*k2*k3*raw))
	a = 1.9779984951*l - 2.4285922050*m + 0.4505937099*s
	bb = 0.0259040371*l + 0.7827717662*m - 0.8086757660*s
	return lightness, a, bb
}

// Distance is the HyAB distance of two opaque sRGB colours: 0 for the same colour,
// 1 for black against white.
func Distance(r1, g1, b1, r2, g2, b2 uint8) float64 {
	l1, a1, bb1 := oklab(r1, g1, b1)
	l2, a2, bb2 := oklab(r2, g2, b2)
	return math.Abs(l1-l2) + math.Hypot(a1-a2, bb1-bb2)
}

// distances remembers the distance of colour pairs: a page has few colours, and the
// same pair differs over and over.
type distances map[uint64]float64

func (d distances) between(p, q []uint8) float64 {
	key := uint64(p[0])<<40 | uint64(p[1])<<32 | uint64(p[2])<<24 | uint64(q[0])<<16 | uint64(q[1])<<8 | uint64(q[2])
	if v, known := d[key]; known {
		return v
	}
	v := Distance(p[0], p[1], p[2], q[0], q[1], q[2])
	if len(d) < 1<<20 {
		d[key] = v
	}
	return v
}
