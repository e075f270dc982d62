package api_test

import (
	"compress/gzip"
	"fmt"
	"io"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// TestTriesAreLimitedByAddressWhateverTheNames: who tries one name after the other is refused, too, and others in the same
// house are let in again after a while.
func TestTriesAreLimitedByAddressWhateverTheNames(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Observer)
	guest := r.visitor("")
	refused := 0
	for n := range 40 {
		status, text := guest.ask(http.MethodPost, "/invitations/look", map[string]string{"secret": fmt.Sprintf("guess %d", n)}, nil)
		if status == http.StatusTooManyRequests {
			assert.Contains(t, text, "Too many tries came from your address")
			refused++
		}
	}
	assert.GreaterOrEqual(t, refused, 5)
	status, text := guest.signIn("Guest", password)
	require.Equal(t, http.StatusTooManyRequests, status, text)
	status, text = r.visitor(r.token).ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusOK, status, "who gives no secret is not limited: "+text)
}

// TestNobodyIsLockedOutOfTheBrowserTheyUse: who knows only a name can keep it from being used in other browsers for a while,
// and not in that of the person.
func TestNobodyIsLockedOutOfTheBrowserTheyUse(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Observer)
	theirs, elsewhere := r.visitor(""), r.visitor("")
	status, text := theirs.signIn("Guest", password)
	require.Equal(t, http.StatusOK, status, text)
	for range people.DefaultLockOut.Tries {
		status, text = elsewhere.signIn("Guest", "a guess at it")
		require.Equal(t, http.StatusUnauthorized, status, text)
	}
	status, text = elsewhere.signIn("Guest", password)
	require.Equal(t, http.StatusTooManyRequests, status, text)
	assert.Contains(t, text, "in a browser in which you have signed in before")
	status, text = theirs.signIn("guest", password)
	require.Equal(t, http.StatusOK, status, text)

	// Whoever sits at that browser has no more tries than others, and its cookie is worth nothing under another name.
	addPerson(t, r.store, "Other", people.Observer)
	for range people.DefaultLockOut.Tries {
		status, text = theirs.signIn("Guest", "a guess at it")
		require.Equal(t, http.StatusUnauthorized, status, text)
	}
	status, text = theirs.signIn("Guest", password)
	require.Equal(t, http.StatusTooManyRequests, status, text)
	for range people.DefaultLockOut.Tries {
		_, _ = elsewhere.signIn("Other", "a guess at it")
	}
	status, text = theirs.signIn("Other", password)
	require.Equal(t, http.StatusTooManyRequests, status, text)
}

func TestWhatIsTextIsSentCompressed(t *testing.T) {
	d := newRecord(t)
	ask := func(path, accepts string) *http.Response {
		t.Helper()
		req, err := newRequest(t, http.MethodGet, d.url+path, "")
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+d.token)
		req.Header.Set("Accept-Encoding", accepts)
		res, err := (&http.Transport{DisableCompression: true}).RoundTrip(req)
		require.NoError(t, err)
		t.Cleanup(func() { _ = res.Body.Close() })
		return res
	}
	for _, path := range []string{"/api/v1/sites", "/api/openapi.json"} {
		plain := ask(path, "identity")
		assert.Empty(t, plain.Header.Get("Content-Encoding"), path)
		want, err := io.ReadAll(plain.Body)
		require.NoError(t, err)
		packed := ask(path, "gzip")
		require.Equal(t, "gzip", packed.Header.Get("Content-Encoding"), path)
		z, err := gzip.NewReader(packed.Body)
		require.NoError(t, err)
		got, err := io.ReadAll(z)
		require.NoError(t, err)
		assert.Equal(t, string(want), string(got), path)
	}
}
