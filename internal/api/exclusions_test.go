package api_test

import (
	"fmt"
	"net/http"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

type ledgerBody struct {
	Total, Due int
	Entries    []struct {
		ID                                          int64
		Pattern, Key, Reason, State, Who, LookAgain string
		TrialSays, Retired                          string
		Due                                         bool
		Classes, Personas, Environments, InForce    []string
		Trial                                       *struct{ ID int64 }
	}
	Unexplained []struct {
		Key, Pattern string
		InForce      []string
	}
}

func (l ledgerBody) ids() (out []int64) {
	for _, e := range l.Entries {
		out = append(out, e.ID)
	}
	return out
}

func (l ledgerBody) unexplained(pattern string) bool {
	for _, u := range l.Unexplained {
		if u.Pattern == pattern {
			return true
		}
	}
	return false
}

// fullShop is Fernhollow with every class of page that matters here.
func fullShop(t *testing.T) *desk {
	t.Helper()
	var pages []site.Page
	for _, p := range [][2]string{{"/", "home"}, {"/kits?kind=oyster", "listing"}, {"/cart", "cart"}, {"/checkout", "checkout"}, {"/account", "account"}, {"/library/members/the-long-cellar", "membership"}} {
		pages = append(pages, site.Page{Path: p[0], Class: p[1], Personas: []string{site.Visitor}, Devices: []string{site.Desktop}})
	}
	return deskOf(t, standin.Fernhollow(), site.Site{Name: "Fernhollow", Pages: pages, Personas: []site.Persona{{Name: "member", Kind: "member"}}})
}

// read reads both environments' settings.
func (d *desk) read(api *visitor) {
	d.Helper()
	for env := 1; env <= 2; env++ {
		status, text := api.ask(http.MethodPost, fmt.Sprintf("/environments/%d/read", env), map[string]any{}, nil)
		require.Equal(d, http.StatusOK, status, text)
	}
}

func TestTheLedgerKnowsWhatIsInForceAndWhatNobodyExplained(t *testing.T) {
	d := fullShop(t)
	api := d.api(people.Maintainer)
	d.read(api)
	var l ledgerBody
	get := func(query string) ledgerBody {
		var l ledgerBody
		status, text := api.ask(http.MethodGet, "/sites/1/exclusions"+query, nil, &l)
		require.Equal(t, http.StatusOK, status, text)
		return l
	}
	l = get("")
	assert.Empty(t, l.Entries)
	assert.True(t, l.unexplained("/cart"))
	assert.Equal(t, []string{"staging", "production"}, l.Unexplained[0].InForce)

	record := func(body map[string]any) (int, string) {
		return api.ask(http.MethodPost, "/sites/1/exclusions", body, &l)
	}
	status, text := record(map[string]any{"key": "pages.never", "pattern": "/cart", "reason": "A basket is one person's.", "classes": []string{"cart"}, "personas": []string{"member"}, "lookAgain": "2026-01-01"})
	require.Equal(t, http.StatusCreated, status, text)
	require.Len(t, l.Entries, 1)
	assert.Equal(t, "active", l.Entries[0].State)
	assert.True(t, l.Entries[0].Due)
	assert.Equal(t, 1, l.Due)
	for _, u := range l.Unexplained {
		assert.False(t, u.Key == "pages.never" && u.Pattern == "/cart", "it has a reason now")
	}
	for want, body := range map[int]map[string]any{
		http.StatusConflict:            {"key": "pages.never", "pattern": "/cart", "reason": "again"},
		http.StatusUnprocessableEntity: {"key": "pages.cache", "pattern": "/x", "reason": "a switch has no patterns"},
	} {
		status, text = record(body)
		assert.Equal(t, want, status, text)
	}
	for _, bad := range []map[string]any{{"personas": []string{"nobody"}}, {"environments": []string{"moon"}}, {"lookAgain": "soon"}} {
		bad["key"], bad["pattern"], bad["reason"] = "pages.never", "/checkout", "r"
		status, text = record(bad)
		assert.Equal(t, http.StatusUnprocessableEntity, status, text)
	}
	status, text = record(map[string]any{"key": "pages.never", "pattern": "/new", "reason": "There will be such pages."})
	require.Equal(t, http.StatusCreated, status, text)
	assert.Equal(t, "proposed", l.Entries[0].State, "no environment has it")

	assert.Equal(t, 1, get("?state=active").Total)
	assert.Equal(t, 1, get("?state=due").Total)
	assert.Equal(t, 1, get("?q=basket").Total)
	assert.Equal(t, 2, get("?role=path-exclude&limit=1").Total)
	assert.Len(t, get("?limit=1&offset=1").Entries, 1)
	for query, want := range map[string][]string{
		"":                                     {"/new", "/cart"}, // the latest first
		"?down=false":                          {"/cart", "/new"},
		"?sort=pattern&down=false":             {"/cart", "/new"},
		"?sort=pattern":                        {"/new", "/cart"},
		"?sort=state":                          {"/new", "/cart"},
		"?sort=review":                         {"/cart", "/new"}, // what nobody has to review comes last, whichever way
		"?sort=review&down=false":              {"/cart", "/new"},
		"?sort=pattern&down=false&limit=1":     {"/cart"},
		"?sort=pattern&down=false&offset=1":    {"/new"},
		"?sort=reason&down=false&state=active": {"/cart"},
		"?sort=who&state=proposed&down=false":  {"/new"},
	} {
		var got []string
		for _, e := range get(query).Entries {
			got = append(got, e.Pattern)
		}
		assert.Equal(t, want, got, query)
	}
	status, _ = api.ask(http.MethodGet, "/sites/1/exclusions?sort=luck", nil, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	// Bulk edit is all or none, and each entry has its history.
	status, _ = api.ask(http.MethodPut, "/sites/1/exclusions", map[string]any{"ids": append(l.ids(), 4711), "lookAgain": "2030-01-01"}, nil)
	assert.Equal(t, http.StatusNotFound, status)
	assert.Equal(t, 1, get("").Due, "nothing was changed")
	status, text = api.ask(http.MethodPut, "/sites/1/exclusions", map[string]any{"ids": l.ids(), "lookAgain": "2030-01-01", "classes": []string{"cart", "other"}}, &l)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, 0, l.Due)
	var history []struct{ Who, Text string }
	api.ask(http.MethodGet, fmt.Sprintf("/sites/1/exclusions/%d/history", l.Entries[1].ID), nil, &history)
	require.Len(t, history, 2)
	assert.Contains(t, history[1].Text, "To be looked at again: 2030-01-01")

	// What is in force cannot be retired; what is not can, and then its pattern would be unexplained again.
	status, text = api.ask(http.MethodPost, "/sites/1/exclusions/retire", map[string]any{"ids": l.ids(), "why": "gone"}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "still in force on staging and production")
	status, text = api.ask(http.MethodPost, "/sites/1/exclusions/retire", map[string]any{"ids": l.ids()[:1], "why": "It never came."}, &l)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, "retired", l.Entries[0].State)
	assert.Contains(t, l.Entries[0].Retired, "It never came.")
}

