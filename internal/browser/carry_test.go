package browser

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"net/http"
	"net/http/httptest"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
)

// What somebody's browser keeps is given to another browser later, for as long as it may be taken without asking.
func TestABrowserComesAgainWithWhatItKept(t *testing.T) {
	var edition atomic.Int64
	var asked atomic.Int64
	edition.Store(1)
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		n := edition.Load()
		switch r.URL.Path {
		case "/":
			w.Header().Set("Content-Type", "text/html")
			_, _ = fmt.Fprintf(w, `<!doctype html><title>Shop</title><link rel="stylesheet" href="/site.css"><p class="note">Edition %d</p><script src="/once.js"></script>`, n)
		case "/site.css":
			asked.Add(1)
			w.Header().Set("Content-Type", "text/css")
			w.Header().Set("Cache-Control", "max-age=3600")
			w.Header().Set("Set-Cookie", "secret=1")
			_, _ = fmt.Fprintf(w, ".note::after { content: \"styled by edition %d\" }", n)
		case "/once.js":
			w.Header().Set("Content-Type", "text/javascript")
			w.Header().Set("Cache-Control", "no-store")
			_, _ = fmt.Fprintf(w, "document.title = 'run %d'", n)
		default:
			http.NotFound(w, r)
		}
	}))
	t.Cleanup(server.Close)
	env := site.Environment{Name: "production", URL: server.URL}
	task := site.PageTask{Page: site.Page{Path: "/", Class: "home"}, Persona: site.Visitor, Device: site.Desktop}
	bodies := map[string][]byte{}
	keep := func(_ context.Context, _ string, raw []byte) (string, error) {
		sum := sha256.Sum256(raw)
		sha := hex.EncodeToString(sum[:])
		bodies[sha] = append([]byte(nil), raw...)
		return sha, nil
	}
	b, err := Start(Options{})
	require.NoError(t, err)
	t.Cleanup(b.Close)
	first, err := b.Visitor(env, site.Desktop)
	require.NoError(t, err)
	kept, err := first.Keep(t.Context(), task, keep)
	first.Close()
	require.NoError(t, err)
	require.Len(t, kept, 1, "the script is not to be stored, and the page says nothing: %v", kept)
	assert.Equal(t, server.URL+"/site.css", kept[0].URL)
	assert.Equal(t, 3600, kept[0].Lifetime())
	assert.Equal(t, site.Desktop, kept[0].Device)
	assert.NotContains(t, kept[0].Fields, "set-cookie")
	assert.Contains(t, string(bodies[kept[0].Body]), "edition 1")

	edition.Store(2)
	get := func(_ context.Context, sha string) ([]byte, error) {
		if raw, is := bodies[sha]; is {
			return raw, nil
		}
		return nil, fmt.Errorf("%s is gone", sha)
	}
	again := func(at time.Time) (evidence.PageLook, int) {
		v, err := b.Visitor(env, site.Desktop)
		require.NoError(t, err)
		t.Cleanup(v.Close)
		n := v.Carry(t.Context(), kept, at, get)
		before := asked.Load()
		l, err := v.Look(t.Context(), task, State{}, httpcache.NewReader(httpcache.Signal{}), keep)
		require.NoError(t, err)
		require.Empty(t, l.Missing)
		assert.Equal(t, n == 0, asked.Load() > before, "what is kept is not asked for")
		return l, n
	}
	l, n := again(time.Now().Add(30 * time.Minute))
	assert.Equal(t, 1, n)
	assert.Contains(t, fmt.Sprint(l.Lines), "Edition 2", "the page is asked for anew")
	for _, r := range l.Requests {
		assert.Equal(t, r.URL == server.URL+"/site.css", r.Kept, r.URL)
	}
	_, n = again(time.Now().Add(61 * time.Minute))
	assert.Equal(t, 0, n, "its lifetime is over")
	bodies = map[string][]byte{}
	_, n = again(time.Now())
	assert.Equal(t, 0, n, "its body is gone")
}
