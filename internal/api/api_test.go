package api_test

import (
	"bytes"
	"encoding/json"
	"fmt"
	"image"
	"image/color"
	"image/png"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/act"
	"tidemarker/internal/api"
	"tidemarker/internal/browser"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/journey"
	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/run"
	"tidemarker/internal/speedlayer/kinds"
	"tidemarker/internal/store"
	"tidemarker/internal/testdb"

	files "tidemarker/web"
)

// record is a database with a mark and a broken staging run in it, as real runs
// would have left them, and the server in front.
type record struct {
	*testing.T
	url    string
	store  *store.Store
	site   store.Site
	env    store.Environment
	change int64
	run    int64
	token  string // of ada, an administrator
	log    logged
}

func painted(t *testing.T, c color.NRGBA) []byte {
	t.Helper()
	m := image.NewNRGBA(image.Rect(0, 0, 120, 90))
	for i := range m.Pix {
		m.Pix[i] = 255
	}
	for y := 30; y < 60; y++ {
		for x := 20; x < 100; x++ {
			m.SetNRGBA(x, y, c)
		}
	}
	var b bytes.Buffer
	require.NoError(t, png.Encode(&b, m))
	return b.Bytes()
}

func newRecord(t *testing.T) *record {
	t.Helper()
	ctx := t.Context()
	st, _ := testdb.New(t)
	r := &record{T: t, store: st}
	var err error
	r.site, err = st.SaveSite(ctx, site.Site{Name: "Shop", Environments: []site.Environment{{Name: "staging", URL: "http://127.0.0.1:1"}}, Pages: []site.Page{{Path: "/"}}}, false, "ada")
	require.NoError(t, err)
	envs, err := st.Environments(ctx, r.site.ID)
	require.NoError(t, err)
	r.env = envs[0]
	cat := settings.Catalogue{Settings: []settings.Definition{
		{Key: "js.late", Title: "Late scripts", Type: settings.Switch, Default: false, Role: "js-defer", Risk: 2},
		{Key: "js.notLate", Title: "Scripts not late", Type: settings.Patterns, Default: []any{}, Role: "js-exclude-defer"},
	}}
	was := settings.Values{"js.late": false, "js.notLate": []any{}}
	before, err := st.SaveRevision(ctx, r.site.ID, was)
	require.NoError(t, err)
	after, err := st.SaveRevision(ctx, r.site.ID, was.With(settings.Values{"js.late": true}))
	require.NoError(t, err)
	require.NoError(t, st.SaveReading(ctx, r.env.ID, settings.About{Protocol: "1"}, cat, before))
	r.change, err = st.NewChange(ctx, store.Change{SiteID: r.site.ID, Title: "Late scripts", Base: before, CreatedBy: "ada"})
	require.NoError(t, err)

	look := func(run int64, tone color.NRGBA, errs []evidence.ScriptError) {
		sha, err := st.Put(ctx, "image/png", painted(t, tone))
		require.NoError(t, err)
		p := evidence.PageLook{Key: evidence.Key{Page: "/", Persona: "visitor", Device: "phone"}, Status: 200, Address: "http://127.0.0.1:1/", Errors: errs,
			Picture: &evidence.Picture{SHA256: sha, Width: 120, Height: 90}, Outline: []evidence.Box{{Path: "body", Name: "body", Parent: -1, Width: 120, Height: 90}},
			Requests: []evidence.Request{{URL: "http://127.0.0.1:1/menu.js", Kind: "script", Status: 200}, {URL: "http://127.0.0.1:1/lib.js", Kind: "script", Status: 200}}}
		require.NoError(t, st.SaveLook(ctx, run, 1, "page", p.Key, p))
	}
	marked, err := st.NewRun(ctx, store.Run{SiteID: r.site.ID, EnvironmentID: r.env.ID, Kind: release.MarkRun, Target: before, RequestedBy: "ada"})
	require.NoError(t, err)
	look(marked, color.NRGBA{200, 40, 40, 255}, nil)
	ended(t, st, store.Run{ID: marked, Verdict: evidence.VerdictClear})
	mark, err := st.SaveMark(ctx, store.Mark{EnvironmentID: r.env.ID, RunID: marked, Fingerprint: before, Who: "ada"})
	require.NoError(t, err)
	r.run, err = st.NewRun(ctx, store.Run{SiteID: r.site.ID, EnvironmentID: r.env.ID, ChangeID: &r.change, Kind: release.TryRun, Target: after, MarkID: &mark, RequestedBy: "ada"})
	require.NoError(t, err)
	look(r.run, color.NRGBA{40, 40, 200, 255}, []evidence.ScriptError{{Message: "ReferenceError: lib is not defined", Source: "http://127.0.0.1:1/menu.js", Line: 3}})
	failed := 0
	require.NoError(t, st.SaveLook(ctx, r.run, 1, "journey", evidence.Key{Page: "/", Journey: "menu", Persona: "visitor", Device: "phone"},
		evidence.JourneyLook{Key: evidence.Key{Page: "/", Journey: "menu", Persona: "visitor", Device: "phone"}, Outcome: journey.Outcome{Steps: []journey.StepOutcome{{Step: "click Menu", Why: "not there"}}}}))
	base, err := st.Baseline(ctx, store.Mark{RunID: marked})
	require.NoError(t, err)
	now, err := st.Look(ctx, r.run, 1)
	require.NoError(t, err)
	findings, err := evidence.Compare(base, evidence.Look{Pages: now.Pages}, inspect.Pictures(ctx, st))
	require.NoError(t, err)
	findings = append(findings, evidence.Finding{Kind: evidence.JourneyKind, Severity: evidence.Unsure, Page: "/", Persona: "visitor", Device: "phone", Journey: "menu", Step: &failed, Title: "menu"},
		evidence.Finding{Kind: evidence.NotCheckedKind, Severity: evidence.Note, Page: "/", Persona: "visitor", Device: "phone", Title: "not looked at"})
	require.NoError(t, st.SaveFindings(ctx, r.run, findings))
	require.NoError(t, st.SaveProgress(ctx, r.run, "", store.RunProgress{Looks: evidence.Progress{Planned: 1, Done: 1}}))
	ended(t, st, store.Run{ID: r.run, Verdict: evidence.VerdictBroken, Summary: "Broken"})

	server := httptest.NewServer(api.New(ctx, serverOn(t, st, nil, slog.New(slog.NewTextHandler(&r.log, nil))), files.Files))
	t.Cleanup(server.CloseClientConnections)
	r.url = server.URL
	r.token = tokenOf(t, st, addPerson(t, st, "ada", people.Administrator), people.Administrator)
	return r
}

