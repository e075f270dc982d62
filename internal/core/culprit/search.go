// Package culprit finds the smallest parts of a change that break a site. It decides what to
// try next from what has been tried; it tries nothing itself.
//
// The search is delta debugging (A. Zeller and R. Hildebrandt, "Simplifying and Isolating
// Failure-Inducing Input", IEEE Transactions on Software Engineering 28 (2002), 183–200) by
// halving, as group testing does it (F. K. Hwang, "A Method for Detecting All Defective Members
// in a Population by Group Testing", Journal of the American Statistical Association 67 (1972),
// 605–608): parts are put in an order, the likely ones first, and the shortest beginning that
// breaks the site is found. Its last part is in the culprit. It is kept, and the search goes on
// until what is kept breaks the site by itself.
package culprit

import (
	"errors"
	"fmt"
	"math/bits"
	"slices"
)

// Outcome is what trying some parts of a change came to.
type Outcome string

// The outcomes.
const (
	Passes    Outcome = "passes"    // nothing of what is searched for shows
	Fails     Outcome = "fails"     // it shows
	Undecided Outcome = "undecided" // it could not be decided, or these parts cannot be put in force
)

// Answer is what trying some parts came to. Parts are indexes from 0.
type Answer struct {
	Parts   []int    `json:"parts"`
	Outcome Outcome  `json:"outcome"`
	Looked  []string `json:"looked,omitempty"` // places that were looked at; nil for everywhere
}

// Holding are the answers that hold for what shows at these places. That something showed holds for the parts wherever that
// was; that nothing did, only where it was looked for: a change that breaks several things is searched for one after the
// other, and each shows in places of its own.
func Holding(answers []Answer, places []string) []Answer {
	var out []Answer
	for _, a := range answers {
		missed := func(p string) bool { return !slices.Contains(a.Looked, p) }
		if a.Outcome != Passes || a.Looked == nil || !slices.ContainsFunc(places, missed) {
			out = append(out, a)
		}
	}
	return out
}

// Problem is what is searched.
type Problem struct {
	N      int       // how many parts the change has
	Likely []float64 // how suspect each part is, 0 or more; nil when nothing is known
	Needs  [][]int   // the parts without which a part cannot be put in force or is not meant; nil when there are none
	Most   int       // how many answers may be asked for in all; 0 for no limit
}

// Step is how a search stands: what to try next, or what it came to.
type Step struct {
	Ask       []int   `json:"ask,omitempty"`       // the parts to try next; nil when the search is over
	Culprits  [][]int `json:"culprits,omitempty"`  // each breaks the site by itself, and no part of it does
	Suspected []int   `json:"suspected,omitempty"` // the parts among which the search goes on, or could not decide
	Innocent  []int   `json:"innocent,omitempty"`  // the parts that were tried in company that broke nothing
	Clear     bool    `json:"clear,omitempty"`     // the whole change breaks nothing
	Stuck     bool    `json:"stuck,omitempty"`     // it is over, and something that breaks the site was not found
	Left      int     `json:"left,omitempty"`      // about how many answers it still takes
	Rest      bool    `json:"rest,omitempty"`      // what is to be tried is all that is left beside the culprits: whether there are others
}

// What is known of a part.
const (
	Culprit   = "culprit"   // it breaks the site by itself
	Together  = "together"  // it does with others only
	Suspected = "suspected" // the search goes on among it and others
	Innocent  = "innocent"  // it was in company that broke nothing
	Unknown   = "unknown"
)

// StateOf says what is known of a part.
func (s Step) StateOf(i int) string {
	for _, c := range s.Culprits {
		if slices.Contains(c, i) && len(c) == 1 {
			return Culprit
		} else if slices.Contains(c, i) {
			return Together
		}
	}
	switch {
	case slices.Contains(s.Innocent, i):
		return Innocent
	case slices.Contains(s.Suspected, i):
		return Suspected
	}
	return Unknown
}

// question is the error by which a search says that it needs an answer first.
type question struct{ parts []int }

func (q *question) Error() string { return fmt.Sprintf("parts %v have to be tried", q.parts) }

var errStuck = errors.New("it could not be decided")

