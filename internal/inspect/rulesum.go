package inspect

import (
	"encoding/json"
	"hash/maphash"
)

// sums is of this process: nobody can make two grounds that look the same to it.
var sums = maphash.MakeSeed()

// Sum stands for everything that follows from the ground: two with the same have the same coverage and matrix. It holds within
// one process.
func (g RuleContext) Sum() (uint64, error) {
	var h maphash.Hash
	h.SetSeed(sums)
	known := g.Known
	known.Pages = nil
	rest, err := json.Marshal([]any{g.Environment.Name, g.Run, g.Layer, g.Decided, known})
	if err != nil {
		return 0, err
	}
	_, _ = h.Write(rest) // never fails
	for _, p := range g.Known.Pages {
		maphash.WriteComparable(&h, p)
	}
	seen := uint64(0)
	for k, v := range g.seen { // in any order
		seen ^= maphash.Comparable(sums, struct {
			key [3]string
			how any
		}{k, v})
	}
	maphash.WriteComparable(&h, seen)
	return h.Sum64(), nil
}