func (r *record) get(path string, into any) *http.Response {
	r.Helper()
	req, err := newRequest(r.T, http.MethodGet, r.url+path, "")
	require.NoError(r, err)
	req.Header.Set("Authorization", "Bearer "+r.token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(r, err)
	defer res.Body.Close()
	if into != nil {
		require.Equal(r, http.StatusOK, res.StatusCode, path)
		require.NoError(r, json.NewDecoder(res.Body).Decode(into))
	}
	return res
}

func (r *record) post(path string, body any, into any) int {
	r.Helper()
	raw, err := json.Marshal(body)
	require.NoError(r, err)
	req, err := newRequest(r.T, http.MethodPost, r.url+path, string(raw))
	require.NoError(r, err)
	req.Header.Set("Authorization", "Bearer "+r.token)
	res, err := http.DefaultClient.Do(req)
	require.NoError(r, err)
	defer res.Body.Close()
	if into != nil && res.StatusCode < 300 {
		require.NoError(r, json.NewDecoder(res.Body).Decode(into))
	}
	return res.StatusCode
}

type runBody struct {
	Verdict, Summary string
	Findings         []struct {
		ID                           int64
		Kind, Severity, State, Title string
		AcceptedWhy                  string
	}
	Difference []struct{ Key string }
}

func (b runBody) id(kind string) int64 {
	for _, f := range b.Findings {
		if f.Kind == kind {
			return f.ID
		}
	}
	return 0
}

func TestEveryFindingOpensToItsProof(t *testing.T) {
	r := newRecord(t)
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	require.Len(t, run.Difference, 1)
	assert.Equal(t, "js.late", run.Difference[0].Key, "what was changed")
	var proof struct {
		Before, Now *struct{ Picture *evidence.Picture }
		Regions     []struct{ X, Y, Width, Height int }
		Candidates  []struct{ Key, Pattern, Why string }
		Steps       *evidence.JourneyLook
	}
	r.get(fmt.Sprintf("/api/v1/findings/%d/proof", run.id("picture")), &proof)
	require.NotNil(t, proof.Before)
	assert.NotEqual(t, proof.Before.Picture.SHA256, proof.Now.Picture.SHA256)
	require.Len(t, proof.Regions, 1)
	assert.Equal(t, 20, proof.Regions[0].X)
	picture := proof.Before.Picture.SHA256

	r.get(fmt.Sprintf("/api/v1/findings/%d/proof", run.id("script-error")), &proof)
	require.NotEmpty(t, proof.Candidates)
	assert.Equal(t, "/lib.js", proof.Candidates[0].Pattern, "the library whose name is not defined comes first")
	assert.Equal(t, "js.notLate", proof.Candidates[0].Key)
	r.get(fmt.Sprintf("/api/v1/findings/%d/proof", run.id("journey")), &proof)
	require.NotNil(t, proof.Steps)
	assert.Equal(t, "not there", proof.Steps.Outcome.Steps[0].Why)

	res := r.get("/api/v1/blobs/"+picture, nil)
	assert.Equal(t, "image/png", res.Header.Get("Content-Type"))
	assert.Contains(t, res.Header.Get("Content-Security-Policy"), "sandbox")
	res = r.get(fmt.Sprintf("/api/v1/findings/%d/difference.png", run.id("picture")), nil)
	assert.Equal(t, http.StatusOK, res.StatusCode)
	assert.Equal(t, http.StatusNotFound, r.get(fmt.Sprintf("/api/v1/findings/%d/difference.png", run.id("journey")+99), nil).StatusCode)
	assert.Equal(t, http.StatusNotFound, r.get("/api/v1/findings/9999/proof", nil).StatusCode)
	res = r.get(fmt.Sprintf("/api/v1/findings/%d/thumbnail.png", run.id("picture")), nil)
	assert.Equal(t, "image/png", res.Header.Get("Content-Type"))
	assert.Equal(t, http.StatusNotFound, r.get(fmt.Sprintf("/api/v1/findings/%d/thumbnail.png", run.id("journey")), nil).StatusCode, "it has no place on a page")
}

func TestWhatASiteSentIsNeverRenderedHere(t *testing.T) {
	r := newRecord(t)
	sha, err := r.store.Put(t.Context(), "text/html", []byte("<script>alert(1)</script>"))
	require.NoError(t, err)
	res := r.get("/api/v1/blobs/"+sha, nil)
	assert.Equal(t, "text/plain; charset=utf-8", res.Header.Get("Content-Type"))
	assert.Equal(t, "nosniff", res.Header.Get("X-Content-Type-Options"))
	assert.Equal(t, http.StatusNotFound, r.get("/api/v1/blobs/none", nil).StatusCode)
}

func TestAcceptingFindingsComesToANewVerdict(t *testing.T) {
	r := newRecord(t)
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	accept := func(id int64, yes bool, why string) int {
		return r.post(fmt.Sprintf("/api/v1/findings/%d/accept", id), map[string]any{"accepted": yes, "why": why}, &run)
	}
	assert.Equal(t, http.StatusUnprocessableEntity, accept(run.id("picture"), true, ""), "the record needs a reason")
	assert.Equal(t, http.StatusConflict, accept(run.id("not-checked"), true, "never mind"), "what was not looked at cannot be accepted")
	require.Equal(t, http.StatusOK, accept(run.id("picture"), true, "The new colour is meant."))
	assert.Equal(t, "broken", run.Verdict, "the script error is still there")
	require.Equal(t, http.StatusOK, accept(run.id("script-error"), true, "An old one."))
	assert.Equal(t, "unsure", run.Verdict)
	require.Equal(t, http.StatusOK, accept(run.id("journey"), true, "It is gone on purpose."))
	assert.Equal(t, "clear", run.Verdict)
	assert.Contains(t, run.Summary, "3 accepted as expected")
	require.Equal(t, http.StatusOK, accept(run.id("picture"), false, ""))
	assert.Equal(t, "broken", run.Verdict, "taken back")
	var lines []struct{ Text, Who string }
	r.get(fmt.Sprintf("/api/v1/sites/%d/history", r.site.ID), &lines)
	assert.Contains(t, lines[0].Text, "Took back")
	assert.Contains(t, lines[3].Text, "The new colour is meant.")
}

func TestAnExclusionIsPartOfTheChangeAndOfTheRecord(t *testing.T) {
	r := newRecord(t)
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	at := fmt.Sprintf("/api/v1/changes/%d/exclusions", r.change)
	finding := run.id("script-error")
	excluding := func(key, reason string) map[string]any {
		return map[string]any{"exclude": []map[string]string{{"key": key, "pattern": "/lib.js"}}, "reason": reason, "finding": finding}
	}
	assert.Equal(t, http.StatusUnprocessableEntity, r.post(at, excluding("js.late", "r"), nil), "a switch takes no patterns")
	assert.Equal(t, http.StatusUnprocessableEntity, r.post(at, excluding("js.notLate", ""), nil))
	var change struct {
		Edits      map[string]any
		Exclusions []struct {
			Pattern, Role, Reason string
			Finding               *int64
		}
	}
	for range 2 { // saying it twice adds it once
		require.Equal(t, http.StatusCreated, r.post(at, excluding("js.notLate", "Everything needs it"), &change))
	}
	assert.Equal(t, []any{"/lib.js"}, change.Edits["js.notLate"])
	require.Len(t, change.Exclusions, 1)
	assert.Equal(t, "js-exclude-defer", change.Exclusions[0].Role)
	assert.Equal(t, finding, *change.Exclusions[0].Finding)
	var ledger struct {
		Entries []struct {
			Pattern, Who, State string
			Run                 *int64
		}
	}
	r.get(fmt.Sprintf("/api/v1/sites/%d/exclusions", r.site.ID), &ledger)
	assert.Equal(t, "ada (token tests)", ledger.Entries[0].Who)
	assert.Equal(t, "proposed", ledger.Entries[0].State, "production does not have it yet")
	assert.Equal(t, r.run, *ledger.Entries[0].Run, "the evidence is one click away")
}

func TestTheDescriptionAndTheContractAreServed(t *testing.T) {
	r := newRecord(t)
	var api struct {
		OpenAPI string                    `json:"openapi"`
		Paths   map[string]map[string]any `json:"paths"`
	}
	r.get("/api/openapi.json", &api)
	assert.True(t, strings.HasPrefix(api.OpenAPI, "3.1"))
	assert.Contains(t, api.Paths, "/api/v1/changes/{id}/promote")
	for _, name := range []string{"connector-v1.openapi.yaml", "site-file.schema.json", "report.schema.json", "culprit-report.schema.json"} {
		assert.Equal(t, http.StatusOK, r.get("/api/contract/"+name, nil).StatusCode, name)
	}
	assert.Equal(t, "no-store", r.get("/api/v1/sites", nil).Header.Get("Cache-Control"), "what is for one person stays in no cache")
	for _, view := range []string{"/", "/sites/1", "/changes/9/anything"} {
		res := r.get(view, nil)
		assert.Contains(t, res.Header.Get("Content-Type"), "text/html", view)
		assert.Contains(t, res.Header.Get("Content-Security-Policy"), "default-src 'self'")
	}
}

// serverOn is a server on a database, with or without a browser.
func serverOn(t *testing.T, st *store.Store, look func() (*browser.Browser, error), log *slog.Logger) *api.Server {
	t.Helper()
	runner, err := run.New(&act.Acts{Store: st, Kinds: kinds.All, Log: log}, &inspect.Tools{Blobs: st, Browser: look}, log)
	require.NoError(t, err)
	return api.NewServer(runner, nil, log)
}

// ended ends a run that came to a verdict.
func ended(t *testing.T, st *store.Store, r store.Run) {
	t.Helper()
	_, err := st.MoveRun(t.Context(), r.ID, release.RunBegins)
	require.NoError(t, err)
	require.NoError(t, st.EndRun(t.Context(), r, release.RunFinished))
}
