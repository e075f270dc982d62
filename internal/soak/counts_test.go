package soak_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"sync"
)

// counts are what was done, and survived.
type counts struct {
	mu       sync.Mutex
	kills    map[string]int // by point; "at random" for the rest
	troubles map[string]int
	acts     map[string]map[string]int // by act and what came of it
	refusals map[string]int            // why people were refused
	checks   int
	settled  int
}

func newCounts() *counts {
	return &counts{kills: map[string]int{}, troubles: map[string]int{}, acts: map[string]map[string]int{}, refusals: map[string]int{}}
}

func (c *counts) killed(at string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.kills[at]++
}

func (c *counts) total() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	n := 0
	for _, k := range c.kills {
		n += k
	}
	return n
}

func (c *counts) troubled(what string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.troubles[what]++
}

// asked counts what came of an act; a status of -1 says that there was nothing to do it to, and counts as nothing.
func (c *counts) asked(what string, status int) {
	said := "unknown"
	switch {
	case status < 0:
		return
	case status >= 500:
		said = "failed"
	case status >= 400:
		said = "refused"
	case status > 0:
		said = "done"
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.acts[what] == nil {
		c.acts[what] = map[string]int{}
	}
	c.acts[what][said]++
}

// refused notes why something was refused or failed.
func (c *counts) refused(what string, status int, said string) {
	if status < 400 {
		return
	}
	var problem struct{ Detail string }
	_ = json.Unmarshal([]byte(said), &problem)
	c.mu.Lock()
	defer c.mu.Unlock()
	c.refusals[fmt.Sprintf("%d %s: %s", status, what, digits.ReplaceAllString(problem.Detail, "…"))]++
}

var digits = regexp.MustCompile(`\d+`)

// why are the refusals, the most frequent first.
func (c *counts) why() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	list := slices.SortedFunc(maps.Keys(c.refusals), func(a, b string) int { return c.refusals[b] - c.refusals[a] })
	var b strings.Builder
	for _, k := range list[:min(30, len(list))] {
		fmt.Fprintf(&b, "\n%4d × %s", c.refusals[k], k)
	}
	return b.String()
}

// table is all of it, as docs/reliability.md has it.
func (c *counts) table() string {
	c.mu.Lock()
	defer c.mu.Unlock()
	var b strings.Builder
	fmt.Fprintf(&b, "\n| killed | times |\n|---|---|\n")
	for _, k := range slices.Sorted(maps.Keys(c.kills)) {
		fmt.Fprintf(&b, "| %s | %d |\n", k, c.kills[k])
	}
	fmt.Fprintf(&b, "\n| other trouble | times |\n|---|---|\n")
	for _, k := range slices.Sorted(maps.Keys(c.troubles)) {
		fmt.Fprintf(&b, "| %s | %d |\n", k, c.troubles[k])
	}
	fmt.Fprintf(&b, "\n| people | done | refused | failed | unknown |\n|---|---|---|---|---|\n")
	for _, k := range slices.Sorted(maps.Keys(c.acts)) {
		a := c.acts[k]
		fmt.Fprintf(&b, "| %s | %d | %d | %d | %d |\n", k, a["done"], a["refused"], a["failed"], a["unknown"])
	}
	fmt.Fprintf(&b, "\nchecked %d times, %d times with nothing under way\n", c.checks, c.settled)
	return b.String()
}