// search replays what is known, up to the first answer that is missing.
type search struct {
	p         Problem
	known     map[string]Outcome
	order     []int
	suspected []int
	left      int
	rest      bool
}

// Next says how a search stands after some answers. The same answers give the same step, so that
// a search which was cut off goes on where it was, and asks for nothing twice.
func Next(p Problem, answers []Answer) Step {
	s := &search{p: p, known: map[string]Outcome{key(nil): Passes}}
	for _, a := range answers {
		s.known[key(s.close(a.Parts))] = a.Outcome
	}
	s.sort()
	culprits, clear, err := s.all()
	out := Step{Culprits: culprits, Clear: clear, Innocent: s.innocent(answers, culprits)}
	var q *question
	switch {
	case errors.As(err, &q) && (p.Most == 0 || len(answers) < p.Most):
		out.Ask, out.Suspected, out.Left, out.Rest = q.parts, s.suspected, s.left, s.rest
	case err != nil:
		out.Stuck, out.Suspected = true, s.suspected
	}
	return out
}

// key names a set of parts.
func key(parts []int) string { return fmt.Sprint(parts) }

// close adds what parts need, in the order of their indexes.
func (s *search) close(parts []int) []int {
	in := map[int]bool{}
	var add func(int)
	add = func(i int) {
		if in[i] || i < 0 || i >= s.p.N {
			return
		}
		in[i] = true
		if i < len(s.p.Needs) {
			for _, n := range s.p.Needs[i] {
				add(n)
			}
		}
	}
	for _, i := range parts {
		add(i)
	}
	out := make([]int, 0, len(in))
	for i := range s.p.N {
		if in[i] {
			out = append(out, i)
		}
	}
	return out
}

// sort puts the likely parts first, and each part behind what it needs.
func (s *search) sort() {
	byLikely := make([]int, s.p.N)
	for i := range byLikely {
		byLikely[i] = i
	}
	slices.SortStableFunc(byLikely, func(a, b int) int {
		switch x, y := s.likely(a), s.likely(b); {
		case x > y:
			return -1
		case x < y:
			return 1
		}
		return 0
	})
	placed := make([]bool, s.p.N)
	var place func(i int, under map[int]bool)
	place = func(i int, under map[int]bool) {
		if placed[i] || under[i] { // two that need each other stand as they come
			return
		}
		under[i] = true
		if i < len(s.p.Needs) {
			for _, n := range s.p.Needs[i] {
				place(n, under)
			}
		}
		placed[i] = true
		s.order = append(s.order, i)
	}
	for _, i := range byLikely {
		place(i, map[int]bool{})
	}
}

func (s *search) likely(i int) float64 {
	if i < len(s.p.Likely) {
		return max(0, s.p.Likely[i])
	}
	return 0
}

// ask is what trying some parts and what they need came to; the error is a question when
// nobody has tried them.
func (s *search) ask(parts []int) (Outcome, error) {
	closed := s.close(parts)
	if o, known := s.known[key(closed)]; known {
		return o, nil
	}
	return "", &question{closed}
}

// all finds one culprit after the other, until what is left breaks nothing.
func (s *search) all() (culprits [][]int, clear bool, err error) {
	rest := slices.Clone(s.order)
	for {
		s.suspected, s.left = rest, s.checks(len(rest))
		if len(culprits) > 0 {
			s.left = 1
		}
		o, err := s.ask(rest)
		if err != nil {
			s.rest = len(culprits) > 0
			return culprits, false, err
		}
		switch o {
		case Passes:
			s.suspected = nil
			return culprits, len(culprits) == 0, nil
		case Undecided:
			return culprits, false, errStuck
		}
		found, err := s.one(rest)
		if err != nil {
			return culprits, false, err
		}
		culprits = append(culprits, found)
		rest = s.without(rest, found)
	}
}

// without are parts that can stand without some of them.
func (s *search) without(parts, out []int) []int {
	return slices.DeleteFunc(slices.Clone(parts), func(i int) bool {
		return slices.ContainsFunc(s.close([]int{i}), func(n int) bool { return slices.Contains(out, n) })
	})
}

