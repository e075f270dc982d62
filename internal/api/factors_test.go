package api_test

import (
	"fmt"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/go-rod/rod/lib/input"
	"github.com/go-rod/rod/lib/proto"
	"github.com/pquerna/otp/totp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// codeApp is somebody's telephone: it shows the codes of a secret.
type codeApp struct {
	*testing.T
	secret string
	ahead  time.Duration // how far its clock is ahead, so that a test need not wait for the next code
}

func (a *codeApp) shows() string {
	a.Helper()
	code, err := totp.GenerateCode(a.secret, time.Now().Add(a.ahead))
	require.NoError(a, err)
	return code
}

type sessionBody struct {
	Name, Needs string
	Abilities   []string
	Factors     []string
}

// withCodeApp adds a code app to whoever is signed in, and returns it with their recovery codes.
func (v *visitor) withCodeApp() (*codeApp, []string) {
	v.Helper()
	var begun struct {
		ID                       int64
		Secret, Address, Picture string
	}
	status, text := v.ask(http.MethodPost, "/factors/code-app", map[string]string{"name": "phone"}, &begun)
	require.Equal(v, http.StatusCreated, status, text)
	assert.Contains(v, begun.Address, "otpauth://totp/Tide%20Marker:")
	assert.True(v, strings.HasPrefix(begun.Picture, "data:image/png;base64,"))
	app := &codeApp{v.T, begun.Secret, -30 * time.Second}
	path := fmt.Sprintf("/factors/code-app/%d", begun.ID)
	status, text = v.ask(http.MethodPost, path, map[string]string{"code": "000000"}, nil)
	require.Equal(v, http.StatusUnprocessableEntity, status, text)
	var added struct {
		RecoveryCodes []string
		Factors       []struct{ ID int64 }
	}
	status, text = v.ask(http.MethodPost, path, map[string]string{"code": app.shows()}, &added)
	require.Equal(v, http.StatusOK, status, text)
	require.Len(v, added.Factors, 1)
	return app, added.RecoveryCodes
}

// code ends signing in with a code.
func (v *visitor) code(code string) (int, string) {
	v.Helper()
	return v.ask(http.MethodPost, "/session/code", map[string]string{"code": code}, nil)
}

func TestAPasswordAloneIsNotEnoughForWhoHasASecondFactor(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Maintainer)
	guest := r.visitor("")
	status, text := guest.signIn("Guest", password)
	require.Equal(t, http.StatusOK, status, text)
	app, recovery := guest.withCodeApp()
	require.Len(t, recovery, 10)

	other := r.visitor("")
	var s sessionBody
	status, text = other.ask(http.MethodPost, "/session", map[string]string{"name": "Guest", "password": password}, &s)
	require.Equal(t, http.StatusOK, status, text)
	assert.Equal(t, sessionBody{Needs: "second factor", Abilities: []string{}, Factors: []string{"code app"}}, s, "and nothing of who they are")
	for _, path := range []string{"/session", "/sites", "/factors", "/tokens"} {
		status, _ = other.ask(http.MethodGet, path, nil, nil)
		assert.Equal(t, http.StatusUnauthorized, status, path)
	}
	status, text = other.code(app.shows())
	assert.Equal(t, http.StatusUnprocessableEntity, status, "the code with which the app was added counts once: "+text)
	assert.Contains(t, text, "used already")
	app.ahead = 0
	status, text = other.code(app.shows())
	require.Equal(t, http.StatusOK, status, text)
	status, _ = other.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusOK, status)

	// A recovery code does as well, however it is typed, and once.
	third := r.visitor("")
	third.signIn("Guest", password)
	status, text = third.code(strings.ToUpper(strings.ReplaceAll(recovery[3], "-", " ")))
	require.Equal(t, http.StatusOK, status, text)
	fourth := r.visitor("")
	fourth.signIn("Guest", password)
	status, _ = fourth.code(recovery[3])
	assert.Equal(t, http.StatusUnprocessableEntity, status)
	status, text = fourth.ask(http.MethodPost, "/session/passkey/question", map[string]any{}, nil)
	assert.Equal(t, http.StatusConflict, status, text)

	status, text = r.visitor("").code("123456")
	assert.Equal(t, http.StatusUnauthorized, status, text)
}

// Who knows the password can guess at codes no more often than others at passwords, and cannot shut the person out.
func TestCodesAreNotGuessed(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Maintainer)
	guest, thief := r.visitor(""), r.visitor("")
	guest.signIn("Guest", password)
	app, _ := guest.withCodeApp()
	status := 0
	for n := range people.DefaultLockOut.Tries + 1 {
		if n%2 == 0 { // a new session, and whatever cookies it brings, gives no new tries
			thief.signIn("Guest", password)
		}
		status, _ = thief.code(fmt.Sprintf("%06d", n))
	}
	assert.Equal(t, http.StatusTooManyRequests, status)
	app.ahead = 0
	status, text := thief.code(app.shows())
	assert.Equal(t, http.StatusTooManyRequests, status, text)
	status, text = guest.signIn("Guest", password)
	require.Equal(t, http.StatusOK, status, text)
	status, text = guest.code(app.shows())
	assert.Equal(t, http.StatusOK, status, "in the browser that they use: "+text)
	r.visitor("").signIn("Guest", "typed where somebody looks on")
	for _, why := range []string{"second factor", "locked", "password"} {
		assert.Regexp(t, `a sign-in did not succeed" why="?`+why+`"? address=127\.0\.0\.1`, r.log.text())
	}
	assert.NotContains(t, r.log.text(), "typed where", "what was typed is in no log")
}

