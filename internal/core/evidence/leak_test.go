package evidence

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/httpcache"
)

func TestAStrangerMustNotBeShownAPersonasPage(t *testing.T) {
	cart := Probe{Key: Key{"/cart", "", "ada", "desktop"}, Class: "cart", Kind: StrangerAfter,
		First: Answer{Served: httpcache.Origin, Lines: []string{"Basket", "Mane block"}}, Second: Answer{Served: httpcache.Cached, Lines: []string{"Basket", "Mane block"}},
		Fresh: Answer{Served: httpcache.Origin, Lines: []string{"Basket", "It is empty"}}}
	was := cart
	was.Second = was.Fresh
	mark := func(pages ...PageLook) Baseline {
		return NewBaseline(Look{Probes: []Probe{was}, Pages: pages}, []Probe{was})
	}
	f := CompareProbe(mark(), cart)
	require.Len(t, f, 1)
	assert.Equal(t, LeakKind, f[0].Kind)
	assert.Equal(t, "visitor", f[0].Persona, "it is the visitor who sees it")
	assert.Empty(t, CompareProbe(Baseline{}, cart), "nothing is known of whose it is")
	others := PageLook{Key: Key{"/news", "", "visitor", "desktop"}, Lines: []Line{{Text: "Mane block", Box: -1}}}
	assert.Empty(t, CompareProbe(mark(others), cart), "a line that visitors are shown elsewhere is nobody's own")
	turning := mark(PageLook{Key: cart.Key, Outline: []Box{{Path: "#quote", Parent: -1}}, Lines: []Line{{Text: "Mane block", Box: 0}}})
	turning.Volatile[cart.Key] = Volatile{Paths: []string{"#quote"}}
	assert.Empty(t, CompareProbe(turning, cart), "a quotation that turns is nobody's own, either")
	own := cart
	own.Second.Served = httpcache.Origin
	own.Second.Lines = own.Fresh.Lines
	assert.Empty(t, CompareProbe(Baseline{}, own))
	cached := cart
	cached.Class = "listing"
	assert.Empty(t, CompareProbe(Baseline{}, cached), "what changes by itself is cached too on a page for all")
	cached.Second.PrivateTexts = []string{"Mane block"}
	assert.Len(t, CompareProbe(Baseline{}, cached), 1, "a persona's own mark is a leak on any page")
	cart.Missing = "down"
	assert.Equal(t, NotCheckedKind, CompareProbe(Baseline{}, cart)[0].Kind)
}

func TestSomebodyWhoIsNoLongerShownTheirOwnIsFound(t *testing.T) {
	probe := func(marks ...string) Probe {
		return Probe{Key: Key{"/cart", "", "carrier", "desktop"}, Class: "cart", Kind: StrangerAfter, First: Answer{PrivateTexts: marks, Served: httpcache.Cached}}
	}
	base := NewBaseline(Look{Probes: []Probe{probe("Mane block")}}, nil)
	f := CompareProbe(base, probe())
	require.Len(t, f, 1)
	assert.Equal(t, VariantKind, f[0].Kind)
	assert.Contains(t, f[0].Detail, "Mane block")
	fresh := probe()
	fresh.First.Served = httpcache.Origin
	f = CompareProbe(base, fresh)
	require.Len(t, f, 1)
	assert.Equal(t, ContentKind, f[0].Kind, "a page that is generated for them is no copy of somebody else's")
	assert.Empty(t, CompareProbe(base, probe("Mane block")))
	assert.Empty(t, CompareProbe(NewBaseline(Look{}, nil), probe()), "nothing is known of before")
}
