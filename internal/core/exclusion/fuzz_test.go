package exclusion

import "testing"

// FuzzPatterns holds the two ways in which patterns are matched against each other: the automaton of many, and one by itself.
func FuzzPatterns(f *testing.F) {
	f.Add("/cart*", "/cart/2?x=1", uint8(0))
	f.Add("*.js$", "/a.js", uint8(1))
	f.Add("%2e%2E/*", "/../a", uint8(0))
	f.Add("**?*", "??", uint8(2))
	f.Fuzz(func(t *testing.T, pattern, text string, which uint8) {
		if len(pattern) > 200 || len(text) > 400 {
			return
		}
		all := []Kind{Path, Agent, Part, Exact, Name}
		k := all[int(which)%len(all)]
		if k == Path {
			text = "/" + text // an address's path always begins with one
		}
		one, many := Matches(k, pattern, text), len(Compile(k, []string{pattern}).Matching(text)) > 0
		if one != many {
			t.Fatalf("%v %q on %q: %t by itself, %t among others", k, pattern, text, one, many)
		}
		if one && !Possible(k, pattern) {
			t.Fatalf("%v %q matches %q and is said to match nothing", k, pattern, text)
		}
	})
}
