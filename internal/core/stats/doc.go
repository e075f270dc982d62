// Package stats compares two samples of measurements without supposing how they are distributed:
// whether one side tends to be larger (Mann and Whitney 1947), by how much (Hodges and Lehmann 1963,
// with the interval of Moses), corrected for many comparisons (Holm 1979) and for looking at the
// results before all are in (Lan and DeMets 1983).
package stats
