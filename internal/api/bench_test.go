package api_test

import (
	"bytes"
	"fmt"
	"net/http"
	"sync/atomic"
	"testing"
	"time"

	"github.com/go-rod/rod"
	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/docs/contract"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/site"
	"tidemarker/internal/standin"
)

func quillet(t *testing.T) *desk {
	t.Helper()
	return deskOf(t, standin.Quillet(), observatory())
}

func observatory() site.Site {
	return site.Site{Name: "Quillet Observatory", Pages: []site.Page{{Path: "/visit", Class: "article", Personas: []string{site.Visitor}, Devices: []string{site.Desktop}}}}
}

type changeBody struct {
	ID       int64
	Version  int
	Title    string
	Edits    map[string]any
	Bundle   string
	StepDown string
	Series   []struct{ Title string }
	Follows  *struct{ ID int64 }
	Choices  []struct {
		Event, Why string
		Allowed    bool
	}
}

func (c changeBody) why(event string) string {
	for _, x := range c.Choices {
		if x.Event == event {
			return x.Why
		}
	}
	return "there is no " + event
}

// begun begins a change through the API and edits it.
func (v *visitor) begun(site int64, edits map[string]any) changeBody {
	v.Helper()
	var c changeBody
	status, text := v.ask(http.MethodPost, fmt.Sprintf("/sites/%d/changes", site), map[string]any{"title": "T", "reason": "", "effect": ""}, &c)
	require.Equal(v, http.StatusCreated, status, text)
	return v.edited(c, edits)
}

func (v *visitor) edited(c changeBody, edits map[string]any) changeBody {
	v.Helper()
	status, text := v.ask(http.MethodPut, fmt.Sprintf("/changes/%d", c.ID), map[string]any{"version": c.Version, "title": c.Title, "reason": "", "effect": "", "edits": edits}, &c)
	require.Equal(v, http.StatusOK, status, text)
	return c
}

func TestACollisionBlocksUntilItIsResolved(t *testing.T) {
	d := quillet(t)
	d.marked()
	c := d.api(people.Maintainer).begun(1, map[string]any{})
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.see("h1", "^T$")
	d.see("p", "It needs rewrite rules, which this host does not have")
	keeps, err := d.page.Element("#sendKeep")
	require.NoError(t, err)
	locked, err := keeps.Property("disabled")
	require.NoError(t, err)
	assert.True(t, locked.Bool(), "what the host cannot support cannot be switched on")
	d.click("label", "^Late images$")
	d.see("p", "“The theme's late pictures” on this site does the same work already")
	d.see("p", "Done twice, each undoes the other")
	d.accessible("a blocked collision")
	require.Eventually(t, func() bool {
		var now changeBody
		d.api(people.Observer).ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
		return now.why("try") != "" && len(now.Edits) == 1
	}, patience, 100*time.Millisecond)
	d.click("label", "^Tight markup$")
	d.see("strong", "^Tight markup$")
	d.see(".differs", "Tight markup") // what follows has it; nothing moves any more
	d.click("button", "^Also set Late images to off$")
	d.click("button", "Try it on staging")
	d.see("h1", "^Clear: 1 look")
}

func TestTwoPeopleWhoEditTheSameChangeLoseNothing(t *testing.T) {
	d := newDesk(t)
	marin := d.api(people.Maintainer)
	c := marin.begun(1, map[string]any{})
	// Her page is told nothing, as with a connection that comes and goes.
	deaf := d.page.HijackRequests()
	deaf.MustAdd("*/api/v1/events", func(h *rod.Hijack) { h.Response.Fail(proto.NetworkErrorReasonConnectionClosed) })
	go deaf.Run()
	t.Cleanup(func() { _ = deaf.Stop() })
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.see("h1", "^T$")
	c = marin.edited(c, map[string]any{"images.lazySkip": 4})
	d.click("label", "^Compact markup$")
	now := func() (got changeBody) {
		marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &got)
		return got
	}
	require.Eventually(t, func() bool {
		c = now()
		return c.Edits["markup.compact"] == true && c.Edits["images.lazySkip"] == 4.0
	}, patience, pollEvery, "what does not meet is put together")
	d.see("button", `Only changed \(2\)`)

	marin.edited(c, map[string]any{"markup.compact": true, "images.lazySkip": 7})
	d.fill(`[id="images.lazySkip"]`, "9")
	require.NoError(t, d.page.Keyboard.Type(input.Tab))
	d.see("[role=dialog] p", "edited this change at the same time")
	d.accessible("a merge question")
	assert.Equal(t, 7.0, now().Edits["images.lazySkip"], "nothing is overwritten before she has said so")
	d.click("[role=dialog] label", "yours")
	d.click("[role=dialog] button", "^Save these$")
	require.Eventually(t, func() bool { return now().Edits["images.lazySkip"] == 9.0 }, patience, pollEvery)
	assert.Equal(t, true, now().Edits["markup.compact"])
}

