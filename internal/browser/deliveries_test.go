package browser

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/site"
)

// letterbox is a page with a form that is delivered, or lost, and the outbox that lists it.
func letterbox(t *testing.T, lost bool) site.Environment {
	t.Helper()
	var mu sync.Mutex
	// There before, at a time that nobody can tell from now.
	mails := []delivery{{At: "2026-01-01T00:00:00Z", To: []string{"owner@shop.test"}, Subject: "A message", Text: "Does it need light?"}}
	box := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		mu.Lock()
		defer mu.Unlock()
		if r.URL.Path != "/"+mailList {
			http.NotFound(w, r)
			return
		}
		_ = json.NewEncoder(w).Encode(mails)
	}))
	t.Cleanup(box.Close)
	shop := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		if r.Method == http.MethodPost {
			if !lost {
				mu.Lock()
				mails = append(mails, delivery{At: "2026-01-01T00:00:00Z", To: []string{"owner@shop.test"}, Subject: "A message", Text: r.FormValue("m")})
				mu.Unlock()
			}
			_, _ = w.Write([]byte("<!doctype html><main>It is on its way.</main>"))
			return
		}
		_, _ = w.Write([]byte("<!doctype html><main><form method=post><label>Message <input name=m></label><button>Send</button></form></main>"))
	}))
	t.Cleanup(shop.Close)
	return site.Environment{Name: "staging", URL: shop.URL, Outbox: box.URL}
}

// The site says that the message is on its way; whether it was delivered, the outbox says.
func TestAFormIsFollowedToWhereItIsDelivered(t *testing.T) {
	steps := []journey.Step{{Go: "/"}, {Fill: &journey.Input{In: journey.Target{Label: "Message"}, Value: "Does it need light?"}}, press("Send"), {Expect: &journey.Expect{Mail: "Does it need light?"}}}
	take := func(env site.Environment) (journey.Outcome, string) {
		look, err := shared.Take(t.Context(), env, site.JourneyTask{Journey: journey.Journey{Name: "a message", Persona: site.Visitor, Steps: steps}, Device: site.Desktop}, State{}, keepNothing)
		require.NoError(t, err)
		return look.Outcome, look.Missing
	}
	o, missing := take(letterbox(t, false))
	require.Empty(t, missing)
	assert.Equal(t, -1, o.Failed())
	assert.Equal(t, "expect a mail with “Does it need light?” to be delivered", o.Steps[3].Step)

	o, _ = take(letterbox(t, true))
	require.Equal(t, 3, o.Failed())
	assert.Equal(t, "no mail with “Does it need light?” was delivered, of 0 that came since the first step", o.Steps[3].Why, "the one from before does not count")

	nowhere := letterbox(t, false)
	nowhere.Outbox = ""
	_, missing = take(nowhere)
	assert.Contains(t, missing, "the environment has no outbox")
}
