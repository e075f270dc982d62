package run_test

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

// Whatever a speed layer tells by: the survey sees it, a check confirms that pages were
// warm by it, correct settings are clear, and what one person's page does in everybody's
// cache is found.
func TestEverySignalOfAPageCacheIsSeenAndUsed(t *testing.T) {
	for _, kind := range []httpcache.SignalKind{httpcache.ByHeader, httpcache.ByAge, httpcache.ByMarker, httpcache.ByNothing} {
		t.Run(string(kind), func(t *testing.T) {
			b := newBench(t, withCart(site.Desktop), func(o *standin.Options) { o.Tells = kind })
			next := b.site.Document.V
			next.Environments[0].CacheSignal = nil
			b.onboard.WithSignals(t.Context(), next.Environments[:1])
			require.NotNil(t, next.Environments[0].CacheSignal, "nothing was proposed")
			require.Equal(t, kind, next.Environments[0].Signal().Kind)
			if kind == httpcache.ByHeader {
				assert.Equal(t, standin.OwnHeader, next.Environments[0].CacheSignal.Header)
			}
			_, err := b.store.SaveSite(t.Context(), next, false, "tester")
			require.NoError(t, err)

			marked := b.mark(0)
			look, err := b.store.Look(t.Context(), marked.ID, 1)
			require.NoError(t, err)
			served := map[string]httpcache.Served{}
			for _, p := range look.Pages {
				served[p.Page+" "+p.Persona] = p.Served
			}
			if kind == httpcache.ByNothing {
				assert.Equal(t, httpcache.Unknown, served["/ visitor"])
			} else {
				assert.True(t, served["/ visitor"].FromCache(), "the home page was warmed, and is %q", served["/ visitor"])
				assert.False(t, served["/cart carrier"].FromCache(), "the cart is never cached, and is %q", served["/cart carrier"])
			}
			if kind == httpcache.ByAge || kind == httpcache.ByMarker {
				return // what is told by one of them is used as what is told by a header is
			}

			r, _ := b.with(release.IsolationRun, settings.Values{"pages.lifetime": 7200})
			assert.Equal(t, marked.Verdict, r.Verdict, r.Summary)
			r, f := b.with(release.IsolationRun, settings.Values{"pages.never": []string{"/checkout", "/api/"}})
			assert.Equal(t, evidence.VerdictBroken, r.Verdict, r.Summary)
			assert.True(t, has(f, evidence.LeakKind, "/cart", site.Desktop), "%v", f)
		})
	}
}
