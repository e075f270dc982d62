package run_test

import (
	"fmt"
	"io"
	"net/http"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/measure"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
)

// taken are the loads that were measured. All are, but one at most during which the browser did not get on for half a minute,
// as happens to all of a small machine now and then.
func taken(t *testing.T, loads []measure.Load) []measure.Load {
	t.Helper()
	var out []measure.Load
	for _, l := range loads {
		if l.Dropped == "" {
			out = append(out, l)
		} else {
			assert.Contains(t, l.Dropped, "did not finish loading within", "%s as %s", l.Name(), l.Persona)
		}
	}
	assert.GreaterOrEqual(t, len(out), len(loads)-1)
	return out
}

// TestAMeasurementThatWasCutOffGoesOn kills the process that measures: another goes on with the round it was in, no load is
// counted twice, staging has the change. Somebody who keeps a basket and a journey are measured, too. It was not sure, so
// that it can be gone on with, once; what it measured is part of that.
func TestAMeasurementThatWasCutOffGoesOn(t *testing.T) {
	doc := tiny()
	doc.Personas = []site.Persona{{Name: "basket carrier", Kind: "customer", Prepare: []journey.Step{{Go: "/kits/pearl-oyster-box"}, {Click: &journey.Target{Role: "button", Name: "Add to basket"}}}}}
	doc.Pages[0].Personas = append(doc.Pages[0].Personas, "basket carrier")
	doc.Journeys = []journey.Journey{{Name: "to the kits", Persona: site.Visitor, Devices: []string{site.Desktop}, Steps: []journey.Step{{Go: "/contact"}, {Click: &journey.Target{CSS: "header a"}}, {Expect: &journey.Expect{Visible: &journey.Target{CSS: "h1"}}}}}}
	b := newBench(t, doc)
	b.mark(0)
	id, err := b.changes.Begin(t.Context(), b.site.ID, changes.Words{Title: "Compact"}, settings.Values{"markup.compact": true}, "marin")
	require.NoError(t, err)
	require.NoError(t, b.changes.Try(t.Context(), id, "marin"))
	runs, err := b.store.ChangeRuns(t.Context(), id)
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), runs[0].ID))
	with, _ := b.staging.Layer.Settings()

	for _, wrong := range []measure.Scope{{Pages: []string{"/nowhere"}}, {Personas: []string{"nobody"}}, {Journeys: []string{"none"}}, {Devices: []string{site.Phone}}} {
		_, err = b.changes.Measure(t.Context(), id, wrong, "marin")
		require.ErrorAs(t, err, new(*changes.Conflict), "%+v", wrong)
	}
	of, err := b.changes.Measure(t.Context(), id, measure.Scope{Personas: []string{site.Visitor, "basket carrier"}, Journeys: []string{"to the kits"}, Rounds: 3}, "marin")
	require.NoError(t, err)
	b.killAt(of, "measuring", 7*time.Second)
	before, err := b.store.Loads(t.Context(), of)
	require.NoError(t, err)
	r := b.takeUp(of)
	require.Equal(t, release.Done, r.State, r.Problem)
	now, _ := b.staging.Layer.Settings()
	assert.Equal(t, with, now, "staging has the change")
	loads, err := b.store.Loads(t.Context(), of)
	require.NoError(t, err)
	seen, once := map[string]int{}, map[string]bool{}
	busy := measure.Busy(loads)
	for _, l := range loads {
		one := fmt.Sprint(l.Round, l.Side, l.Name(), l.Persona)
		assert.False(t, once[one], "%s is there twice", one)
		once[one] = true
		if !slices.Contains(busy, l.Round) {
			seen[l.Name()+string(l.Side)+l.Persona]++
		}
	}
	for _, l := range taken(t, loads) {
		if l.Journey != "" {
			assert.GreaterOrEqual(t, l.Values[measure.Interaction], 16.0)
		}
	}
	assert.Len(t, seen, 6)
	for what, n := range seen {
		assert.GreaterOrEqual(t, n, 3, "rounds that count: %s", what) // more when a round that was made up for is not a busy one after all
	}
	t.Logf("%d loads were there when it was killed", len(before))

	more, err := b.changes.MeasureMore(t.Context(), of, "marin")
	require.NoError(t, err)
	again, err := b.store.Loads(t.Context(), more)
	require.NoError(t, err)
	assert.Equal(t, loads, again, "it goes on from all of it")
	_, err = b.store.MoveRun(t.Context(), more, release.RunStopped)
	require.NoError(t, err)
	_, err = b.changes.MeasureMore(t.Context(), more, "marin")
	require.ErrorAs(t, err, new(*changes.Conflict), "it was gone on with already")
}

// TestASiteThatIsAwayWhileItIsMeasuredHasTheChangeAfterwards takes the connector away in the middle of the second round: the
// measurement waits, unknown, and once the site answers goes on with that round; staging has the change at its end.
func TestASiteThatIsAwayWhileItIsMeasuredHasTheChangeAfterwards(t *testing.T) {
	b := newBench(t, tiny())
	tr := b.trouble(0)
	b.mark(0)
	c := b.promotable(settings.Values{"markup.compact": true})
	with, _ := b.staging.Layer.Settings()
	writes := 0
	tr.answer(func(w http.ResponseWriter, applied func() *http.Response) {
		if writes++; writes == 3 {
			tr.leave(true)
			hangUp()
		}
		res := applied()
		defer res.Body.Close()
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("ETag", res.Header.Get("ETag"))
		_, _ = io.Copy(w, res.Body)
	})
	of, err := b.changes.Measure(t.Context(), c.ID, measure.Scope{Rounds: 3}, "marin")
	require.NoError(t, err)
	require.NoError(t, b.runner.Run(t.Context(), of))
	r := b.run(of)
	assert.Equal(t, release.Unsettled, r.State, "nobody knows what staging has")
	tr.answer(nil)
	b.back(tr)
	r = b.takeUp(of)
	assert.Equal(t, release.Done, r.State, r.Problem)
	assert.NotEqual(t, evidence.VerdictNotChecked, r.Verdict, "it went on with the round it was in")
	now, _ := b.staging.Layer.Settings()
	assert.Equal(t, with, now, "staging has the change")
	loads, err := b.store.Loads(t.Context(), of)
	require.NoError(t, err)
	seen := map[string]int{}
	for _, l := range loads {
		seen[fmt.Sprint(l.Round, l.Side, l.Name(), l.Case)]++
	}
	for what, n := range seen {
		assert.Equal(t, 1, n, what)
	}
	assert.GreaterOrEqual(t, len(seen), 2*3, "both sides of three rounds, and of those that make up for busy ones")
	assert.Zero(t, len(seen)%2)
}
