package onboard

import (
	"net/http"
	"net/http/httptest"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/site"
)

func TestOnlyTheSitesOwnHostsAreFetched(t *testing.T) {
	var asked atomic.Int64
	elsewhere := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { asked.Add(1) }))
	t.Cleanup(elsewhere.Close)
	mux := http.NewServeMux()
	mux.HandleFunc("/", func(w http.ResponseWriter, r *http.Request) { _, _ = w.Write([]byte("here " + r.URL.Path)) })
	mux.Handle("/away", http.RedirectHandler(elsewhere.URL+"/other", http.StatusFound))
	mux.Handle("/moved", http.RedirectHandler("/there", http.StatusMovedPermanently))
	mux.HandleFunc("/round", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/round", http.StatusFound) })
	own := httptest.NewServer(mux)
	t.Cleanup(own.Close)
	f := newFetcher(site.Environment{Name: "staging", URL: own.URL})

	res, body, err := f.get(t.Context(), own.URL+"/moved")
	require.NoError(t, err)
	assert.Equal(t, "here /there", string(body), "its own redirects are followed")
	assert.Equal(t, http.StatusOK, res.StatusCode)
	res, _, err = f.get(t.Context(), own.URL+"/away")
	require.NoError(t, err)
	assert.Equal(t, http.StatusFound, res.StatusCode, "one that leads elsewhere is an answer like any other")
	res, _, err = f.get(t.Context(), own.URL+"/round")
	require.NoError(t, err)
	assert.Equal(t, http.StatusFound, res.StatusCode, "one that leads in a circle ends")
	for _, address := range []string{elsewhere.URL, "http://169.254.169.254/latest", "file:///etc/passwd", "ht tp://x", ""} {
		_, _, err = f.get(t.Context(), address)
		require.ErrorContains(t, err, "not on one of the site's hosts", address)
	}
	assert.Zero(t, asked.Load(), "nobody else was asked")
}

func TestWhyASiteDoesNotAnswerIsSaidInPlainWords(t *testing.T) {
	gone := httptest.NewServer(http.NotFoundHandler())
	gone.Close()
	_, _, err := newFetcher(site.Environment{URL: gone.URL}).get(t.Context(), gone.URL+"/")
	require.ErrorContains(t, err, gone.URL+"/ does not answer: connection refused")
	assert.NotContains(t, err.Error(), "dial tcp", "that is for programmers")
}

func TestAnAnswerWithoutAnEndIsCutOff(t *testing.T) {
	endless := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		chunk := []byte(strings.Repeat("x", 1<<20))
		for range 80 {
			if _, err := w.Write(chunk); err != nil {
				return
			}
		}
	}))
	t.Cleanup(endless.Close)
	_, body, err := newFetcher(site.Environment{URL: endless.URL}).get(t.Context(), endless.URL+"/")
	require.NoError(t, err)
	assert.Len(t, body, mostFetched+1, "one octet more than is taken, so that whoever reads it can tell")
}
