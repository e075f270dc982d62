package connector_test

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/connector"
	"tidemarker/internal/core/settings"
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

	next, err := c.Apply(ctx, now.Values.With(settings.Values{"markup.compact": true}), now.ETag)
	require.NoError(t, err)
	assert.NotEqual(t, now.ETag, next.ETag)
	status, err = c.Status(ctx)
	require.NoError(t, err)
	assert.Equal(t, 4, status.Entries, "a change of settings alone drops nothing")
	n, err := c.Purge(ctx, []string{inst.URL + "/kits"})
	require.NoError(t, err)
	assert.Equal(t, 2, n, "an address stands for all its copies")
	n, err = c.PurgeAll(ctx)
	require.NoError(t, err)
	assert.Equal(t, 2, n)
}

func TestWhatSomebodyElseChangedIsNotOverwritten(t *testing.T) {
	_, c := fernhollow(t)
	mine, err := c.Settings(t.Context())
	require.NoError(t, err)
	theirs, err := c.Apply(t.Context(), mine.Values.With(settings.Values{"pages.lifetime": 60}), mine.ETag)
	require.NoError(t, err)
	_, err = c.Apply(t.Context(), mine.Values.With(settings.Values{"scripts.defer": true}), mine.ETag)
	_, ok := errors.AsType[*connector.ChangedElsewhere](err)
	require.True(t, ok, "%v", err)
	now, err := c.Settings(t.Context())
	require.NoError(t, err)
	assert.Equal(t, theirs, now)
}

func TestEachRefusedKeyComesWithItsReason(t *testing.T) {
	_, c := fernhollow(t)
	now, err := c.Settings(t.Context())
	require.NoError(t, err)
	_, err = c.Apply(t.Context(), now.Values.With(settings.Values{"pages.lifetime": 0, "scripts.defer": "yes"}), now.ETag)
	refused, ok := errors.AsType[*connector.Refused](err)
	require.True(t, ok, "%v", err)
	require.Len(t, refused.Keys, 2)
	assert.Equal(t, "pages.lifetime", refused.Keys[0].Key)
	assert.Contains(t, err.Error(), "at least 1 seconds")
}

func TestAWrongTokenSaysWhereToLookAndDoesNotTellTheToken(t *testing.T) {
	inst, _ := fernhollow(t)
	_, err := connector.New(inst.ConnectorURL(), "wrong-secret", time.Minute).Settings(t.Context())
	_, ok := errors.AsType[*connector.Unauthorised](err)
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
	isOdd := func(err error) bool { _, ok := errors.AsType[*connector.NotAConnector](err); return ok }
	isDown := func(err error) bool { _, ok := errors.AsType[*connector.Unreachable](err); return ok }
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

// lossy is a site that loses the connection after a write, which it may have applied.
func lossy(t *testing.T, applies bool, alsoLater func(settings.Values) settings.Values, readable bool) *connector.Client {
	t.Helper()
	values := settings.Values{"a": false}
	etag := `"1"`
	var lost atomic.Bool
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Method == http.MethodPut {
			if applies {
				var in struct{ Values settings.Values }
				_ = json.NewDecoder(r.Body).Decode(&in)
				values, etag = in.Values, `"2"`
			}
			if alsoLater != nil {
				values, etag = alsoLater(values), `"3"`
			}
			lost.Store(true)
			panic(http.ErrAbortHandler)
		}
		if lost.Load() && !readable {
			panic(http.ErrAbortHandler)
		}
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("ETag", etag)
		_ = json.NewEncoder(w).Encode(map[string]any{"values": values})
	}))
	t.Cleanup(s.Close)
	return connector.New(s.URL, secret, 5*time.Second)
}

func TestAConnectionLostAfterAWriteIsReadBackAndDecided(t *testing.T) {
	want := settings.Values{"a": true}
	ctx := context.Background()
	got, err := lossy(t, true, nil, true).Apply(ctx, want, `"1"`)
	require.NoError(t, err, "it was applied")
	assert.Equal(t, `"2"`, got.ETag)

	_, err = lossy(t, false, nil, true).Apply(ctx, want, `"1"`)
	_, down := errors.AsType[*connector.Unreachable](err)
	assert.True(t, down, "it was not applied and may be tried again: %v", err)

	_, err = lossy(t, true, func(v settings.Values) settings.Values { return settings.Values{"a": "theirs"} }, true).Apply(ctx, want, `"1"`)
	_, elsewhere := errors.AsType[*connector.ChangedElsewhere](err)
	assert.True(t, elsewhere, "%v", err)

	_, err = lossy(t, true, nil, false).Apply(ctx, want, `"1"`)
	_, uncertain := errors.AsType[*connector.Uncertain](err)
	assert.True(t, uncertain, "%v", err)
}