// A save fails; meanwhile somebody else saves, and a notice brings that here. What is saved next here was made on the version
// before: it is put together with theirs, never over it. Nothing is tried while something is not saved.
func TestWhatSomebodySavedAfterAFailedSaveIsNotOverwritten(t *testing.T) {
	d := newDesk(t)
	d.marked()
	marin := d.api(people.Maintainer)
	c := marin.begun(1, map[string]any{"images.lazy": true})
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.see("[role=status]", "^Saved$")
	var cut atomic.Bool
	cut.Store(true)
	line := d.page.HijackRequests()
	line.MustAdd(fmt.Sprintf("*/api/v1/changes/%d", c.ID), func(h *rod.Hijack) {
		if h.Request.Method() == http.MethodPut && cut.Load() {
			h.Response.Fail(proto.NetworkErrorReasonConnectionReset)
			return
		}
		h.ContinueRequest(&proto.FetchContinueRequest{})
	})
	go line.Run()
	t.Cleanup(func() { _ = line.Stop() })
	d.fill(`[id="pages.never"]`, "/cart")
	require.NoError(t, d.page.Keyboard.Type(input.Tab))
	d.see("[role=status]", "^Not saved$")
	d.accessible("a change that is not saved")
	marin.edited(c, map[string]any{"images.lazy": true, "markup.compact": true})
	d.see("button", `Only changed \(2\)`)
	d.click("button", "^Try it on staging$")
	d.see("[role=alert]", "is not saved, so nothing was started")

	cut.Store(false)
	d.fill(`[id="pages.never"]`, "/cart\n/checkout\n/wishlist")
	require.NoError(t, d.page.Keyboard.Type(input.Tab))
	d.see("[role=status]", "^Saved$")
	var now changeBody
	marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
	assert.Equal(t, map[string]any{"images.lazy": true, "markup.compact": true, "pages.never": []any{"/cart", "/checkout", "/wishlist"}}, now.Edits)
	d.click("button", "^Try it on staging$")
	d.see("h1", "on staging|Clear|looks")
}

func TestAPiledUpChangeIsSplitAndABundleSteppedDown(t *testing.T) {
	d := newDesk(t)
	marin := d.api(people.Maintainer)
	c := marin.begun(1, map[string]any{"scripts.defer": true, "styles.dropUnused": true, "markup.compact": true})
	require.Len(t, c.Series, 3)
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.click("button", "^Split it into 3 changes")
	d.see("h1", `^T \(1 of 3\)$`)
	var second changeBody
	marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID+1), nil, &second)
	assert.Equal(t, map[string]any{"scripts.defer": true}, second.Edits)
	assert.Contains(t, second.why("try"), "It comes after “T (1 of 3)”")

	d.click("button", "^Running tide")
	d.see("[role=dialog] td", "Defer scripts")
	d.accessible("a bundle's preview")
	d.click("[role=dialog] button", "^Add it to the change$")
	d.see("b", "^Running tide$")
	d.click("button", "^Step down to Slack tide$")
	d.see("b", "^Slack tide$")
	var now changeBody
	marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
	assert.NotContains(t, now.Edits, "scripts.defer")
	assert.Equal(t, true, now.Edits["markup.compact"])
	assert.Equal(t, "gzip", now.Edits["delivery.pack"])
}

