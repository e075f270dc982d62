package connector_test

import (
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/speedlayer/connector"
	"tidemarker/internal/standin"
)

const secret = "the-token-itself"

func fernhollow(t *testing.T) (*standin.Instance, *connector.Client) {
	t.Helper()
	inst, err := standin.StartFernhollow(standin.Options{Environment: "staging", Addr: "127.0.0.1:0", Token: secret})
	require.NoError(t, err)
	t.Cleanup(func() { require.NoError(t, inst.Close()) })
	return inst, connector.New(inst.ConnectorURL()+"/", secret, time.Minute)
}

func TestEveryCallOfTheProtocolAgainstTheStandIn(t *testing.T) {
	inst, c := fernhollow(t)
	ctx := t.Context()
	about, err := c.About(ctx)
	require.NoError(t, err)
	assert.Equal(t, "Fernhollow", about.Site)
	assert.True(t, about.Has("warm") && !about.Has("teleport"))
	assert.True(t, about.Facts.Host().Facts["notShared"])
	cat, err := c.Catalogue(ctx)
	require.NoError(t, err)
	now, err := c.Settings(ctx)
	require.NoError(t, err)
	require.NoError(t, cat.Validate(now.Values))

	run, err := c.Warm(ctx, []string{inst.URL + "/", inst.URL + "/kits", "http://elsewhere.example/"})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		run, err = c.Warming(ctx, run.ID)
		return err == nil && run.State == "done"
	}, 20*time.Second, 10*time.Millisecond)
	assert.Equal(t, 6, run.Total)
	assert.Equal(t, 2, run.Failed, "only the site's own host is fetched")
	status, err := c.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, 4, status.Entries, "two pages, for phones and for others")

	require.Equal(t, release.ActApplied, c.Apply(ctx, now.Values.With(settings.Values{"markup.compact": true}), now.ETag).State())
	next, err := c.Settings(ctx)
	require.NoError(t, err)
	assert.NotEqual(t, now.ETag, next.ETag)
	status, err = c.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, 4, status.Entries, "a change of settings alone drops nothing")
	n, err := c.Purge(ctx, speedlayer.Scope{URLs: []string{inst.URL + "/kits"}})
	require.NoError(t, err)
	assert.Equal(t, 2, n, "an address stands for all its copies")
	n, err = c.Purge(ctx, speedlayer.Scope{})
	require.NoError(t, err)
	assert.Equal(t, 2, n)
}

func TestWhatSomebodyElseChangedIsNotOverwritten(t *testing.T) {
	_, c := fernhollow(t)
	mine, err := c.Settings(t.Context())
	require.NoError(t, err)
	require.Equal(t, release.ActApplied, c.Apply(t.Context(), mine.Values.With(settings.Values{"pages.lifetime": 60}), mine.ETag).State())
	theirs, err := c.Settings(t.Context())
	require.NoError(t, err)
	err = doubted(t, c.Apply(t.Context(), mine.Values.With(settings.Values{"scripts.defer": true}), mine.ETag))
	_, ok := errors.AsType[*speedlayer.ChangedElsewhere](err)
	require.True(t, ok, "%v", err)
	now, err := c.Settings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, theirs, now)
}

func TestEachRefusedKeyComesWithItsReason(t *testing.T) {
	_, c := fernhollow(t)
	now, err := c.Settings(t.Context())
	require.NoError(t, err)
	err = doubted(t, c.Apply(t.Context(), now.Values.With(settings.Values{"pages.lifetime": 0, "scripts.defer": "yes"}), now.ETag))
	refused, ok := errors.AsType[*speedlayer.Refused](err)
	require.True(t, ok, "%v", err)
	require.Len(t, refused.Keys, 2)
	assert.Equal(t, "pages.lifetime", refused.Keys[0].Key)
	assert.Contains(t, err.Error(), "at least 1 seconds")
}

func TestAWrongTokenSaysWhereToLookAndDoesNotTellTheToken(t *testing.T) {
	inst, _ := fernhollow(t)
	_, err := connector.New(inst.ConnectorURL(), "wrong-secret", time.Minute).Settings(t.Context())
	_, ok := errors.AsType[*speedlayer.Unauthorised](err)
	require.True(t, ok, "%v", err)
	assert.Contains(t, err.Error(), "Check the token in the site file")
	assert.NotContains(t, err.Error(), "wrong-secret")
}

// odd is a server that answers every call in one odd way.
func odd(t *testing.T, h http.HandlerFunc) *connector.Client {
	t.Helper()
	s := httptest.NewServer(h)
	t.Cleanup(s.Close)
	return connector.New(s.URL, secret, 400*time.Millisecond)
}

