package api_test

import (
	"context"
	"net/http"
	"net/http/cookiejar"
	"net/http/httptest"
	"net/url"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"github.com/zitadel/oidc/v3/example/server/exampleop"
	"github.com/zitadel/oidc/v3/example/server/storage"
	"github.com/zitadel/oidc/v3/pkg/oidc"
	"github.com/zitadel/oidc/v3/pkg/op"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
)

// identities are what the provider has of people, with the groups that each is in.
type identities struct {
	*storage.Storage
	mu     sync.Mutex
	groups map[string][]string
}

func (i *identities) SetUserinfoFromToken(ctx context.Context, info *oidc.UserInfo, tokenID, subject, origin string) error {
	if err := i.Storage.SetUserinfoFromToken(ctx, info, tokenID, subject, origin); err != nil {
		return err
	}
	i.mu.Lock()
	defer i.mu.Unlock()
	info.AppendClaims("groups", i.groups[subject])
	return nil
}

func (i *identities) inGroups(subject string, groups ...string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	i.groups[subject] = groups
}

// providerFor runs a whole provider of OpenID Connect, with its own sign-in, that knows an application at an address.
func providerFor(t *testing.T, application string) (issuer string, who *identities) {
	t.Helper()
	server := httptest.NewUnstartedServer(nil)
	issuer = "http://" + server.Listener.Addr().String()
	clients := map[string]*storage.Client{"tide": storage.WebClient("tide", "hush", application+"/api/v1/provider/back")}
	who = &identities{Storage: storage.NewStorageWithClients(storage.NewUserStore(issuer), clients), groups: map[string][]string{}}
	server.Config.Handler = exampleop.SetupServer(issuer, who, nil, false, op.WithAllowInsecure())
	server.Start()
	t.Cleanup(server.Close)
	return issuer, who
}

// signInThere fills in the provider's own form.
func (d *desk) signInThere(name string) {
	d.Helper()
	d.click("a", "^Sign in with the harbour office$")
	d.fill("#username", name)
	d.fill("#password", "verysecure")
	d.click("button", "^Login$")
}

func TestPeopleSignInWithAProvider(t *testing.T) {
	d := quillet(t)
	issuer, who := providerFor(t, d.url)
	d.server.Provider = &api.Provider{Name: "the harbour office", Issuer: issuer, ClientID: "tide", ClientSecret: "hush", Claim: "groups", Roles: map[string]people.Role{"web": people.Maintainer, "leads": people.Approver}}
	addPerson(t, d.store, "test-user2", people.Administrator) // somebody else's account, of the same name

	d.open("/sites/1")
	d.see("h1", "^Sign in$")
	d.accessible("a sign-in with a provider")
	d.signInThere("test-user2")
	d.see("[role=alert]", "nothing it says of you gives you a role here")
	_, err := d.store.Identified(t.Context(), issuer, "id2")
	require.Error(t, err, "nobody was put in")

	who.inGroups("id2", "pub quiz", "web")
	d.open("/sites/1")
	d.signInThere("test-user2")
	d.see("h1", "^Quillet Observatory$") // where they wanted to go
	p, err := d.store.Identified(t.Context(), issuer, "id2")
	require.NoError(t, err)
	assert.Equal(t, "test-user2 (the harbour office)", p.Name, "a name does not open another's account")
	assert.Equal(t, people.Maintainer, p.Role)

	// The provider says again with each sign-in what somebody may, and a second factor is its work.
	require.NoError(t, d.store.RequireFactors(t.Context(), []people.Role{people.Approver}))
	d.click("button", "^Sign out$")
	d.see("h1", "^Sign in$")
	who.inGroups("id2", "web", "leads")
	d.open("/you")
	d.signInThere("test-user2")
	d.see("p", "^Your role is approver")
	d.see("h2", "^Sessions$")

	require.NoError(t, d.store.SavePerson(t.Context(), p.ID, people.Approver, true))
	d.open("/sites/1")
	d.signInThere("test-user2")
	d.see("[role=alert]", "An administrator disabled this account")
}

func TestAnAnswerOfAProviderThatNobodyAskedForOpensNothing(t *testing.T) {
	d := quillet(t)
	issuer, who := providerFor(t, d.url)
	who.inGroups("id1", "web")
	d.server.Provider = &api.Provider{Name: "the harbour office", Issuer: issuer, ClientID: "tide", ClientSecret: "hush", Claim: "groups", Roles: map[string]people.Role{"web": people.Maintainer}}
	jar, err := cookiejar.New(nil)
	require.NoError(t, err)
	guest := &visitor{t, d.url, "", http.Client{Jar: jar}}
	stays := func(_ *http.Request, _ []*http.Request) error { return http.ErrUseLastResponse }
	guest.http.CheckRedirect = stays
	get := func(path string) (to string) {
		req, err := newRequest(t, http.MethodGet, d.url+path, "")
		require.NoError(t, err)
		res, err := guest.http.Do(req)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		return res.Header.Get("Location")
	}
	refused := func() string {
		var w struct{ Refused string }
		guest.ask(http.MethodGet, "/session/ways", nil, &w)
		return w.Refused
	}
	assert.Equal(t, "/sign-in", get("/api/v1/provider/back?code=guess&state=guess"))
	assert.Contains(t, refused(), "belongs to no sign-in that was started here")
	assert.Empty(t, refused(), "it is said once")

	begun, err := url.Parse(get("/api/v1/provider/begin?then=" + url.QueryEscape("https://elsewhere.example/")))
	require.NoError(t, err)
	q := begun.Query()
	assert.Equal(t, "S256", q.Get("code_challenge_method"))
	assert.NotEmpty(t, q.Get("nonce"))
	assert.Equal(t, d.url+"/api/v1/provider/back", q.Get("redirect_uri"))
	assert.Equal(t, "/sign-in", get("/api/v1/provider/back?code=guess&state="+q.Get("state")))
	assert.Contains(t, refused(), "gave no answer that can be used")
	assert.Equal(t, "/sign-in", get("/api/v1/provider/back?code=guess&state="+q.Get("state")), "a state counts once")
	assert.Contains(t, refused(), "belongs to no sign-in")
	assert.Equal(t, "/sign-in", get("/api/v1/provider/back?error=access_denied"))
	status, _ := guest.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusUnauthorized, status)

	d.server.Provider = &api.Provider{Name: "the harbour office", Issuer: "http://127.0.0.1:1", ClientID: "tide", Claim: "groups"}
	assert.Equal(t, "/sign-in", get("/api/v1/provider/begin"))
	assert.Contains(t, refused(), "gave no answer that can be used", "it does not answer at all")
}