// one finds a culprit among parts that break the site together.
func (s *search) one(among []int) ([]int, error) {
	var kept []int
	for {
		if len(kept) > 0 {
			s.suspected, s.left = append(slices.Clone(kept), among...), 2
			o, err := s.ask(kept)
			if err != nil {
				return nil, err
			}
			if o == Fails {
				return s.smallest(kept)
			}
			if o == Undecided || len(among) == 0 {
				return nil, errStuck
			}
		}
		last, err := s.shortest(kept, among)
		if err != nil {
			return nil, err
		}
		kept, among = append(kept, among[last]), among[:last]
	}
}

// shortest is the index of the last part of the shortest beginning that breaks the site beside
// what is kept. All of it does, nothing of it does not.
func (s *search) shortest(kept, among []int) (int, error) {
	lo, hi := 0, len(among) // the first lo pass, the first hi fail
	for hi-lo > 1 {
		s.suspected, s.left = slices.Concat(kept, among[lo:hi]), s.checks(hi-lo)
		at, o, err := s.halve(kept, among, lo, hi)
		if err != nil {
			return 0, err
		}
		if o == Fails {
			hi = at
		} else {
			lo = at
		}
	}
	return hi - 1, nil
}

// halve tries a beginning between two. One that cannot be decided is passed over for the next.
func (s *search) halve(kept, among []int, lo, hi int) (at int, o Outcome, err error) {
	cut := s.cut(among, lo, hi)
	for d := 0; d < hi-lo; d++ {
		for _, at := range []int{cut - d, cut + d} {
			if at <= lo || at >= hi {
				continue
			}
			o, err := s.ask(slices.Concat(kept, among[:at]))
			if err != nil {
				return 0, "", err
			}
			if o != Undecided {
				return at, o, nil
			}
		}
	}
	return 0, "", errStuck
}

// cut halves what is suspected by how likely it is, as far as no more answers are needed for it
// than for halves of one size; one part that is likelier than all others together goes first.
func (s *search) cut(among []int, lo, hi int) int {
	total := 0.0
	for _, i := range among[lo:hi] {
		total += s.likely(i)
	}
	if total == 0 {
		return lo + (hi-lo)/2
	}
	if s.likely(among[lo]) > total/2 {
		return lo + 1
	}
	room := 1 << (bits.Len(uint(hi-lo-1)) - 1) // what fits below one answer less
	best, sum, off := lo+(hi-lo)/2, 0.0, total
	for at := lo + 1; at < hi; at++ {
		sum += s.likely(among[at-1])
		if far := max(sum, total-sum) - total/2; at-lo <= room && hi-at <= room && far < off {
			best, off = at, far
		}
	}
	return best
}

// checks is how many answers it takes to find one among n, and to prove it: by itself it fails,
// and without it the rest passes.
func (s *search) checks(n int) int {
	if n < 2 {
		return 2
	}
	return bits.Len(uint(n-1)) + 2
}

// smallest leaves out what is not needed for the site to break. Where more parts never mend what
// fewer break there is nothing to leave out; an exclusion among the parts can do that.
func (s *search) smallest(parts []int) ([]int, error) {
	for n := 0; len(parts) > 1 && n < len(parts); n++ {
		fewer := slices.Delete(slices.Clone(parts), n, n+1)
		if slices.Equal(s.close(fewer), s.close(parts)) {
			continue
		}
		o, err := s.ask(fewer)
		if err != nil {
			return nil, err
		}
		if o == Fails {
			return s.smallest(fewer)
		}
	}
	out := slices.Clone(parts)
	slices.Sort(out)
	return out, nil
}

// innocent are the parts that were in company that broke nothing, and are in no culprit.
func (s *search) innocent(answers []Answer, culprits [][]int) []int {
	in := map[int]bool{}
	for _, a := range answers {
		if a.Outcome == Passes {
			for _, i := range s.close(a.Parts) {
				in[i] = true
			}
		}
	}
	for _, c := range culprits {
		for _, i := range c {
			delete(in, i)
		}
	}
	var out []int
	for i := range s.p.N {
		if in[i] {
			out = append(out, i)
		}
	}
	return out
}
