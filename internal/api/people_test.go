package api_test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/http/cookiejar"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/go-rod/rod"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// visitor is somebody's browser, or a program with a token.
type visitor struct {
	*testing.T
	url, token string
	http       http.Client
}

func (r *record) visitor(token string) *visitor {
	jar, err := cookiejar.New(nil)
	require.NoError(r, err)
	return &visitor{r.T, r.url, token, http.Client{Jar: jar}}
}

func (v *visitor) ask(method, path string, body, into any) (status int, text string) {
	v.Helper()
	raw, err := json.Marshal(body)
	require.NoError(v, err)
	req, err := newRequest(v.T, method, v.url+"/api/v1"+path, string(raw))
	require.NoError(v, err)
	if v.token != "" {
		req.Header.Set("Authorization", "Bearer "+v.token)
	}
	status, text = answerTo(v.T, &v.http, req)
	if into != nil && status < 300 {
		require.NoError(v, json.Unmarshal([]byte(text), into))
	}
	return status, text
}

func (v *visitor) signIn(name, secret string) (int, string) {
	v.Helper()
	return v.ask(http.MethodPost, "/session", map[string]string{"name": name, "password": secret}, nil)
}

func TestNothingIsToldToNobody(t *testing.T) {
	r := newRecord(t)
	nobody := r.visitor("")
	var api struct {
		Paths map[string]map[string]struct {
			OperationID string `json:"operationId"`
		}
	}
	r.get("/api/openapi.json", &api)
	open := []string{"sign-in", "sign-out", "get-session", "look-at-invitation", "join", "list-ways", "prove-code", "prove-passkey"} // the last two without a password first: see the tests of factors
	number := regexp.MustCompile(`\{\w+\}`)
	asked := 0
	for path, item := range api.Paths {
		for method, op := range item {
			if assert.NotEmpty(t, op.OperationID); slices.Contains(open, op.OperationID) {
				continue
			}
			status, text := nobody.ask(strings.ToUpper(method), strings.TrimPrefix(number.ReplaceAllString(path, "1"), "/api/v1"), map[string]any{}, nil)
			assert.Equal(t, http.StatusUnauthorized, status, "%s %s: %s", method, path, text)
			asked++
		}
	}
	assert.Greater(t, asked, 30)
	for _, path := range []string{"/events", "/blobs/" + strings.Repeat("0", 64), "/findings/1/difference.png", "/findings/1/thumbnail.png"} {
		status, text := nobody.ask(http.MethodGet, path, nil, nil)
		assert.Equal(t, http.StatusUnauthorized, status, path)
		assert.Contains(t, text, "Sign in first")
	}
	nobody.token = "tide_not-one"
	status, _ := nobody.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusUnauthorized, status, "a token that is none")
}

func TestARoleMayWhatItIsForAndNoMore(t *testing.T) {
	r := newRecord(t)
	for role, want := range map[people.Role]struct{ see, work, decide, administer int }{
		people.Observer:      {200, 403, 403, 403},
		people.Maintainer:    {200, 422, 403, 403}, // 422: a reason is missing
		people.Approver:      {200, 422, 409, 403}, // 409: of this change there is nothing to accept yet
		people.Administrator: {200, 422, 409, 200},
	} {
		v := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "a "+string(role), role), people.Administrator))
		status, _ := v.ask(http.MethodGet, fmt.Sprintf("/changes/%d", r.change), nil, nil)
		assert.Equal(t, want.see, status, role)
		status, text := v.ask(http.MethodPost, "/findings/1/accept", map[string]any{"accepted": true, "why": ""}, nil)
		assert.Equal(t, want.work, status, "%s: %s", role, text)
		status, text = v.ask(http.MethodPost, fmt.Sprintf("/changes/%d/accept", r.change), map[string]any{}, nil)
		assert.Equal(t, want.decide, status, "%s: %s", role, text)
		if want.decide == 403 {
			assert.Contains(t, text, string(role), "it says which role the person has")
		}
		status, _ = v.ask(http.MethodGet, "/people", nil, nil)
		assert.Equal(t, want.administer, status, role)
	}
	var change struct {
		Choices []struct {
			Event, Why string
			Allowed    bool
		}
	}
	v := r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "Otto", people.Observer), people.Observer))
	v.ask(http.MethodGet, fmt.Sprintf("/changes/%d", r.change), nil, &change)
	require.NotEmpty(t, change.Choices)
	for _, c := range change.Choices {
		assert.False(t, c.Allowed, "the interface is told beforehand: %s", c.Event)
		assert.NotEmpty(t, c.Why)
	}
}

