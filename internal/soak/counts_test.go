package soak_test

import (
	"fmt"
	"maps"
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
	checks   int
	settled  int
}

func newCounts() *counts {
	return &counts{kills: map[string]int{}, troubles: map[string]int{}, acts: map[string]map[string]int{}}
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
