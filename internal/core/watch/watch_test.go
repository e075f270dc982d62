package watch_test

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/site"
	"tidemarker/internal/core/watch"
)

func reasons(l watch.Look) (out []watch.Reason) {
	for _, c := range l.For {
		out = append(out, c.Reason)
	}
	return out
}

func TestLooksComeWhenSomethingHasGrownOld(t *testing.T) {
	hour := 3600
	looks := watch.New(24*time.Hour, []exclusion.Moment{
		{Kind: exclusion.FormsAged, After: 2 * hour, Pages: []string{"/contact"}, Why: "Its form can be sent for two hours."},
		{Kind: exclusion.Expired, After: 6 * hour, Pages: []string{"/"}, Why: "The start page lives for six hours."},
		{Kind: exclusion.Expired, After: 20 * hour, Pages: []string{"/kits"}, Why: "Lists live for twenty."},
	}, []watch.Lives{{Seconds: 300, What: []string{"/"}}, {Seconds: 40 * hour, What: []string{"/site.css"}}})
	var at []int
	for _, l := range looks {
		at = append(at, l.After)
	}
	assert.Equal(t, []int{315, 600, hour, 2 * hour, 4 * hour, 6 * hour, 12 * hour, 20 * hour, 24 * hour}, at)
	assert.Equal(t, []watch.Reason{watch.Browsers}, reasons(looks[0]))
	assert.Equal(t, "Browsers keep / for 5 minutes without asking.", looks[0].For[0].Why)
	assert.Equal(t, []watch.Reason{watch.FormsAged}, reasons(looks[3]))
	assert.Equal(t, []watch.Reason{watch.FirstExpiry}, reasons(looks[5]))
	assert.Equal(t, []watch.Reason{watch.LastExpiry}, reasons(looks[7]))
	assert.Equal(t, []watch.Reason{watch.Final}, reasons(looks[8]))
	assert.False(t, looks[1].Aged(), "a routine look leaves what is cached as it is")
	assert.True(t, looks[3].Aged())
	assert.True(t, looks[8].Aged(), "the last look looks at all")
}

func TestOfWhatBrowsersKeepTheShortestAndTheLongestCount(t *testing.T) {
	kept := func(url, kind string, seconds int) httpcache.Stored {
		return httpcache.Stored{URL: url, Kind: kind, Status: 200, Fields: httpcache.Header{"cache-control": {fmt.Sprintf("max-age=%d", seconds)}}}
	}
	assert.Equal(t, []watch.Lives{{Seconds: 60, What: []string{"/"}}, {Seconds: 600, What: []string{"/a.css"}}, {Seconds: 86400, What: []string{"/c.js"}}},
		watch.LivesOf([]httpcache.Stored{kept("/", "document", 60), kept("/a.css", "stylesheet", 600), kept("/a.css", "stylesheet", 600), kept("/b.css", "stylesheet", 3600), kept("/c.js", "script", 86400)}))
	assert.Empty(t, watch.LivesOf(nil))
}

// RFC 9111 §4.2: a stored response may be served without asking for as long as it is fresh; §5.2.2.4: no-cache never.
func TestWhatABrowserTakesWithoutAsking(t *testing.T) {
	at := time.Date(2026, 11, 28, 12, 0, 0, 0, time.UTC)
	s := httpcache.Stored{URL: "/a.css", Status: 200, Fields: httpcache.Header{"cache-control": {"max-age=600"}, "age": {"100"}}, Received: at}
	assert.True(t, s.Serves(at.Add(499*time.Second)))
	assert.False(t, s.Serves(at.Add(501*time.Second)), "it was a hundred seconds old when it came")
	s.Fields["cache-control"] = []string{"max-age=600, no-cache"}
	assert.False(t, s.Serves(at))
	s.Fields["cache-control"] = nil
	assert.False(t, s.Serves(at), "a lifetime that browsers estimate does not count")
}

func TestLooksThatAreNearAreOne(t *testing.T) {
	looks := watch.New(time.Hour, []exclusion.Moment{{Kind: exclusion.Expired, After: 630, Pages: []string{"/"}, Why: "Ten minutes."}, {Kind: exclusion.Expired, After: 3590, Pages: []string{"/"}, Why: "An hour."}}, nil)
	require.Len(t, looks, 2)
	assert.Equal(t, 630, looks[0].After)
	assert.Equal(t, []watch.Reason{watch.FirstExpiry}, reasons(looks[0]), "with another reason it is no routine look")
	assert.Equal(t, []watch.Reason{watch.LastExpiry, watch.Final}, reasons(looks[1]))
	assert.Equal(t, 3600, looks[1].After)
}

// Whatever grows old when: looks are in order, none is missing for what ends within the period, and the last is at its end.
func TestPlansOfAnyTimes(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		period := time.Duration(rapid.IntRange(1, 744).Draw(r, "hours")) * time.Hour
		var moments []exclusion.Moment
		for _, after := range rapid.SliceOfN(rapid.IntRange(1, 4_000_000), 0, 40).Draw(r, "after") {
			kind := exclusion.Expired
			if after%3 == 0 {
				kind = exclusion.FormsAged
			}
			moments = append(moments, exclusion.Moment{Kind: kind, After: after, Pages: []string{"/"}, Why: "why"})
		}
		looks := watch.New(period, moments, []watch.Lives{{Seconds: rapid.IntRange(0, 4_000_000).Draw(r, "kept"), What: []string{"/a.css"}}})
		require.NotEmpty(r, looks)
		assert.LessOrEqual(r, len(looks), 24)
		end := int(period.Seconds())
		last := looks[len(looks)-1]
		assert.Equal(r, end, last.After)
		assert.Contains(r, reasons(last), watch.Final)
		for i, l := range looks {
			assert.NotEmpty(r, l.For)
			if i > 0 {
				assert.Greater(r, l.After, looks[i-1].After)
			}
		}
		for _, m := range moments { // one for each end of a lifetime, or soon after it, unless there were too many
			if m.After >= end || len(looks) == 24 {
				continue
			}
			assert.True(r, slices.ContainsFunc(looks, func(l watch.Look) bool { return l.After >= m.After && l.After-m.After <= 3*max(60, l.After/20) }), "nothing looks after %d s: %v", m.After, looks)
		}
	})
}

