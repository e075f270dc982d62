package culprit_test

import (
	"math/bits"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/culprit"
)

// solve asks until the search is over. It fails when anything is asked for twice.
func solve(t require.TestingT, p culprit.Problem, fails func([]int) culprit.Outcome) (end culprit.Step, asked []culprit.Answer) {
	seen := map[string]bool{}
	for {
		step := culprit.Next(p, asked)
		if step.Ask == nil {
			return step, asked
		}
		name := key(step.Ask)
		require.False(t, seen[name], "%s is asked for twice", name)
		seen[name] = true
		require.Less(t, len(asked), 500)
		asked = append(asked, culprit.Answer{Parts: step.Ask, Outcome: fails(step.Ask)})
	}
}

func key(parts []int) string {
	out := ""
	for _, p := range parts {
		out += string(rune('a' + p))
	}
	return out
}

// breaks is a site that breaks when all parts of one of these are in force.
func breaks(sets ...[]int) func([]int) culprit.Outcome {
	return func(parts []int) culprit.Outcome {
		for _, set := range sets {
			if !slices.ContainsFunc(set, func(i int) bool { return !slices.Contains(parts, i) }) {
				return culprit.Fails
			}
		}
		return culprit.Passes
	}
}

// The worked example of Zeller and Hildebrandt (2002), figure 5: of eight changes 1, 7 and 8 fail
// together. Their algorithm needs at most n² + 3n tests (section 3.3).
func TestTheWorkedExampleOfDeltaDebugging(t *testing.T) {
	end, asked := solve(t, culprit.Problem{N: 8}, breaks([]int{0, 6, 7}))
	assert.Equal(t, [][]int{{0, 6, 7}}, end.Culprits)
	assert.LessOrEqual(t, len(asked), 8*8+3*8)
	assert.False(t, end.Stuck)
}

// One culprit among n: ⌈log2 n⌉ halvings, as group testing needs for one defective (Hwang 1972),
// and two that prove it. The first answer says that the change breaks the site, which is known.
func TestOneCulpritIsFoundByHalving(t *testing.T) {
	for n := 1; n <= 33; n++ {
		for c := range n {
			end, asked := solve(t, culprit.Problem{N: n}, breaks([]int{c}))
			require.Equal(t, [][]int{{c}}, end.Culprits)
			assert.LessOrEqual(t, len(asked)-1, bits.Len(uint(n-1))+2, "%d of %d", c, n)
			assert.NotContains(t, end.Innocent, c)
			if n > 1 {
				assert.Len(t, end.Innocent, n-1)
			}
		}
	}
}

func TestASuspectThatIsRightTakesTwo(t *testing.T) {
	likely := make([]float64, 12)
	likely[7] = 1
	end, asked := solve(t, culprit.Problem{N: 12, Likely: likely}, breaks([]int{7}))
	assert.Equal(t, [][]int{{7}}, end.Culprits)
	assert.Len(t, asked, 3, "the whole, by itself, and the rest")

	_, asked = solve(t, culprit.Problem{N: 12, Likely: likely}, breaks([]int{3}))
	assert.LessOrEqual(t, len(asked)-1, 4+3, "one that is wrong costs one more")
}

func TestWhatBreaksNothingIsClear(t *testing.T) {
	end, asked := solve(t, culprit.Problem{N: 5}, breaks())
	assert.True(t, end.Clear)
	assert.Empty(t, end.Culprits)
	assert.Len(t, asked, 1)
}

func TestTwoSeparateCulpritsAreBothFound(t *testing.T) {
	end, _ := solve(t, culprit.Problem{N: 12}, breaks([]int{2}, []int{9}))
	assert.ElementsMatch(t, [][]int{{2}, {9}}, end.Culprits)
}

// A part that needs another is tried with it, and it is the one that is named.
func TestWhatAPartNeedsComesWithIt(t *testing.T) {
	p := culprit.Problem{N: 6, Needs: [][]int{nil, {4}, nil, nil, nil, nil}, Likely: []float64{0, 5, 0, 0, 0, 0}}
	for c, want := range map[int][]int{1: {1}, 4: {4}} {
		end, asked := solve(t, p, func(parts []int) culprit.Outcome {
			if slices.Contains(parts, 1) {
				require.Contains(t, parts, 4)
			}
			return breaks([]int{c})(parts)
		})
		assert.Equal(t, [][]int{want}, end.Culprits)
		assert.NotEmpty(t, asked)
	}
}

// An exclusion that came with the change mends what its action breaks: both go together, and the
// culprit is another.
func TestAnActionIsTriedWithItsExclusions(t *testing.T) {
	p := culprit.Problem{N: 4, Needs: [][]int{{2}, nil, nil, nil}}
	end, _ := solve(t, p, func(parts []int) culprit.Outcome {
		if slices.Contains(parts, 0) && !slices.Contains(parts, 2) || slices.Contains(parts, 3) {
			return culprit.Fails
		}
		return culprit.Passes
	})
	assert.Equal(t, [][]int{{3}}, end.Culprits)
}

