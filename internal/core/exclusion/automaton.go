package exclusion

import (
	"encoding/binary"
	"slices"
)

// Set is patterns of one kind compiled into one automaton that reads a text once and
// says which of them match. Its states are made when they are first met (subset
// construction: Rabin and Scott 1959, "Finite automata and their decision problems").
//
// A pattern with wildcards needs no backtracking: once the part before a wildcard is
// matched, every later match is reached from there, so that all earlier positions are
// dropped. That keeps the states of one pattern linear in its length.
//
// A Set must not be used by several goroutines at once, since reading may add states.
type Set struct {
	kind    Kind
	forms   []form
	offset  []int32 // of each pattern's first position
	owner   []int32 // of each position: whose it is
	classOf [256]uint8
	octets  []byte // one of each class, as far as a text can have it
	states  []node
	index   map[string]int32
}

// node is a state: the positions that are still open.
type node struct {
	at   []int32
	next []int32 // by class; unknown until it is met
	done []int32 // patterns that match whatever follows, told on the way in
	ends []int32 // patterns that match when the text ends here
}

const unknown = -1

// Compile makes a Set. Patterns keep their positions; an empty one matches nothing.
func Compile(k Kind, patterns []string) *Set {
	s := &Set{kind: k, index: map[string]int32{}}
	for _, p := range patterns {
		s.forms = append(s.forms, formOf(k, p))
	}
	s.classes(s.forms)
	s.start()
	return s
}

// classes puts octets that no pattern tells apart into one class.
func (s *Set) classes(all []form) {
	var named [256]bool
	named['/'] = s.kind == Path // every path begins with it
	for _, f := range all {
		for _, x := range f {
			if x != wildcard {
				named[x] = true
			}
		}
	}
	s.octets = s.octets[:0]
	rest := uint8(0)
	haveRest := false
	for c := range 256 {
		if named[c] {
			s.classOf[c] = uint8(len(s.octets))
			s.octets = append(s.octets, byte(c))
		}
	}
	for c := range 256 {
		if !named[c] && s.kind.may(byte(c)) {
			if !haveRest {
				rest, haveRest = uint8(len(s.octets)), true
				s.octets = append(s.octets, byte(c))
			}
		}
	}
	for c := range 256 {
		if !named[c] {
			s.classOf[c] = rest
		}
	}
}

func (s *Set) start() {
	var begin []int32
	for i, f := range s.forms {
		s.offset = append(s.offset, int32(len(s.owner)))
		for range len(f) + 1 {
			s.owner = append(s.owner, int32(i))
		}
		if f != nil {
			begin = append(begin, s.offset[i])
		}
	}
	s.node(begin)
}

// at is what stands at a position; end is true behind the last.
func (s *Set) at(p int32) (x int16, end bool) {
	i := s.owner[p]
	f := s.forms[i]
	if n := int(p - s.offset[i]); n < len(f) {
		return f[n], false
	}
	return 0, true
}

// node is the state with these positions, made when there is none yet.
func (s *Set) node(open []int32) int32 {
	var n node
	for _, p := range open {
		x, end := s.at(p)
		switch {
		case end:
			n.ends = append(n.ends, s.owner[p])
		case x == wildcard && int(p-s.offset[s.owner[p]]) == len(s.forms[s.owner[p]])-1:
			n.done = append(n.done, s.owner[p])
			continue // nothing more is to be learnt about it
		}
		n.at = append(n.at, p)
	}
	key := make([]byte, 0, 4*(len(n.at)+len(n.done)+1))
	for _, p := range n.at {
		key = binary.LittleEndian.AppendUint32(key, uint32(p))
	}
	key = binary.LittleEndian.AppendUint32(key, ^uint32(0))
	for _, p := range n.done {
		key = binary.LittleEndian.AppendUint32(key, uint32(p))
	}
	if i, there := s.index[string(key)]; there {
		return i
	}
	n.next = make([]int32, len(s.octets))
	for i := range n.next {
		n.next[i] = unknown
	}
	i := int32(len(s.states))
	s.states = append(s.states, n)
	s.index[string(key)] = i
	return i
}

// step is the state after an octet.
func (s *Set) step(state int32, c byte) int32 {
	class := s.classOf[c]
	if to := s.states[state].next[class]; to != unknown {
		return to
	}
	var open []int32
	at := s.states[state].at
	for i := 0; i < len(at); {
		whose := s.owner[at[i]]
		j := i
		var mine []int32
		for ; j < len(at) && s.owner[at[j]] == whose; j++ {
			p := at[j]
			x, end := s.at(p)
			if end {
				continue
			}
			if x == wildcard {
				mine = append(mine, p)
				p++
				if x, end = s.at(p); end {
					continue
				}
			}
			if x == int16(c) {
				mine = append(mine, p+1)
			}
		}
		open = append(open, s.furthest(mine)...)
		i = j
	}
	to := s.node(open)
	s.states[state].next[class] = to
	return to
}

// furthest drops the positions before the last wildcard that is reached, and sorts.
func (s *Set) furthest(mine []int32) []int32 {
	slices.Sort(mine)
	mine = slices.Compact(mine)
	for i := len(mine) - 1; i > 0; i-- {
		if x, end := s.at(mine[i]); !end && x == wildcard {
			return mine[i:]
		}
	}
	return mine
}

// Matching lists which patterns match a text, by their positions in ascending order.
func (s *Set) Matching(text string) []int { return s.read(s.kind.canonical(text)) }

// read is Matching of a text that is canonical.
func (s *Set) read(text string) []int {
	var out []int
	state := int32(0)
	note := func(list []int32) {
		for _, i := range list {
			out = append(out, int(i))
		}
	}
	note(s.states[0].done)
	for i := 0; i < len(text) && len(s.states[state].at) > 0; i++ {
		state = s.step(state, text[i])
		note(s.states[state].done)
		if i == len(text)-1 {
			note(s.states[state].ends)
		}
	}
	if text == "" {
		note(s.states[0].ends)
	}
	slices.Sort(out)
	return slices.Compact(out)
}
