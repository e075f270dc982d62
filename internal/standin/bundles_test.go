package standin

import (
	"testing"

	"github.com/stretchr/testify/assert"

	"tidemarker/internal/core/settings"
)

// The bundles go from cautious to bold: on both shops each has at least as many settings in use that can break something as the one before.
func TestEachBundleIsAtLeastAsBoldAsTheOneBefore(t *testing.T) {
	t.Parallel()
	for _, name := range []string{"fernhollow", "quillet"} {
		cat, before := catalogue(name), settings.RiskProfile{}
		for _, b := range settings.Bundles {
			edits, _ := b.Edits(cat, settings.Values{}, settings.HostFacts{MemoryStore: true, RewriteRules: true, Gzip: true, Brotli: true, HTTPVersion: "2", Hosting: "dedicated"}.Host())
			now := settings.ProfileOf(cat, settings.Values{}.With(edits))
			assert.GreaterOrEqual(t, now[2]+now[3], before[2]+before[3], "%s on %s", b.Name, name)
			before = now
		}
		assert.Greater(t, before[2], 0, "the boldest on %s takes a risk", name)
	}
}