func TestTheLedgerGoesOutAndComesIn(t *testing.T) {
	d := fullShop(t)
	api := d.api(people.Maintainer)
	d.read(api)
	bring := func(format, text string) (int, string) {
		return api.ask(http.MethodPost, "/sites/1/exclusions/import", map[string]any{"format": format, "text": text}, nil)
	}
	status, text := bring("csv", "role,pattern,reason,personas,lookAgain\npath-exclude,/cart,personal,member,2030-01-01\npath-exclude,/checkout,,,\nquery-ignore,utm_*,noise,nobody,\ntrim,x,y,,\n")
	require.Equal(t, http.StatusUnprocessableEntity, status)
	for _, want := range []string{"line 3: reason is missing", "line 4: ", "nobody", `line 5: \"trim\" is not a role`} {
		assert.Contains(t, text, want)
	}
	var l ledgerBody
	api.ask(http.MethodGet, "/sites/1/exclusions", nil, &l)
	assert.Empty(t, l.Entries, "all or nothing")

	file := "role,pattern,reason,personas,lookAgain\npath-exclude,/cart,personal,member,2030-01-01\nquery-ignore,utm_*,\"noise, no page\",,\n"
	status, text = bring("csv", file)
	require.Equal(t, http.StatusOK, status, text)
	assert.JSONEq(t, `{"added":2,"passed":0}`, strings.ReplaceAll(text, `"$schema":"`+between(text, `"$schema":"`, `"`)+`",`, ""))
	status, text = bring("csv", file)
	require.Equal(t, http.StatusOK, status)
	assert.Contains(t, text, `"passed":2`, "what is there is passed over")

	status, text = api.ask(http.MethodGet, "/sites/1/exclusions/export?format=csv", nil, nil)
	require.Equal(t, http.StatusOK, status)
	records, faults := exclusion.ReadCSV([]byte(text))
	require.Empty(t, faults)
	require.Len(t, records, 2)
	assert.Equal(t, "noise, no page", records[0].Reason)
	status, text = api.ask(http.MethodGet, "/sites/1/exclusions/export?format=json", nil, nil)
	require.Equal(t, http.StatusOK, status)
	again, faults := exclusion.ReadJSON([]byte(text))
	require.Empty(t, faults)
	assert.Equal(t, records[1].Pattern, again[1].Pattern)
	assert.Equal(t, []string{"member"}, again[1].Personas)
}