func TestARoleCanHaveToHaveASecondFactor(t *testing.T) {
	r := newRecord(t)
	administrator := r.visitor("")
	addPerson(t, r.store, "Root", people.Administrator)
	guestID := addPerson(t, r.store, "Guest", people.Approver)
	administrator.signIn("Root", password)
	guest := r.visitor("")
	guest.signIn("Guest", password)
	status, text := guest.ask(http.MethodGet, "/sites", nil, nil)
	require.Equal(t, http.StatusOK, status, text)
	status, text = administrator.ask(http.MethodPut, "/people/required-factors", map[string]any{"roles": []string{"approver", "approver"}}, nil)
	require.Equal(t, http.StatusOK, status, text)

	status, text = guest.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusForbidden, status, "from the next request on")
	assert.Contains(t, text, "Add one first")
	var s sessionBody
	guest.ask(http.MethodGet, "/session", nil, &s)
	assert.Equal(t, sessionBody{Name: "Guest", Needs: "enrolment", Abilities: []string{}}, s)
	status, _ = guest.ask(http.MethodPost, "/factors/recovery-codes", map[string]any{}, nil)
	assert.Equal(t, http.StatusForbidden, status)
	guest.withCodeApp()
	status, text = guest.ask(http.MethodGet, "/sites", nil, nil)
	require.Equal(t, http.StatusOK, status, text)
	var mine struct {
		Required bool
		Codes    int
		Factors  []struct{ ID int64 }
	}
	guest.ask(http.MethodGet, "/factors", nil, &mine)
	assert.True(t, mine.Required)
	assert.Equal(t, 10, mine.Codes)
	status, text = guest.ask(http.MethodDelete, fmt.Sprintf("/factors/%d", mine.Factors[0].ID), nil, nil)
	assert.Equal(t, http.StatusConflict, status, text)

	// Who has lost it all is helped by an administrator, and signed out everywhere.
	status, text = administrator.ask(http.MethodDelete, fmt.Sprintf("/people/%d/factors", guestID), nil, nil)
	require.Less(t, status, 300, text)
	status, _ = guest.ask(http.MethodGet, "/factors", nil, nil)
	assert.Equal(t, http.StatusUnauthorized, status)
	status, text = administrator.ask(http.MethodPut, "/people/required-factors", map[string]any{"roles": []string{}}, nil)
	require.Equal(t, http.StatusOK, status, text)
	guest.signIn("Guest", password)
	status, text = guest.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusOK, status, text)
	var lines []struct{ Text string }
	administrator.ask(http.MethodGet, "/people/history", nil, &lines)
	said := fmt.Sprint(lines)
	assert.Contains(t, said, "Have to have a second factor: approvers.")
	assert.Contains(t, said, "Removed all second factors of Guest.")
	assert.Contains(t, said, "Added the code app “phone”.")
}

// A person adds a passkey and a code app, and signs in with each. The browser's virtual authenticator signs as a real one does.
func TestAPasskeyIsAddedAndUsedInTheInterface(t *testing.T) {
	d := quillet(t)
	d.url = strings.Replace(d.url, "127.0.0.1", "localhost", 1) // a passkey belongs to a name
	require.NoError(t, proto.WebAuthnEnable{}.Call(d.page))
	_, err := proto.WebAuthnAddVirtualAuthenticator{Options: &proto.WebAuthnVirtualAuthenticatorOptions{Protocol: proto.WebAuthnAuthenticatorProtocolCtap2, Transport: proto.WebAuthnAuthenticatorTransportUsb,
		HasUserVerification: true, IsUserVerified: true, AutomaticPresenceSimulation: true}}.Call(d.page)
	require.NoError(t, err)
	require.NoError(t, d.store.RequireFactors(t.Context(), []people.Role{people.Administrator}))

	d.signIn("Ada", "/")
	d.see("p", "^Your role requires one")
	d.accessible("a second factor to be added first")
	d.fill("#factor-name", "security key")
	d.click("button", "^Add a passkey$")
	d.see(".once", "These are your recovery codes")
	d.see(".owned", "security key passkey")
	d.see("h2", "^Sessions$")

	d.click("button", "^Add a code app$")
	secret := d.see("code.secret", ".").MustText()
	app := &codeApp{t, strings.TrimSpace(secret), -30 * time.Second}
	d.fill("#first-code", app.shows())
	d.accessible("a code app that is being added")
	d.click("button", "^Add the app$")
	d.see(".owned", "Code app code app")
	d.click("button", "^Sign out$")
	d.see("h1", "^Sign in$")

	d.signIn("Ada", "/people")
	d.see("p", "Now your second factor")
	d.accessible("a second factor that is asked for")
	d.press(input.Enter) // what comes next has the focus
	d.see("h1", "^People$")
	d.see("td button", "^Remove$")
	d.accessible("who has a second factor")
	d.click("button", "^Sign out$")
	d.see("h1", "^Sign in$")

	d.signIn("Ada", "/people")
	d.fill("#code", "12345")
	d.click("button", "^Continue$")
	d.see("[role=alert]", "This code is not right")
	app.ahead = 0
	d.fill("#code", app.shows())
	d.click("button", "^Continue$")
	d.see("h1", "^People$")
	d.click("label", "^observers$")
	d.see("li", "Have to have a second factor: administrators, observers.")

	factors, err := d.store.Factors(t.Context(), d.person)
	require.NoError(t, err)
	require.Len(t, factors, 2)
	var raw string
	require.NoError(t, d.store.Pool.QueryRow(t.Context(), `SELECT string_agg(secret, ' ') FROM factors`).Scan(&raw))
	assert.NotContains(t, raw, app.secret, "what codes are made of is sealed")
	assert.Regexp(t, regexp.MustCompile(`"signCount":[1-9]`), factors[0].Secret, "that the passkey was used is known")
}