// What cannot be decided is passed over; when nothing is left the search says between which.
func TestWhatCannotBeDecidedIsPassedOver(t *testing.T) {
	end, _ := solve(t, culprit.Problem{N: 8}, func(parts []int) culprit.Outcome {
		if len(parts) == 4 {
			return culprit.Undecided
		}
		return breaks([]int{5})(parts)
	})
	assert.Equal(t, [][]int{{5}}, end.Culprits)

	end, _ = solve(t, culprit.Problem{N: 8}, func(parts []int) culprit.Outcome {
		if len(parts) < 8 {
			return culprit.Undecided
		}
		return culprit.Fails
	})
	assert.True(t, end.Stuck)
	assert.Len(t, end.Suspected, 8)
}

func TestASearchEndsAtItsLimit(t *testing.T) {
	end, asked := solve(t, culprit.Problem{N: 12, Most: 3}, breaks([]int{11}))
	assert.Len(t, asked, 3)
	assert.True(t, end.Stuck)
	assert.Contains(t, end.Suspected, 11)
}

// Any function by which more parts never mend what fewer break is solved: what is found are sets
// that fail, no part of which does, and what is left passes. So is one of pairs alone.
func TestAnyMonotoneFunctionIsSolved(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 14).Draw(t, "parts")
		size := rapid.SampledFrom([]int{1, 2, 3}).Draw(t, "size")
		var sets [][]int
		for range rapid.IntRange(1, 3).Draw(t, "sets") {
			sets = append(sets, rapid.SliceOfNDistinct(rapid.IntRange(0, n-1), min(n, size), min(n, size), func(i int) int { return i }).Draw(t, "set"))
		}
		fails := breaks(sets...)
		likely := rapid.SliceOfN(rapid.Float64Range(0, 3), n, n).Draw(t, "likely")
		end, asked := solve(t, culprit.Problem{N: n, Likely: likely}, fails)
		require.False(t, end.Stuck)
		require.NotEmpty(t, end.Culprits)
		var in []int
		for _, c := range end.Culprits {
			require.Equal(t, culprit.Fails, fails(c))
			for i := range c {
				require.Equal(t, culprit.Passes, fails(slices.Delete(slices.Clone(c), i, i+1)))
			}
			in = append(in, c...)
		}
		var rest []int
		for i := range n {
			if !slices.Contains(in, i) {
				rest = append(rest, i)
			}
		}
		require.Equal(t, culprit.Passes, fails(rest))
		k := len(in)
		require.LessOrEqual(t, len(asked), 1+(k+1)*(bits.Len(uint(n))+4), "each part of a culprit takes one halving")
	})
}

// A search that is cut off anywhere goes on with what it knows and asks for nothing twice.
func TestASearchThatWasCutOffGoesOn(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(2, 12).Draw(t, "parts")
		pair := rapid.SliceOfNDistinct(rapid.IntRange(0, n-1), 2, 2, func(i int) int { return i }).Draw(t, "pair")
		whole, asked := solve(t, culprit.Problem{N: n}, breaks(pair))
		at := rapid.IntRange(0, len(asked)).Draw(t, "cut off after")
		half := slices.Clone(asked[:at])
		rapid.Permutation(half).Draw(t, "in any order")
		for {
			step := culprit.Next(culprit.Problem{N: n}, half)
			if step.Ask == nil {
				require.Equal(t, whole.Culprits, step.Culprits)
				require.Len(t, half, len(asked))
				return
			}
			half = append(half, culprit.Answer{Parts: step.Ask, Outcome: breaks(pair)(step.Ask)})
		}
	})
}

// TestWhatDidNotShowElsewhereMayShowHere searches a change that breaks two things, each on a page of its own: part 2 on /a,
// part 5 on /b. Answers that were asked for the first say nothing of the second.
func TestWhatDidNotShowElsewhereMayShowHere(t *testing.T) {
	problem := culprit.Problem{N: 8, Likely: []float64{0, 0, 1, 0, 0, 9, 0, 0}} // part 5 is tried first, and by itself
	shows := map[string]int{"/a": 2, "/b": 5}
	var answers []culprit.Answer
	look := func(parts []int, places ...string) culprit.Outcome {
		for _, p := range places {
			if slices.Contains(parts, shows[p]) {
				return culprit.Fails
			}
		}
		return culprit.Passes
	}
	sought := []string{"/a"}
	for range 60 {
		step := culprit.Next(problem, culprit.Holding(answers, sought))
		if step.Ask == nil {
			assert.ElementsMatch(t, [][]int{{2}, {5}}, step.Culprits)
			return
		}
		if !step.Rest {
			answers = append(answers, culprit.Answer{Parts: step.Ask, Outcome: look(step.Ask, sought...), Looked: sought})
			continue
		}
		a := culprit.Answer{Parts: step.Ask, Outcome: look(step.Ask, "/a", "/b")}
		if answers = append(answers, a); a.Outcome == culprit.Fails {
			sought = []string{"/b"}
		}
	}
	require.Fail(t, "it does not end")
}
