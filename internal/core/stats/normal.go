package stats

import "math"

// NormalCDF is the probability that a standard normal value is at most z.
func NormalCDF(z float64) float64 { return 0.5 * math.Erfc(-z/math.Sqrt2) }

// NormalQuantile is the value that a standard normal one is at most with probability p.
func NormalQuantile(p float64) float64 { return math.Sqrt2 * math.Erfinv(2*p-1) }

// density is that of a standard normal value.
func density(z float64) float64 { return math.Exp(-z*z/2) / math.Sqrt(2*math.Pi) }
