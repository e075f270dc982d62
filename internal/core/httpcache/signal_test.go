package httpcache

import (
	"net/http"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func fields(pairs ...string) func(string) []string {
	h := http.Header{}
	for i := 0; i < len(pairs); i += 2 {
		h.Add(pairs[i], pairs[i+1])
	}
	return h.Values
}

func TestEachSignalTellsHowAResponseWasServed(t *testing.T) {
	own := Signal{Kind: ByHeader, Header: "X-Page-Store", Hit: []string{"hit"}, Stale: []string{"stale"}, Miss: []string{"miss"}, Bypass: []string{"bypass"}}
	for name, tc := range map[string]struct {
		s    Signal
		get  func(string) []string
		want Served
		note string
	}{
		"Cache-Status, a hit":         {Signal{}, fields("Cache-Status", "c; hit"), Cached, "Cache-Status: c; hit"},
		"Cache-Status, past its life": {Signal{}, fields("Cache-Status", "c; hit; ttl=-3"), Stale, "Cache-Status: c; hit; ttl=-3"},
		"Cache-Status, bypassed":      {Signal{}, fields("Cache-Status", "c; fwd=bypass"), Bypass, "Cache-Status: c; fwd=bypass"},
		"Cache-Status is not there":   {Signal{}, fields("X-Page-Store", "HIT"), Unknown, "no Cache-Status"},
		"a field of its own, a hit":   {own, fields("X-Page-Store", "HIT from edge-3"), Cached, "X-Page-Store: HIT from edge-3"},
		"and a stale one":             {own, fields("X-Page-Store", "STALE-HIT"), Stale, "X-Page-Store: STALE-HIT"},
		"and a miss":                  {own, fields("X-Page-Store", "MISS"), Origin, "X-Page-Store: MISS"},
		"and one that was bypassed":   {own, fields("X-Page-Store", "Bypass"), Bypass, "X-Page-Store: Bypass"},
		"and a word nobody knows":     {own, fields("X-Page-Store", "warm"), Unknown, "X-Page-Store: warm"},
		"and none at all":             {own, fields(), Unknown, "no X-Page-Store"},
		"Age alone, there":            {Signal{Kind: ByAge}, fields("Age", "0"), Cached, "Age: 0"},
		"Age alone, not there":        {Signal{Kind: ByAge}, fields(), Origin, "no Age"},
		"nothing tells":               {Signal{Kind: ByNothing}, fields("Cache-Status", "c; hit"), Unknown, ""},
		"a marker that is no pattern": {Signal{Kind: ByMarker, Marker: "("}, fields(), Unknown, "no marker"},
		"a marker that is not in it":  {Signal{Kind: ByMarker, Marker: "<!-- (.*) -->"}, fields(), Unknown, "the page has no marker"},
	} {
		t.Run(name, func(t *testing.T) {
			f := NewReader(tc.s).Read("/", tc.get, []byte("<p>"))
			assert.Equal(t, tc.want, f.Served)
			assert.Equal(t, tc.note, f.Note)
		})
	}
	f := NewReader(Signal{Kind: ByAge}).Read("/", fields("Age", "30, 40"), nil)
	assert.Equal(t, Facts{Cached, "Age: 30, 40", 30 * time.Second, true}, f, "of a list the first member counts (RFC 9111 §5.1)")
	f = NewReader(Signal{}).Read("/", fields("Age", "soon"), nil)
	assert.False(t, f.HasAge)
}

func TestAMarkerTellsByHavingBeenSeen(t *testing.T) {
	r := NewReader(Signal{Kind: ByMarker, Marker: `<!-- rendered (\S+) -->`})
	ask := func(page, mark string) Served {
		return r.Read(page, fields(), []byte("<p>x</p><!-- rendered "+mark+" -->")).Served
	}
	assert.Equal(t, Unknown, ask("/ desktop", "1"), "of the first answer nobody can tell")
	assert.Equal(t, Cached, ask("/ desktop", "1"))
	assert.Equal(t, Origin, ask("/ desktop", "2"))
	assert.Equal(t, Cached, ask("/ desktop", "1"), "another variant may still be there")
	assert.Equal(t, Unknown, ask("/ phone", "1"), "another device has its own")
	r.Purged("/kits")
	assert.Equal(t, Origin, ask("/kits", "7"), "it was purged just now")
	r.Purged("")
	assert.Equal(t, Origin, ask("/never-seen", "9"), "everything was")
	assert.Equal(t, Cached, ask("/never-seen", "9"))
}

func TestASignalIsProposedFromWhatIsSeen(t *testing.T) {
	page := func(body string, pairs ...string) Sample {
		h := map[string][]string{}
		for i := 0; i < len(pairs); i += 2 {
			h[pairs[i]] = append(h[pairs[i]], pairs[i+1])
		}
		return Sample{h, []byte(body)}
	}
	s, why := Propose([]Sample{page(""), page("", "Cache-Status", "c; hit")})
	assert.Equal(t, ByCacheStatus, s.Kind, why)
	s, why = Propose([]Sample{page("", "X-Page-Cache", "MISS", "Cache-Control", "no-cache"), page("", "X-Page-Cache", "HIT")})
	assert.Equal(t, ByHeader, s.Kind, why)
	assert.Equal(t, "X-Page-Cache", s.Header)
	require.NoError(t, s.Check())
	assert.Equal(t, Stale, NewReader(s).Read("/", fields("X-Page-Cache", "UPDATING"), nil).Served)
	s, why = Propose([]Sample{page(""), page("", "Age", "4")})
	assert.Equal(t, ByAge, s.Kind, why)
	s, why = Propose([]Sample{page("<html><!-- Cached page rendered 2026-03-01 12:00:01 --></html>"), page("<html></html>")})
	require.Equal(t, ByMarker, s.Kind, why)
	require.NoError(t, s.Check())
	r := NewReader(s)
	at := func(second string) Served {
		return r.Read("/", fields(), []byte("<html><!-- Cached page rendered 2026-03-01 12:00:"+second+" --></html>")).Served
	}
	assert.Equal(t, []Served{Unknown, Cached, Origin}, []Served{at("01"), at("01"), at("09")})
	s, why = Propose([]Sample{page("<html></html>"), page("<html></html>")})
	assert.Equal(t, ByNothing, s.Kind)
	assert.True(t, strings.HasPrefix(why, "Nothing in its answers tells"))
}

func TestASignalThatCannotBeReadIsRefused(t *testing.T) {
	for _, s := range []Signal{{Kind: ByHeader}, {Kind: ByHeader, Header: "X"}, {Kind: ByMarker}, {Kind: ByMarker, Marker: "("}, {Kind: ByMarker, Marker: "x"}, {Kind: "smoke"}} {
		assert.Error(t, s.Check(), "%+v", s)
	}
	for _, s := range []Signal{{}, {Kind: ByAge}, {Kind: ByNothing}} {
		assert.NoError(t, s.Check())
	}
}