func finding(kind evidence.Kind, severity evidence.Severity) evidence.Finding {
	return evidence.Finding{Kind: kind, Severity: severity, Page: "/", Persona: site.Visitor, Device: site.Desktop, Title: "Something differs", Cause: "x", Part: "x"}
}

func TestAFindingIsTheChangesOnlyWhenStagingShowsIt(t *testing.T) {
	picture, script := finding(evidence.PictureKind, evidence.Unsure), finding(evidence.ScriptErrorKind, evidence.Broken)
	blame, why := watch.Hold(picture, []evidence.Finding{picture}, true, "")
	assert.Equal(t, watch.OfChange, blame)
	assert.Contains(t, why, "Staging shows it, too")
	blame, _ = watch.Hold(picture, nil, true, "")
	assert.Equal(t, watch.OfSite, blame, "what is published on production is news")
	blame, _ = watch.Hold(script, nil, true, "")
	assert.Equal(t, watch.Unknown, blame, "what does not work is for a person, whatever staging shows")
	blame, why = watch.Hold(picture, nil, false, "staging has other settings by now.")
	assert.Equal(t, watch.Unknown, blame)
	assert.Contains(t, why, "other settings")
}

func TestAWatchSettlesOnlyWhenAllWasClear(t *testing.T) {
	for _, c := range []struct {
		looks []watch.LookState
		over  bool
		want  watch.State
		why   string
	}{
		{[]watch.LookState{watch.Clear, watch.Planned}, true, watch.Watching, ""},
		{[]watch.LookState{watch.Clear, watch.Clear}, false, watch.Watching, ""},
		{[]watch.LookState{watch.Clear, watch.Under}, true, watch.Watching, ""},
		{[]watch.LookState{watch.Clear, watch.Joined, watch.Clear}, true, watch.Settled, "3 looks, all clear."},
		{[]watch.LookState{watch.Clear, watch.News}, true, watch.Settled, "2 looks, nothing that is the change’s; 1 saw news of the site."},
		{[]watch.LookState{watch.Clear, watch.Found}, true, watch.Waits, "1 look found something that may be the change’s."},
		{[]watch.LookState{watch.NotChecked, watch.Skipped, watch.Found}, true, watch.Waits, "1 look found something that may be the change’s; 2 looks could not be made."},
	} {
		state, why := watch.Conclude(c.looks, c.over)
		assert.Equal(t, c.want, state, "%v", c.looks)
		assert.Equal(t, c.why, why)
	}
}

func TestNothingIsClearThatCouldNotBeLookedAt(t *testing.T) {
	assert.Equal(t, watch.NotChecked, watch.Result(evidence.VerdictNotChecked, nil))
	assert.Equal(t, watch.NotChecked, watch.Result("", nil))
	assert.Equal(t, watch.Found, watch.Result(evidence.VerdictBroken, nil), "found, and nothing is known of it")
	assert.Equal(t, watch.Found, watch.Result(evidence.VerdictUnsure, []watch.Late{{Blame: watch.OfSite}, {Blame: watch.Unknown}}))
	assert.Equal(t, watch.News, watch.Result(evidence.VerdictUnsure, []watch.Late{{Blame: watch.OfSite}}))
	assert.Equal(t, watch.Clear, watch.Result(evidence.VerdictClear, nil))
}

func TestWhatAChangeGoesBackFor(t *testing.T) {
	class := func(page string) string { return map[string]string{"/cart": "cart"}[page] }
	held := func(page string, kind evidence.Kind, s evidence.Severity, b watch.Blame) []watch.Late {
		return []watch.Late{{Page: page, Kind: kind, Weight: s, Blame: b, Title: "T"}}
	}
	broken := held("/cart", evidence.JourneyKind, evidence.Broken, watch.OfChange)
	due := func(g site.GoBack, now, before []watch.Late) bool {
		_, is := watch.Due(g, now, before, class)
		return is
	}

	assert.False(t, due(site.GoBack{}, broken, nil), "off by default")
	on := site.GoBack{On: true}
	assert.True(t, due(on, broken, nil))
	assert.False(t, due(on, held("/cart", evidence.JourneyKind, evidence.Unsure, watch.OfChange), nil), "unsure is for a person")
	assert.False(t, due(on, held("/cart", evidence.JourneyKind, evidence.Broken, watch.Unknown), nil), "staging does not show it")
	on.Classes = []string{"cart"}
	assert.True(t, due(on, broken, nil))
	assert.False(t, due(on, held("/", evidence.JourneyKind, evidence.Broken, watch.OfChange), nil), "another class")
	on.Kinds = []string{string(evidence.ScriptErrorKind)}
	assert.False(t, due(on, broken, nil), "another kind")

	twice := site.GoBack{On: true, Proof: site.ByTwice}
	unknown := held("/cart", evidence.JourneyKind, evidence.Broken, watch.Unknown)
	assert.False(t, due(twice, unknown, nil))
	assert.True(t, due(twice, unknown, unknown))
	assert.False(t, due(twice, unknown, held("/cart", evidence.ScriptErrorKind, evidence.Broken, watch.Unknown)), "something else")
	assert.False(t, due(twice, held("/cart", evidence.JourneyKind, evidence.Broken, watch.OfSite), unknown), "news of the site")
}