func between(text, a, b string) string {
	_, rest, _ := strings.Cut(text, a)
	in, _, _ := strings.Cut(rest, b)
	return in
}

func TestWhatTheRulesLackIsMendedByAChange(t *testing.T) {
	d := fullShop(t)
	meddle(t, d.staging, settings.Values{"pages.never": []string{"/cart", "/ca", "/k", "checkout", "/library/members/"}, "pages.ignoredParameters": []string{"kind"}})
	meddle(t, d.production, settings.Values{"pages.never": []string{"/cart", "/ca", "/k", "checkout", "/library/members/"}, "pages.ignoredParameters": []string{"kind"}})
	api := d.api(people.Maintainer)
	d.read(api)
	var c struct {
		Remarks []exclusion.Remark
		Pages   int
	}
	status, text := api.ask(http.MethodGet, "/environments/2/coverage", nil, &c)
	require.Equal(t, http.StatusOK, status, text)
	kinds := map[exclusion.RemarkKind][]exclusion.Remark{}
	for _, r := range c.Remarks {
		kinds[r.Kind] = append(kinds[r.Kind], r)
	}
	assert.Len(t, kinds[exclusion.Uncovered], 2, "checkout and account: %s", text)
	require.Len(t, kinds[exclusion.Wide], 1)
	assert.Equal(t, "/k", kinds[exclusion.Wide][0].Rule.Pattern)
	assert.Len(t, kinds[exclusion.Useless], 1, "/cart, by /ca")
	assert.Len(t, kinds[exclusion.Impossible], 1)
	assert.Len(t, kinds[exclusion.Dependent], 1)

	status, text = api.ask(http.MethodPost, "/sites/1/exclusions", map[string]any{"key": "pages.never", "pattern": "/k", "reason": "Prices change by the minute.", "classes": []string{"listing"}}, nil)
	require.Equal(t, http.StatusCreated, status, text)
	_, text = api.ask(http.MethodGet, "/environments/2/coverage", nil, nil)
	assert.NotContains(t, text, `"kind":"wide"`, "somebody said that it is meant for listings")

	d.signIn("Ada", "/sites/1/exclusions")
	d.see("p", "The settings let pages be cached that must never be: checkout, account")
	d.see("li", "2 pages|1 page of the class “account”")
	d.accessible("exclusions")
	d.click("th button", "^Pattern")
	d.see("th[aria-sort=ascending]", "Pattern")
	assert.Contains(t, d.page.MustInfo().URL, "by=pattern")
	d.click("button[aria-label*='checkout, visitor, desktop']", ".*")
	d.see("section[aria-label='The chosen cell'] p", "the settings let one copy of /checkout be cached for all")
	d.fill("input[aria-label='Pattern to try']", "/checkout/")
	d.click("button", "^Try it$")
	d.see("li", "/checkout — by its trailing slash")
	d.click("button[aria-label='Fix it with a change: add /checkout']", ".*")
	d.see("h1", "^Add /checkout$")
	d.see("code", "^/checkout$")
	var l ledgerBody
	api.ask(http.MethodGet, "/sites/1/exclusions", nil, &l)
	require.Len(t, l.Entries, 2)
	assert.Equal(t, "proposed", l.Entries[0].State, "it travels with the change")
}

