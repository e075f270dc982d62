package api_test

import (
	"bufio"
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

// listen streams what changes; the lines end with the stream.
func (r *record) listen(token string) (lines chan string) {
	r.Helper()
	req, err := http.NewRequestWithContext(r.Context(), http.MethodGet, r.url+"/api/v1/events", nil)
	require.NoError(r, err)
	req.Header.Set("Authorization", "Bearer "+token)
	return r.stream(http.DefaultClient, req)
}

func (r *record) stream(client *http.Client, req *http.Request) (lines chan string) {
	r.Helper()
	res, err := client.Do(req)
	require.NoError(r, err)
	r.Cleanup(func() { _ = res.Body.Close() })
	assert.Equal(r, "text/event-stream", res.Header.Get("Content-Type"))
	lines = make(chan string, 100)
	go func() {
		defer close(lines)
		for s := bufio.NewScanner(res.Body); s.Scan(); {
			lines <- s.Text()
		}
	}()
	return lines
}

// TestWhoIsDisabledIsToldNothingMore: a stream that is open does not outlive its token.
func TestWhoIsDisabledIsToldNothingMore(t *testing.T) {
	r := newRecord(t)
	person := addPerson(t, r.store, "Guest", people.Observer)
	lines := r.listen(tokenOf(t, r.store, person, people.Observer))
	require.Equal(t, "retry: 2000", <-lines)
	require.NoError(t, r.store.SavePerson(t.Context(), person, people.Observer, true))
	r.ends(lines)
}

// TestWhoSignedOutIsToldNothingMore: a stream that is open does not outlive its session.
func TestWhoSignedOutIsToldNothingMore(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Observer)
	guest := r.visitor("")
	status, text := guest.signIn("Guest", password)
	require.Equal(t, http.StatusOK, status, text)
	req, err := http.NewRequestWithContext(t.Context(), http.MethodGet, r.url+"/api/v1/events", nil)
	require.NoError(t, err)
	lines := r.stream(&guest.http, req)
	require.Equal(t, "retry: 2000", <-lines)
	status, text = guest.ask(http.MethodDelete, "/session", nil, nil)
	require.Less(t, status, 300, text)
	r.ends(lines)
}

// ends tells of changes until a stream has ended.
func (r *record) ends(lines chan string) {
	r.Helper()
	told := time.NewTicker(20 * time.Millisecond)
	defer told.Stop()
	for end := time.After(patience); ; {
		select {
		case l, open := <-lines:
			if !open {
				return
			}
			require.Empty(r, l)
		case <-told.C:
			require.NoError(r, r.store.Tell(r.Context(), store.Signal{Site: 1}))
		case <-end:
			require.FailNow(r, "the stream is still open")
		}
	}
}

func TestChangesAreToldAsTheyHappen(t *testing.T) {
	r := newRecord(t)
	lines := r.listen(r.token)
	require.Eventually(t, func() bool {
		_ = r.store.Tell(t.Context(), store.Signal{Site: 1, Run: 7})
		for {
			select {
			case l := <-lines:
				if strings.HasPrefix(l, "data:") {
					return assert.JSONEq(t, `{"site":1,"run":7}`, strings.TrimPrefix(l, "data: "))
				}
			case <-time.After(100 * time.Millisecond):
				return false
			}
		}
	}, patience, 10*time.Millisecond)
}
