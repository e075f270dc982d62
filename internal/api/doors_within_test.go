package api

import (
	"context"
	"fmt"
	"net/http/httptest"
	"net/url"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// Many who sign in at once take turns, so that their number does not decide how much memory is taken.
func TestFewPasswordsAreHashedAtOnce(t *testing.T) {
	var now, most atomic.Int64
	gone := make(chan struct{})
	var all sync.WaitGroup
	for range 20 {
		all.Go(func() {
			_, err := hashed(t.Context(), func() (int, error) {
				if n := now.Add(1); n > most.Load() {
					most.Store(n)
				}
				<-gone
				now.Add(-1)
				return 0, nil
			})
			assert.NoError(t, err)
		})
	}
	require.Eventually(t, func() bool { return now.Load() == hashesAtOnce }, 10*time.Second, time.Millisecond)
	hurry, cancel := context.WithCancel(t.Context())
	cancel()
	_, err := hashed(hurry, func() (int, error) { return 0, nil })
	require.ErrorContains(t, err, "Too many people sign in")
	close(gone)
	all.Wait()
	assert.EqualValues(t, hashesAtOnce, most.Load())
}

func TestAddressesAreForgottenWhenThereAreTooMany(t *testing.T) {
	var a addresses
	now := time.Now()
	for range triesAtOnce {
		require.True(t, a.allow("busy", now))
	}
	require.False(t, a.allow("busy", now))
	require.True(t, a.allow("busy", now.Add(triesEach)), "after a while")
	for n := range 2 * mostAddresses {
		a.allow(fmt.Sprint(n), now.Add(time.Duration(n)*time.Millisecond))
	}
	assert.LessOrEqual(t, len(a.of), mostAddresses)
}

func TestWhereARequestComesFrom(t *testing.T) {
	public := &url.URL{Scheme: "https", Host: "tide.example.org"}
	for _, c := range []struct {
		public             *url.URL
		line, proxy, comes string
	}{
		{nil, "192.0.2.7:1234", "203.0.113.9", "192.0.2.7"},
		{public, "10.0.0.2:1234", "203.0.113.9", "203.0.113.9"},
		{public, "10.0.0.2:1234", "198.51.100.1, 203.0.113.9", "203.0.113.9"},
		{public, "10.0.0.2:1234", "", "10.0.0.2"},
		{nil, "[2001:db8:1:2:3:4:5:6]:99", "", "2001:db8:1:2::/64"},
		{nil, "[::ffff:192.0.2.7]:99", "", "192.0.2.7"},
		{nil, "somewhere", "", "somewhere"},
	} {
		r := httptest.NewRequestWithContext(t.Context(), "GET", "/", nil)
		r.RemoteAddr = c.line
		if c.proxy != "" {
			r.Header.Set("X-Forwarded-For", c.proxy)
		}
		assert.Equal(t, c.comes, (&Server{Public: c.public}).addressOf(r), "%s %s", c.line, c.proxy)
	}
}

func TestAfterSigningInNobodyIsLedElsewhere(t *testing.T) {
	for then, to := range map[string]string{"/sites/1?tab=a#b": "/sites/1?tab=a#b", "": "/", "https://elsewhere.example/": "/", "//elsewhere.example/": "/", `/\elsewhere.example/`: "/", "sites": "/", "javascript:alert(1)": "/", "/%zz": "/"} {
		assert.Equal(t, to, ownPath(then), then)
	}
}
