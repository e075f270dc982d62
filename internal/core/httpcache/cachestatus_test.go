package httpcache

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// RFC 9211 §2 and §3 (examples), written out as they stand there (from memory).
func TestCacheStatusReadsAsInRFC9211(t *testing.T) {
	for value, want := range map[string]Served{
		`ExampleCache; hit`:                                            Cached,
		`ExampleCache; fwd=uri-miss; collapsed`:                        Origin,
		`ExampleCache; fwd=stale; fwd-status=304`:                      Origin,
		`ExampleCache; fwd=bypass`:                                     Bypass,
		`ExampleCache; hit; ttl=376`:                                   Cached,
		`OriginCache; hit; ttl=1100, "CDN Company Here"; hit; ttl=545`: Cached,
		`ReverseProxyCache; hit; ttl=-412; detail=STALE-HIT`:           Stale,
		`OriginCache; fwd=uri-miss; stored, EdgeCache; hit`:            Cached,
		`not a ; valid ((`:                                             Unknown,
	} {
		assert.Equal(t, want, From([]string{value}), value)
	}
	assert.Equal(t, Unknown, From(nil))
	got, err := ParseCacheStatus([]string{`OriginCache; hit; ttl=1100; key="/a", "CDN Company Here"; fwd=stale; stored; detail="memory"`})
	require.NoError(t, err)
	assert.Equal(t, []Handled{
		{Cache: "OriginCache", Hit: true, TTL: 1100 * time.Second, Key: "/a"},
		{Cache: "CDN Company Here", Fwd: "stale", Stored: true, Detail: "memory"},
	}, got)
	_, err = ParseCacheStatus([]string{"(a b)"})
	assert.ErrorContains(t, err, "inner list")
}
