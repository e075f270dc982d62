package exclusions

import (
	"sync"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/inspect"
)

func TestWhatWasComputedHoldsUntilSomethingChanges(t *testing.T) {
	var r remembered[int]
	var computed atomic.Int64
	ask := func(g inspect.RuleContext) int {
		n, err := r.of(g, func() int { return int(computed.Add(1)) })
		require.NoError(t, err)
		return n
	}
	g := inspect.RuleContext{Layer: exclusion.Layer{On: true, Rules: []exclusion.Rule{{Key: "never", Role: "path-exclude", Pattern: "/cart"}}}, Known: exclusion.Known{Pages: []exclusion.Page{{Path: "/cart", Class: "cart"}}}}
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() { ask(g) })
	}
	all.Wait()
	assert.EqualValues(t, 1, computed.Load(), "of many who ask at once the first computes")
	for _, change := range []func(*inspect.RuleContext){
		func(g *inspect.RuleContext) { g.Layer.Lifetime = 60 },
		func(g *inspect.RuleContext) {
			g.Layer.Rules = []exclusion.Rule{{Key: "never", Role: "path-exclude", Pattern: "/cart$"}}
		},
		func(g *inspect.RuleContext) {
			g.Known.Pages = []exclusion.Page{{Path: "/cart", Class: "cart", FormLives: 9}}
		},
		func(g *inspect.RuleContext) { g.Known.Inside.Links = []string{"/a"} },
		func(g *inspect.RuleContext) { g.Known.Agents = []string{"a"} },
		func(g *inspect.RuleContext) {
			g.Decided = []exclusion.Decided{{Class: "cart", Policy: exclusion.Shared}}
		},
		func(g *inspect.RuleContext) { g.Run = 7 },
	} {
		other := g
		change(&other)
		before := computed.Load()
		ask(other)
		assert.Equal(t, before+1, computed.Load())
		ask(other)
		assert.Equal(t, before+1, computed.Load())
	}
	assert.Equal(t, 1, ask(g))
}