func TestSigningInIsLockedAfterRepeatedFailures(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Vera", people.Approver)
	right := r.visitor("")
	status, text := right.signIn(" vera ", password)
	require.Equal(t, 200, status, text)
	status, _ = right.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 200, status)

	wrong := r.visitor("")
	var refusals []string
	for range people.DefaultLockOut.Tries {
		status, text = wrong.signIn("Vera", "three wrong words")
		assert.Equal(t, 401, status)
		refusals = append(refusals, text)
	}
	status, unknown := wrong.signIn("Nobody", "three wrong words")
	assert.Equal(t, 401, status)
	assert.Equal(t, refusals[0], unknown, "whether there is such a person is not told")
	status, text = wrong.signIn("Vera", password)
	assert.Equal(t, 429, status, "also with the right password")
	assert.Contains(t, text, "Try again after")
	status, _ = right.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 200, status, "who is in stays in")
	status, _ = right.ask(http.MethodDelete, "/session", nil, nil)
	assert.Equal(t, 204, status)
	status, _ = right.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 401, status, "signed out")
}

func TestAnInvitationWorksOnce(t *testing.T) {
	r := newRecord(t)
	admin := r.visitor(r.token)
	var made struct{ Link string }
	status, text := admin.ask(http.MethodPost, "/invitations", map[string]any{"role": "maintainer", "note": "Marin"}, &made)
	require.Equal(t, 201, status, text)
	secret := strings.TrimPrefix(made.Link, "/join#")
	guest := r.visitor("")
	join := func(v *visitor, name, secret, pass string) (int, string) {
		return v.ask(http.MethodPost, "/session/invited", map[string]string{"secret": secret, "name": name, "password": pass}, nil)
	}
	var inv struct{ Role, InvitedBy string }
	guest.ask(http.MethodPost, "/invitations/look", map[string]string{"secret": secret}, &inv)
	assert.Equal(t, "maintainer", inv.Role)
	status, text = join(guest, "Marin", secret, "short")
	assert.Equal(t, 422, status)
	assert.Contains(t, text, "body.password")
	status, text = join(guest, "ADA", secret, password)
	assert.Equal(t, 422, status, "somebody has the name; the invitation is not used up")
	assert.Contains(t, text, "take another")
	status, text = join(guest, "Marin", secret, password)
	require.Equal(t, 201, status, text)
	status, _ = guest.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 200, status, "signed in")
	status, text = join(r.visitor(""), "Second", secret, password)
	assert.Equal(t, 404, status)
	assert.Contains(t, text, "Ask an administrator")

	var list []struct {
		ID   int64
		Name string
	}
	admin.ask(http.MethodGet, "/people", nil, &list)
	for _, p := range list {
		if p.Name == "Marin" {
			status, text = admin.ask(http.MethodPut, fmt.Sprintf("/people/%d", p.ID), map[string]any{"role": "maintainer", "disabled": true}, nil)
			assert.Equal(t, 200, status, text)
		} else {
			status, text = admin.ask(http.MethodPut, fmt.Sprintf("/people/%d", p.ID), map[string]any{"role": "observer", "disabled": false}, nil)
			assert.Equal(t, 409, status, "somebody has to administer")
			assert.Contains(t, text, "Nothing was changed")
		}
	}
	status, _ = guest.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 401, status, "who is disabled is out at once")
	status, _ = guest.signIn("Marin", password)
	assert.Equal(t, 403, status)
	var lines []struct{ Who, Text string }
	admin.ask(http.MethodGet, "/people/history", nil, &lines)
	assert.Contains(t, lines[0].Text, "Disabled the account of Marin")
	assert.Equal(t, "ada (token tests)", lines[0].Who)

	admin.ask(http.MethodPost, "/invitations", map[string]any{"role": "observer"}, &made)
	var open []struct{ ID int64 }
	admin.ask(http.MethodGet, "/invitations", nil, &open)
	require.Len(t, open, 1)
	admin.ask(http.MethodDelete, fmt.Sprintf("/invitations/%d", open[0].ID), nil, nil)
	status, _ = join(r.visitor(""), "Late", strings.TrimPrefix(made.Link, "/join#"), password)
	assert.Equal(t, 404, status, "withdrawn")
}