func TestARevisionIsCopiedToAnotherSite(t *testing.T) {
	d := newDesk(t)
	other := deskBeside(t, standin.Quillet(), observatory())
	marin := other.api(people.Maintainer)
	for _, env := range []int{1, 2} {
		marin.ask(http.MethodPost, fmt.Sprintf("/environments/%d/read", env), map[string]any{}, nil)
	}
	e, err := other.store.Environment(t.Context(), 2)
	require.NoError(t, err)
	status, exported := marin.ask(http.MethodGet, "/environments/2/revisions/"+e.Fingerprint, nil, nil)
	require.Equal(t, http.StatusOK, status, exported)
	raw, err := jsonschema.UnmarshalJSON(bytes.NewReader(contract.CopiedSettingsSchema))
	require.NoError(t, err)
	compiler := jsonschema.NewCompiler()
	require.NoError(t, compiler.AddResource("c.json", raw))
	schema, err := compiler.Compile("c.json")
	require.NoError(t, err)
	doc, err := jsonschema.UnmarshalJSON(bytes.NewReader([]byte(exported)))
	require.NoError(t, err)
	require.NoError(t, schema.Validate(doc), "the exported document is what its schema says")

	here := d.api(people.Maintainer)
	for _, env := range []int{1, 2} {
		here.ask(http.MethodPost, fmt.Sprintf("/environments/%d/read", env), map[string]any{}, nil)
	}
	d.signIn("Ada", "/sites/1/settings")
	d.see("h1", "^Settings$")
	d.accessible("the settings")
	d.click("button", "^Copy from another site$")
	d.fill("#carried", exported)
	d.click("[role=dialog] button", "^See what fits$")
	d.see("[role=dialog] p", "tick it only if it is right here")
	d.accessible("a copy-settings")
	d.click("[role=dialog] button", "^Start a change with what is ticked$")
	d.see("h1", "^Copied settings$")
	var c changeBody
	here.ask(http.MethodGet, "/changes/1", nil, &c)
	assert.Equal(t, 7200.0, c.Edits["pages.lifetime"])
	assert.NotContains(t, c.Edits, "pages.never", "addresses of the other site are taken only when somebody says so")

	status, text := here.ask(http.MethodPost, "/sites/1/carried/fit", map[string]any{"document": `{"format":"x"}`}, nil)
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "not a document of copied settings")
	var bundles []struct{ Name string }
	status, text = here.ask(http.MethodPost, "/bundles", map[string]any{"name": "Still water", "summary": "", "environment": 2, "fingerprint": e.Fingerprint}, nil)
	assert.Equal(t, 422, status, text)
	p, err := d.store.Environment(t.Context(), 2)
	require.NoError(t, err)
	status, text = here.ask(http.MethodPost, "/bundles", map[string]any{"name": "Ours", "summary": "", "environment": 2, "fingerprint": p.Fingerprint}, &bundles)
	assert.Equal(t, 201, status, text)
	assert.Equal(t, "Ours", bundles[len(bundles)-1].Name)
}

func TestWhatDeletesDataIsNotTriedWithoutABackup(t *testing.T) {
	d := newDesk(t)
	marin := d.api(people.Maintainer)
	c := marin.begun(1, map[string]any{"tidy.spam": true})
	assert.Contains(t, c.why("try"), "Record a backup of staging first")
	status, text := marin.ask(http.MethodPost, "/environments/1/tries", map[string]any{"edits": map[string]any{"tidy.spam": true}}, nil)
	assert.Equal(t, http.StatusConflict, status, "there is no mark yet: %s", text)
	d.signIn("Ada", fmt.Sprintf("/changes/%d", c.ID))
	d.see("p", "There are 31 now")
	d.fill(".backup input", "vault, box 9")
	d.click("button", "^Record the backup$")
	d.see("p", "It is recorded")
	d.accessible("a change that deletes data")
	var now changeBody
	marin.ask(http.MethodGet, fmt.Sprintf("/changes/%d", c.ID), nil, &now)
	assert.Contains(t, now.why("try"), "no mark", "the backup stands no more in the way")
	lines, err := d.store.History(t.Context(), 1, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "There is a backup of staging: vault, box 9", lines[0].Text)
}
