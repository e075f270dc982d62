package exclusion

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// random draws patterns and texts from few letters, so that they meet often.
type random struct{ *rand.Rand }

func (r random) text(letters string, most int) string {
	var b strings.Builder
	for range r.IntN(most + 1) {
		b.WriteByte(letters[r.IntN(len(letters))])
	}
	return b.String()
}

func (r random) pattern(k Kind) string {
	p := r.text("/ab**", 6)
	if k == Path {
		if r.IntN(4) > 0 {
			p = "/" + p
		}
		if r.IntN(3) == 0 {
			p += "$"
		}
	}
	return p
}

var allKinds = []Kind{Path, Name, Part, Agent, Exact, Select}

// 100,000 random texts, each read by an automaton of five patterns, against one
// pattern after the other by the plain matcher.
func TestAutomataAgreeWithMatchingOneByOne(t *testing.T) {
	r := random{rand.New(rand.NewPCG(4, 9309))}
	for n := range 20_000 {
		k := allKinds[n%len(allKinds)]
		patterns := make([]string, 5)
		for i := range patterns {
			patterns[i] = r.pattern(k)
		}
		set := Compile(k, patterns)
		for range 5 {
			text := r.text("/abB%c *$", 8)
			if k == Path {
				text = "/" + text
			}
			var want []int
			for i, p := range patterns {
				if Matches(k, p, text) {
					want = append(want, i)
				}
			}
			if got := set.Matching(text); !slices.Equal(got, want) {
				t.Fatalf("%s patterns %q on %q: %v, one by one %v", k, patterns, text, got, want)
			}
		}
	}
}

// Containment and overlap against all texts of up to six letters, and against the
// text that is given as the proof: 20,000 pairs.
func TestContainmentAndOverlapAgreeWithBruteForce(t *testing.T) {
	short := map[Kind][]string{}
	var grow func(k Kind, s string)
	grow = func(k Kind, s string) {
		if k != Path || strings.HasPrefix(s, "/") {
			short[k] = append(short[k], s)
		}
		if len(s) < 5 {
			for _, c := range "/abc" {
				grow(k, s+string(c))
			}
		}
	}
	for _, k := range allKinds {
		grow(k, "")
	}
	r := random{rand.New(rand.NewPCG(4, 1959))}
	for n := range 20_000 {
		k := allKinds[n%len(allKinds)]
		a, b := r.pattern(k), r.pattern(k)
		within, counter, err := Within(k, a, b)
		require.NoError(t, err)
		example, overlaps, err := Overlap(k, a, b)
		require.NoError(t, err)
		if !within && (!Matches(k, a, counter) || Matches(k, b, counter)) {
			t.Fatalf("%s: %q is said not to be within %q because of %q", k, a, b, counter)
		}
		if overlaps && (!Matches(k, a, example) || !Matches(k, b, example)) {
			t.Fatalf("%s: %q and %q are said to overlap in %q", k, a, b, example)
		}
		if n%10 != 0 && within == overlaps {
			continue // brute force is for a part of what is plausible
		}
		for _, text := range short[k] {
			inA, inB := Matches(k, a, text), Matches(k, b, text)
			if within && inA && !inB {
				t.Fatalf("%s: %q is said to be within %q, but %q is not", k, a, b, text)
			}
			if !overlaps && inA && inB {
				t.Fatalf("%s: %q and %q are said not to overlap, but %q is in both", k, a, b, text)
			}
		}
	}
}

func TestWhoContainsWhomIsReadOffOneText(t *testing.T) {
	r := random{rand.New(rand.NewPCG(4, 6))}
	for n := range 5_000 {
		k := allKinds[n%len(allKinds)]
		patterns := make([]string, 4)
		for i := range patterns {
			patterns[i] = r.pattern(k)
		}
		got, ok := Compile(k, patterns).Covered()
		require.True(t, ok)
		for i, a := range patterns {
			if !Possible(k, a) {
				continue
			}
			for j, b := range patterns {
				within, counter, err := Within(k, a, b)
				require.NoError(t, err)
				if j != i && within && !slices.Contains(got[i], j) {
					t.Fatalf("%s: %q within %q: %v, but read off %v (%q)", k, a, b, within, got[i], counter)
				}
			}
			others := slices.Concat(patterns[:i], patterns[i+1:])
			together, _, err := Within(k, a, others...)
			require.NoError(t, err)
			if together != (len(got[i]) > 0) {
				t.Fatalf("%s: %q within %q together: %v, each %v", k, a, others, together, got[i])
			}
		}
	}
}

func TestRelationsOfRealPatterns(t *testing.T) {
	for _, tc := range []struct {
		kind    Kind
		a, b    string
		within  bool
		counter string
	}{
		{Path, "/cart/items", "/cart", true, ""},
		{Path, "/cart", "/cart/", false, "/cart"},
		{Path, "/cart$", "/cart", true, ""},
		{Path, "/%63art", "/cart$", false, "/cart"}, // a letter more or less
		{Path, "*", "/", true, ""},                  // every path begins with a slash
		{Path, "/*.gif$", "*.gif", true, ""},
		{Name, "utm_source", "utm_*", true, ""},
		{Name, "utm_*", "utm_source", false, "utm_"},
		{Part, "menu.min.js", "menu", true, ""},
		{Agent, "ProbeBot", "probe", true, ""},
		{Exact, "member", "mem*", false, "member"}, // a role's name has no wildcard
	} {
		within, counter, err := Within(tc.kind, tc.a, tc.b)
		require.NoError(t, err)
		assert.Equal(t, tc.within, within, "%q in %q", tc.a, tc.b)
		if tc.kind == Path && strings.HasPrefix(tc.a, "/%") {
			assert.True(t, strings.HasPrefix(counter, "/cart"), counter)
			continue
		}
		assert.Equal(t, tc.counter, counter, "%q in %q", tc.a, tc.b)
	}
	assert.False(t, Possible(Path, "cart"), "no path begins so")
	assert.True(t, Possible(Path, "*cart"))
	assert.False(t, Possible(Name, ""))
}

func TestMoreOthersThanAnOctetCanCount(t *testing.T) {
	var others []string
	for n := range 400 {
		others = append(others, fmt.Sprintf("/p%d/", n))
	}
	within, _, err := Within(Path, "/p399/x", others...)
	require.NoError(t, err)
	assert.True(t, within)
	within, counter, err := Within(Path, "/p400/", others...)
	require.NoError(t, err)
	assert.False(t, within)
	assert.Equal(t, "/p400/", counter)
}

func TestManyPatternsAreReadInOnePass(t *testing.T) {
	var patterns []string
	for n := range 300 {
		patterns = append(patterns, fmt.Sprintf("/area-%d/*/edit", n), fmt.Sprintf("*.part%d.html$", n))
	}
	set := Compile(Path, patterns)
	assert.Equal(t, []int{14, 599}, set.Matching("/area-7/x/edit/y.part299.html"))
	assert.Empty(t, set.Matching("/elsewhere"))
}