func TestATokenMayWhatItWasMadeForUntilItIsRevoked(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Marin", people.Maintainer)
	marin := r.visitor("")
	marin.signIn("Marin", password)
	var made struct{ Secret string }
	status, text := marin.ask(http.MethodPost, "/tokens", map[string]any{"name": "nightly", "most": "administrator", "days": 30}, &made)
	require.Equal(t, 201, status, text)
	program := r.visitor(made.Secret)
	status, _ = program.ask(http.MethodGet, "/people", nil, nil)
	assert.Equal(t, 403, status, "never more than the person")
	status, text = program.ask(http.MethodPost, "/tokens", map[string]any{"name": "more", "most": "observer", "days": 1}, nil)
	assert.Equal(t, 403, status, text)
	var run runBody
	r.get(fmt.Sprintf("/api/v1/runs/%d", r.run), &run)
	status, _ = program.ask(http.MethodPost, fmt.Sprintf("/findings/%d/accept", run.id("picture")), map[string]any{"accepted": true, "why": "meant"}, &run)
	assert.Equal(t, 200, status)
	lines, err := r.store.History(t.Context(), r.site.ID, 0, 1)
	require.NoError(t, err)
	assert.Equal(t, "Marin (token nightly)", lines[0].Who)

	status, text = marin.ask(http.MethodGet, "/tokens", nil, nil)
	assert.Equal(t, 200, status)
	assert.NotContains(t, text, made.Secret)
	var tokens []struct{ ID int64 }
	require.NoError(t, json.Unmarshal([]byte(text), &tokens))
	status, _ = r.visitor(r.token).ask(http.MethodDelete, fmt.Sprintf("/tokens/%d", tokens[0].ID), nil, nil)
	assert.Equal(t, 404, status, "somebody else's")
	status, _ = marin.ask(http.MethodDelete, fmt.Sprintf("/tokens/%d", tokens[0].ID), nil, nil)
	assert.Equal(t, 204, status)
	status, _ = program.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 401, status)
}

func TestANewPasswordEndsOtherSessions(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Marin", people.Maintainer)
	here, there := r.visitor(""), r.visitor("")
	here.signIn("Marin", password)
	there.signIn("Marin", password)
	set := func(old, new string) (int, string) {
		return here.ask(http.MethodPut, "/session/password", map[string]string{"old": old, "new": new}, nil)
	}
	status, _ := set("not this one", "other words here")
	assert.Equal(t, 422, status)
	status, text := set(password, "marin marin")
	assert.Equal(t, 422, status, text)
	status, text = set(password, "other words here")
	assert.Equal(t, 204, status, text)
	status, _ = here.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 200, status)
	status, _ = there.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, 401, status)
}

func TestSomebodyIsInvitedAndCreatesAnAccount(t *testing.T) {
	d := newDesk(t)
	d.open("/people")
	d.see("h1", "^Sign in$")
	d.accessible("the sign-in")
	d.fill("#name", "Ada")
	d.fill("#password", "not the password")
	d.click("button", "^Sign in$")
	d.see("[role=alert]", "is not right")
	d.fill("#password", password)
	d.click("button", "^Sign in$")
	d.see("h1", "^People$") // where she wanted to go
	d.accessible("people")
	role := d.see("select.role", "administrator")
	require.NoError(t, role.Select([]string{"^observer$"}, true, rod.SelectorTypeRegex))
	d.see("[role=alert]", "nobody else is an administrator")
	assert.Equal(t, "administrator", role.MustProperty("value").Str(), "what was refused is not shown as if it were so")
	d.fill("#note", "Otto")
	d.click("label", "^observer reads")
	d.click("button", "^Create a link$")
	link := regexp.MustCompile(`http\S+/join#\S+`).FindString(d.see(".sheet", "/join#").MustText())
	require.NotEmpty(t, link)
	d.click("a", "^Ada$")
	d.see("h1", "^Ada$")
	d.accessible("one's own view")
	d.fill("#token", "nightly")
	d.click("button", "^Create a token$")
	d.see("code", "^tide_")
	d.click("button", "^Sign out$")
	d.see("h1", "^Sign in$")

	require.NoError(t, d.page.Timeout(patience).Navigate(link))
	d.see("h1", "^You are invited$")
	d.accessible("an invitation")
	d.fill("#name", "Otto")
	d.fill("#password", "otto is not here")
	d.click("button", "^Create account$")
	d.see("[role=alert]", "name")
	d.fill("#password", password)
	d.click("button", "^Create account$")
	d.see("a", "^Fernhollow$")
	d.click("a", "^Fernhollow$")
	d.see("h1", "^Fernhollow$")
	d.see("p", "As observer you can read everything")
	hasNew, _, err := d.page.HasR("button:not([disabled])", "New change|Take the first mark")
	require.NoError(t, err)
	assert.False(t, hasNew, "what an observer may not do is not offered")
	require.NoError(t, d.page.Timeout(patience).Navigate(link))
	d.see("[role=alert]", "This link has been used")
}
