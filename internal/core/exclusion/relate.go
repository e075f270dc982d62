package exclusion

import (
	"errors"
	"slices"
	"strings"
)

// ErrTooLarge says that a question about patterns would take more states than are
// allowed; it is not decided.
var ErrTooLarge = errors.New("these patterns together are too large to be compared")

// mostStates bounds the search of [Within] and [Overlap].
const mostStates = 200_000

// Within tells whether every text that a matches is matched by one of the others.
// When it is not, counter is a shortest text that only a matches. Decided on the
// product of the automata; ErrTooLarge when that is too large.
func Within(k Kind, a string, others ...string) (within bool, counter string, err error) {
	s := Compile(k, append([]string{a}, others...))
	counter, found, err := s.search(func(matched func(i int32) bool, end bool) (hit, prune bool) {
		for i := 1; i <= len(others); i++ {
			if matched(int32(i)) {
				// At the end of a text this is one of theirs; otherwise only what matches
				// for good makes every longer text theirs, too.
				return false, !end
			}
		}
		return end && matched(0), false
	})
	return err == nil && !found, counter, err
}

// Overlap tells whether some text is matched by both patterns, with a shortest one as
// the example.
func Overlap(k Kind, a, b string) (example string, overlaps bool, err error) {
	s := Compile(k, []string{a, b})
	return s.search(func(matched func(i int32) bool, end bool) (hit, prune bool) {
		return end && matched(0) && matched(1), false
	})
}

// Possible tells whether a pattern matches any text at all: a path that does not begin
// with a slash matches none.
func Possible(k Kind, pattern string) bool {
	// Most match what they say, with nothing in place of each wildcard.
	if plain := strings.TrimSuffix(strings.ReplaceAll(pattern, "*", ""), "$"); plain != "" && (k != Path || plain[0] == '/') && Matches(k, pattern, plain) {
		return true
	}
	_, ok, err := Overlap(k, pattern, pattern)
	return ok || err != nil
}

// spot is a place in the search: a state, what matched for good on the way to it, and
// how it was reached.
type spot struct {
	state  int32
	done   string // patterns, as runes in ascending order
	parent int
	octet  byte
	depth  int
}

// search goes through the automaton breadth first, so that what it finds is shortest.
// For each text it asks ask twice: as a beginning (end is false; what matched did so
// for good) and as a whole text.
func (s *Set) search(ask func(matched func(int32) bool, end bool) (hit, prune bool)) (text string, found bool, err error) {
	type key struct {
		state int32
		done  string
	}
	first := spot{state: 0, parent: -1, done: with("", s.states[0].done)}
	queue := []spot{first}
	seen := map[key]bool{}
	for i := 0; i < len(queue); i++ {
		if len(queue) > mostStates {
			return "", false, ErrTooLarge
		}
		at := queue[i]
		n := s.states[at.state]
		forGood := func(p int32) bool { return strings.ContainsRune(at.done, p) }
		if at.depth > 0 || s.kind != Path {
			whole := func(p int32) bool { return forGood(p) || slices.Contains(n.ends, p) }
			if hit, _ := ask(whole, true); hit {
				return trail(queue, i), true, nil
			}
		}
		if _, prune := ask(forGood, false); prune {
			continue
		}
		if len(n.at) == 0 && at.depth > 0 {
			continue // nothing that follows makes a difference
		}
		for _, c := range s.octets {
			if !s.kind.may(c) || at.depth == 0 && !s.kind.mayBegin(c) {
				continue
			}
			to := s.step(at.state, c)
			next := spot{state: to, done: with(at.done, s.states[to].done), parent: i, octet: c, depth: at.depth + 1}
			k := key{to, next.done}
			if !seen[k] {
				seen[k] = true
				queue = append(queue, next)
			}
		}
	}
	return "", false, nil
}

func with(done string, more []int32) string {
	if len(more) == 0 {
		return done
	}
	all := append([]rune(done), more...)
	slices.Sort(all)
	return string(slices.Compact(all))
}

func trail(queue []spot, i int) string {
	var out []byte
	for ; i > 0 && queue[i].parent >= 0; i = queue[i].parent {
		out = append(out, queue[i].octet)
	}
	slices.Reverse(out)
	return string(out)
}

// Covered lists for each pattern of the Set which others match everything that it
// matches: those that do so alone, or, when none does, some that do so together; none
// when it matches something that no other does.
//
// Every text of a pattern is one of its octets with something for each wildcard; an
// octet that no pattern names can only be taken by a wildcard, which then takes anything
// in its place. So it is enough to read the text that has that octet for every wildcard:
// a pattern that matches it matches all.
//
// ok is false when every octet is named by some pattern; then use [Within].
func (s *Set) Covered() (list [][]int, ok bool) {
	free, ok := s.free()
	if !ok {
		return nil, false
	}
	for i := range s.forms {
		list = append(list, s.covering(i, free))
	}
	return list, true
}

func (s *Set) covering(i int, free byte) []int {
	var alone, together []int
	for n, text := range s.typical(i, free) {
		m := slices.DeleteFunc(s.read(text), func(j int) bool { return j == i })
		if len(m) == 0 {
			return nil
		}
		if n == 0 {
			alone = slices.Clone(m)
		} else {
			alone = slices.DeleteFunc(alone, func(j int) bool { return !slices.Contains(m, j) })
		}
		together = append(together, m[0])
	}
	if len(alone) > 0 {
		return alone
	}
	return together
}

// typical are the texts that stand for everything a pattern matches; none when it
// matches nothing.
func (s *Set) typical(i int, free byte) []string {
	f := s.forms[i]
	if f == nil {
		return nil
	}
	write := func(f form) string {
		var b []byte
		for _, x := range f {
			if x == wildcard {
				b = append(b, free)
			} else {
				b = append(b, byte(x))
			}
		}
		return string(b)
	}
	if s.kind != Path {
		return []string{write(f)}
	}
	switch {
	case len(f) == 0:
		return nil
	case f[0] == '/':
		return []string{write(f)}
	case f[0] != wildcard:
		return nil
	}
	// A wildcard in front takes the slash that every path begins with, or is nothing.
	texts := []string{"/" + write(f)}
	if len(f) == 1 || f[1] == '/' {
		texts = append(texts, write(f[1:]))
	}
	if len(f) == 1 {
		texts[1] = "/"
	}
	return texts
}

// free is an octet that texts can have and no pattern names.
func (s *Set) free() (byte, bool) {
	var named [256]bool
	for _, f := range s.forms {
		for _, x := range f {
			if x != wildcard {
				named[x] = true
			}
		}
	}
	for c := range 256 {
		if b := byte(c); !named[c] && s.kind.may(b) && b != '/' && b != '%' {
			return b, true
		}
	}
	return 0, false
}