func TestAnswersThatAreNotTheProtocols(t *testing.T) {
	isOdd := func(err error) bool { _, ok := errors.AsType[*speedlayer.NotAConnector](err); return ok }
	isDown := func(err error) bool { _, ok := errors.AsType[*speedlayer.Unreachable](err); return ok }
	reply := func(status int, kind, body string) http.HandlerFunc {
		return func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", kind)
			w.WriteHeader(status)
			_, _ = w.Write([]byte(body))
		}
	}
	for name, tc := range map[string]struct {
		h  http.HandlerFunc
		is func(error) bool
	}{
		"HTML instead of JSON":       {reply(200, "text/html", "<h1>Welcome</h1>"), isOdd},
		"HTML that says it is JSON":  {reply(200, "application/json", "<h1>Welcome</h1>"), isOdd},
		"settings without an ETag":   {reply(200, "application/json", `{"values":{}}`), isOdd},
		"settings without values":    {reply(200, "application/json", `{}`), isOdd},
		"no such address":            {reply(404, "text/html", "not found"), isOdd},
		"a redirect":                 {func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/elsewhere", http.StatusFound) }, isOdd},
		"a refusal without a reason": {reply(422, "text/html", "no"), isOdd},
		"a fault on its side":        {reply(503, "text/html", "maintenance"), isDown},
		"an answer cut off": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			_, _ = w.Write([]byte("{"))
		}, isDown},
		"no answer in time": {func(_ http.ResponseWriter, r *http.Request) {
			select {
			case <-r.Context().Done():
			case <-time.After(5 * time.Second):
			}
		}, isDown},
		"an endless answer": {func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			for range 17 {
				_, _ = w.Write([]byte(strings.Repeat(" ", 1<<20)))
			}
		}, func(err error) bool { return isOdd(err) || isDown(err) }},
	} {
		t.Run(name, func(t *testing.T) {
			_, err := odd(t, tc.h).Settings(t.Context())
			require.Error(t, err)
			assert.True(t, tc.is(err), "%T: %v", err, err)
			assert.NotContains(t, err.Error(), secret)
		})
	}
	_, err := odd(t, reply(200, "application/json", `{"protocol":"2"}`)).About(t.Context())
	assert.ErrorContains(t, err, `it speaks protocol "2"`)
	_, err = connector.New("http://127.0.0.1:1", "", time.Second).About(t.Context())
	assert.True(t, isDown(err), "nobody listens: %v", err)
}

// doubted is why it has to be read back what an act came to.
func doubted(t *testing.T, o release.Outcome) error {
	t.Helper()
	require.Equal(t, release.ActUnknown, o.State())
	return release.Take(o, func() error { return nil }, func(why error) error { return why }, func(why error) error { return why })
}

// Whatever keeps the site's own word from coming, nobody may take the write for done or
// not done.
func TestAWriteWithoutAProperAnswerIsUnknown(t *testing.T) {
	for name, h := range map[string]http.HandlerFunc{
		"it hangs up": func(http.ResponseWriter, *http.Request) { panic(http.ErrAbortHandler) },
		"half an answer": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "100")
			_, _ = w.Write([]byte("{"))
		},
		"a fault after the write": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusInternalServerError) },
		"too busy":                func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusTooManyRequests) },
		"another page":            func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<h1>Welcome</h1>")) },
		"no entity tag": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Type", "application/json")
			_, _ = w.Write([]byte(`{"values":{"a":true}}`))
		},
		"no answer in time": func(_ http.ResponseWriter, r *http.Request) {
			_, _ = io.Copy(io.Discard, r.Body)
			select {
			case <-r.Context().Done():
			case <-time.After(5 * time.Second):
			}
		},
	} {
		t.Run(name, func(t *testing.T) {
			o := odd(t, h).Apply(t.Context(), settings.Values{"a": true}, `"1"`)
			assert.Equal(t, release.ActUnknown, o.State())
		})
	}
	for _, status := range []int{http.StatusUnauthorized, http.StatusForbidden, http.StatusPreconditionFailed, http.StatusUnprocessableEntity} {
		o := odd(t, func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(status) }).Apply(t.Context(), settings.Values{"a": true}, `"1"`)
		assert.Equal(t, release.ActUnknown, o.State(), "%d: what passes requests on may have made it twice, and this is the second answer", status)
	}
}

// TestAFaultTellsWhenToAskAgain: Retry-After in seconds or as a date (RFC 9110, section 10.2.3).
func TestAFaultTellsWhenToAskAgain(t *testing.T) {
	for field, about := range map[string]time.Duration{"": 0, "7": 7 * time.Second, "soon": 0, "-1": 0, "99999999": 24 * time.Hour,
		time.Now().Add(time.Minute).UTC().Format(http.TimeFormat): time.Minute, "Sun, 06 Nov 1994 08:49:37 GMT": 0} {
		_, err := odd(t, func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Retry-After", field)
			w.WriteHeader(http.StatusTooManyRequests)
		}).Settings(t.Context())
		silent, is := errors.AsType[*speedlayer.Unreachable](err)
		require.True(t, is, "%q: %v", field, err)
		assert.InDelta(t, about.Seconds(), silent.Again.Seconds(), 2, "%q", field)
	}
}