func TestAPolicyIsDecidedWithAReason(t *testing.T) {
	d := fullShop(t)
	d.read(d.api(people.Maintainer))
	body := map[string]any{"class": "home", "persona": "visitor", "policy": "never", "reason": "It shows who is in the shop now."}
	status, _ := d.api(people.Maintainer).ask(http.MethodPut, "/sites/1/policies", body, nil)
	assert.Equal(t, http.StatusForbidden, status, "an approver decides")
	vera := d.api(people.Approver)
	body["persona"] = "nobody"
	status, _ = vera.ask(http.MethodPut, "/sites/1/policies", body, nil)
	assert.Equal(t, http.StatusUnprocessableEntity, status)

	d.signIn("Ada", "/sites/1/exclusions")
	d.click("button[aria-label^='home, visitor, desktop: cached for all']", ".*")
	d.click("button", "^Change the policy$")
	err := d.page.Timeout(patience).MustElement("#policy").Select([]string{"are never served from the cache"}, true, rod.SelectorTypeText)
	require.NoError(t, err)
	d.fill("#policy-reason", "It shows who is in the shop now.")
	d.click("button", "^Set the policy$")
	d.see("p", "The settings let pages be cached that must never be: home")
	d.see("section[aria-label='The chosen cell'] dd", "It shows who is in the shop now")
	var m struct{ Cells []exclusion.Cell }
	status, text := vera.ask(http.MethodGet, "/environments/2/matrix", nil, &m)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, exclusion.Opens, m.Cells[0].Trouble)
	assert.Equal(t, exclusion.Never, m.Cells[0].Policy)
	lines, err := d.store.History(t.Context(), 1, 0, 1)
	require.NoError(t, err)
	assert.Contains(t, lines[0].Text, "never served from the cache. It shows who is in the shop now.")
}

func TestAnExclusionIsTriedWithout(t *testing.T) {
	d := fullShop(t)
	d.marked()
	api := d.api(people.Maintainer)
	var l ledgerBody
	api.ask(http.MethodPost, "/sites/1/exclusions", map[string]any{"key": "pages.never", "pattern": "/account", "reason": "orders", "lookAgain": "2026-01-01"}, &l)
	d.signIn("Ada", "/sites/1/exclusions")
	d.click("input[aria-label='Tick /account']", ".*")
	d.click("button", "^Try staging without them$")
	d.see("h1", "^Without /account$")
	d.click("button", "^Try it on staging$")
	d.see("h1", "roken|cached|clear")
	runs, err := d.store.ChangeRuns(t.Context(), 1)
	require.NoError(t, err)
	d.over(runs[0].ID)
	api.ask(http.MethodGet, "/sites/1/exclusions", nil, &l)
	require.NotNil(t, l.Entries[0].Trial)
	assert.Contains(t, l.Entries[0].TrialSays, "it is still needed", "an account page that is served from the cache is broken")
	d.open("/sites/1/exclusions")
	d.see("p", "Staging breaks without it")
	d.click("button", "^Test cache isolation$")
	d.see("h1", "^Clear: in \\d+ tries nobody was served what belongs to somebody else\\.$")
	d.see("td", "^a visitor, then another$")
	d.accessible("a proof by requests")
}

func TestCachedPagesArePurgedOrMarkedStaleFromTheMatrix(t *testing.T) {
	d := fullShop(t)
	api := d.api(people.Maintainer)
	d.read(api)
	cached := func(path string) string {
		res, err := http.Get(d.staging.URL + path)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.Header.Get("Cache-Status")
	}
	cached("/")
	cached("/kits?kind=oyster")
	require.Contains(t, cached("/"), "hit")
	order := func(body map[string]any) string {
		status, text := api.ask(http.MethodPost, "/environments/1/purges", body, nil)
		require.Equal(t, http.StatusOK, status, text)
		return text
	}
	assert.Contains(t, order(map[string]any{"page": "/", "stale": true}), `"purged":1`)
	assert.Contains(t, cached("/"), "fwd=stale")
	assert.Contains(t, order(map[string]any{"class": "listing"}), `"purged":1`)
	assert.Contains(t, cached("/kits?kind=oyster"), "fwd=uri-miss")
	for _, body := range []map[string]any{{"class": "moon"}, {"page": "cart"}} {
		status, text := api.ask(http.MethodPost, "/environments/1/purges", body, nil)
		assert.Equal(t, http.StatusUnprocessableEntity, status, text)
	}
	status, _ := d.api(people.Observer).ask(http.MethodPost, "/environments/1/purges", map[string]any{}, nil)
	assert.Equal(t, http.StatusForbidden, status)

	d.signIn("Ada", "/sites/1/exclusions")
	d.click("button", "^staging$")
	d.see("button[aria-pressed='true']", "^staging$")
	d.click("form[aria-label='Purge cached pages'] button", "^Purge$")
	d.see("[role=alertdialog] .p-confirmdialog-message, [role=alertdialog] span", "Every cached copy of all pages of the class “home” on staging is deleted")
	d.accessible("asking before a purge")
	d.click("[role=alertdialog] button", "^Purge on staging$")
	d.see("form[aria-label='Purge cached pages'] p", "1 cached copy went; \\d (is|are) fetched again")
	lines, err := d.store.History(t.Context(), 1, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "Purged what staging had cached of pages of the class home: 1 copies.", lines[0].Text)
}
