package evidence_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"pgregory.net/rapid"

	"tidemarker/internal/core/evidence"
)

func TestFindingsOfTwoRunsAreToldApart(t *testing.T) {
	of := func(prints ...string) (list []evidence.Finding) {
		for _, p := range prints {
			list = append(list, evidence.Finding{Fingerprint: p})
		}
		return list
	}
	gone, came, both := evidence.Apart(of("menu", "cart", "cart", "font"), of("cart", "shift", "menu"))
	assert.Equal(t, []int{2, 3}, gone, "of two alike one is still there")
	assert.Equal(t, []int{1}, came)
	assert.Equal(t, [][2]int{{0, 2}, {1, 0}}, both)
	gone, came, both = evidence.Apart(nil, nil)
	assert.Empty(t, gone)
	assert.Empty(t, came)
	assert.Empty(t, both)
}

// Whatever two runs found: each finding is in one of the three, once, and turning the two round turns the answer round.
func TestNoFindingIsLostBetweenTwoRuns(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		some := rapid.SliceOfN(rapid.Map(rapid.StringMatching("[a-d]"), func(p string) evidence.Finding { return evidence.Finding{Fingerprint: p} }), 0, 12)
		a, b := some.Draw(r, "a"), some.Draw(r, "b")
		gone, came, both := evidence.Apart(a, b)
		if len(gone)+len(both) != len(a) || len(came)+len(both) != len(b) {
			r.Fatalf("%d gone, %d came, %d in both, of %d and %d", len(gone), len(came), len(both), len(a), len(b))
		}
		seenA, seenB := map[int]bool{}, map[int]bool{}
		for _, p := range both {
			if a[p[0]].Fingerprint != b[p[1]].Fingerprint || seenA[p[0]] || seenB[p[1]] {
				r.Fatalf("pair %v", p)
			}
			seenA[p[0]], seenB[p[1]] = true, true
		}
		back, forth, _ := evidence.Apart(b, a)
		if len(back) != len(came) || len(forth) != len(gone) {
			r.Fatal("it is not the same the other way round")
		}
	})
}
