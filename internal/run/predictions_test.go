package run_test

import (
	"cmp"
	"maps"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/standin"
	"tidemarker/internal/standin/sedge"
)

// tally is how predictions did for settings of one role.
type tally struct{ right, wrong, broken, predicted int }

// TestFaultsArePredicted says of each change of the corpus what its mark predicts, without trying
// it, and holds that against what the corpus says the change does.
func TestFaultsArePredicted(t *testing.T) {
	broken, harmless := readCorpus(t)
	strangers := func(doc *site.Site) { // enough to read pages off, each with one device
		doc.Journeys, doc.Publishing = nil, nil
		for i := range doc.Pages {
			doc.Pages[i].Personas, doc.Pages[i].Devices = []string{site.Visitor}, doc.Pages[i].Devices[:1]
		}
	}
	grounds := map[string]*liveBench{"fernhollow": liveSite(t, standin.Fernhollow(), "../../demo/fernhollow.yaml", strangers), "quillet": liveSite(t, standin.Quillet(), "../../demo/quillet.yaml", strangers)}
	if sedge.Installed() {
		grounds["sedge"] = liveSite(t, standin.Sedge(), "testdata/sedge.yaml")
	}
	roles := map[settings.Role]*tally{}
	of := func(r settings.Role) *tally {
		if roles[r] == nil {
			roles[r] = &tally{}
		}
		return roles[r]
	}
	var wrong, missed []string
	for i, c := range slices.Concat(broken, harmless) {
		g := grounds[c.Site]
		if g == nil {
			continue
		}
		cat, seen := g.predict(c.Edits)
		role := func(key string) settings.Role { d, _ := cat.Find(key); return d.Role }
		isBroken := i < len(broken)
		predicted := map[string]bool{}
		for _, p := range seen {
			if p.Kind == prediction.Contradict {
				continue // a run says it by the same reasoning
			}
			if !predicted[p.Key] && isBroken && slices.Contains(c.Culprit, p.Key) {
				of(role(p.Key)).right++
			} else if !predicted[p.Key] {
				of(role(p.Key)).wrong++
				wrong = append(wrong, c.Site+": "+c.Name+": "+p.Title)
			}
			predicted[p.Key] = true
		}
		for _, key := range c.Culprit {
			if !isBroken {
				break
			}
			x := of(role(key))
			x.broken++
			if predicted[key] {
				x.predicted++
			} else if byScriptsOrStyles(role(key)) {
				missed = append(missed, c.Site+": "+c.Name)
			}
		}
	}
	var sum tally
	t.Logf("%-24s %6s %6s %8s %9s", "role", "right", "wrong", "broken", "predicted")
	for _, r := range slices.SortedFunc(maps.Keys(roles), cmp.Compare[settings.Role]) {
		x := roles[r]
		t.Logf("%-24s %6d %6d %8d %9d", r, x.right, x.wrong, x.broken, x.predicted)
		if byScriptsOrStyles(r) {
			sum = tally{sum.right + x.right, sum.wrong + x.wrong, sum.broken + x.broken, sum.predicted + x.predicted}
		}
	}
	t.Logf("scripts and styles: precision %d of %d, recall %d of %d", sum.right, sum.right+sum.wrong, sum.predicted, sum.broken)
	assert.GreaterOrEqual(t, sum.right*100, (sum.right+sum.wrong)*90, strings.Join(wrong, "\n"))
	assert.GreaterOrEqual(t, sum.predicted*100, sum.broken*60, strings.Join(missed, "\n"))
	require.Positive(t, sum.right)
}

// byScriptsOrStyles tells whether settings of a role rewrite scripts or styles.
func byScriptsOrStyles(r settings.Role) bool {
	return strings.HasPrefix(string(r), "js-") || strings.HasPrefix(string(r), "css-")
}

// predict says what edits will do to the site, by its mark.
func (g *liveBench) predict(edits settings.Values) (settings.Catalogue, []prediction.Prediction) {
	g.Helper()
	env, err := g.store.Environment(g.Context(), g.envs[0].ID)
	require.NoError(g, err)
	m, err := g.store.LatestMark(g.Context(), env.ID)
	require.NoError(g, err)
	base, err := g.store.Baseline(g.Context(), m)
	require.NoError(g, err)
	before, err := g.store.Revision(g.Context(), env.SiteID, m.Fingerprint)
	require.NoError(g, err)
	seen, err := inspect.Predict(g.Context(), g.store, g.store, env, base.Look, *env.Catalogue.V, before, before.With(edits))
	require.NoError(g, err)
	require.Positive(g, seen.Pages)
	require.Zero(g, seen.Unread, "what pages are made of is kept with the mark")
	return *env.Catalogue.V, seen.Predictions
}
