package standin

import (
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/settings"
)

// What is cached grows old as the clock is pushed, and only who has the token pushes it.
func TestTheClockIsPushedByWhoeverHasTheToken(t *testing.T) {
	s, _ := start(t, settings.Values{"pages.lifetime": 3600})
	inst := s.inst
	require.Contains(t, s.get("/").header.Get("Cache-Status"), "stored")
	require.Contains(t, s.get("/").header.Get("Cache-Status"), "hit")
	push := func(token, ahead string) int {
		req, err := http.NewRequestWithContext(t.Context(), http.MethodPost, inst.URL+ClockPath, strings.NewReader(url.Values{"ahead": {ahead}}.Encode()))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
		req.Header.Set("Authorization", "Bearer "+token)
		res, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.StatusCode
	}
	assert.Equal(t, http.StatusUnauthorized, push("wrong", "90m"))
	for _, bad := range []string{"", "soon", "-1h", "20000h"} {
		assert.Equal(t, http.StatusUnprocessableEntity, push(inst.Token, bad), bad)
	}
	assert.Contains(t, s.get("/").header.Get("Cache-Status"), "hit", "nobody pushed it")
	require.Equal(t, http.StatusNoContent, push(inst.Token, (2*time.Hour).String()))
	assert.Contains(t, s.get("/").header.Get("Cache-Status"), "fwd=stale")
}
