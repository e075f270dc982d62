package api_test

import (
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
)

func TestOpenSessionsAreListedAndEnded(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Vera", people.Approver)
	addPerson(t, r.store, "Otto", people.Observer)
	in := func(name string) *visitor {
		v := r.visitor("")
		status, text := v.signIn(name, password)
		require.Equal(t, http.StatusOK, status, text)
		return v
	}
	list := func(v *visitor) []api.OpenSession {
		var open []api.OpenSession
		status, text := v.ask(http.MethodGet, "/session/open", nil, &open)
		require.Equal(t, http.StatusOK, status, text)
		return open
	}
	here, there, third, otto := in("Vera"), in("Vera"), in("Vera"), in("Otto")
	open := list(here)
	require.Len(t, open, 3, "their own, and nobody else's")
	this := 0
	var other string
	for _, o := range open {
		assert.NotEmpty(t, o.Key)
		assert.Contains(t, o.Browser, "Go-http-client")
		assert.Equal(t, "127.0.0.1", o.Address)
		if o.This {
			this++
			continue
		}
		other = o.Key
	}
	assert.Equal(t, 1, this)
	status, _ := otto.ask(http.MethodDelete, "/session/open/"+other, nil, nil)
	assert.Equal(t, http.StatusNotFound, status, "nobody ends another's")
	status, text := here.ask(http.MethodDelete, "/session/open/"+other, nil, nil)
	require.Equal(t, http.StatusNoContent, status, text)
	assert.Len(t, list(here), 2)
	status, _ = here.ask(http.MethodDelete, "/session/open/"+other, nil, nil)
	assert.Equal(t, http.StatusNotFound, status)
	status, _ = here.ask(http.MethodDelete, "/session/open/others", nil, nil)
	require.Equal(t, http.StatusNoContent, status)
	assert.Len(t, list(here), 1)
	for _, v := range []*visitor{there, third} {
		status, _ := v.ask(http.MethodGet, "/sites", nil, nil)
		assert.Equal(t, http.StatusUnauthorized, status, "it is over at once")
	}
	status, _ = otto.ask(http.MethodGet, "/sites", nil, nil)
	assert.Equal(t, http.StatusOK, status)
}

// TestADatabaseThatCannotBeReachedIsSaid: of nobody is said that they are signed out, or that what they asked for failed, when that
// is not known.
func TestADatabaseThatCannotBeReachedIsSaid(t *testing.T) {
	r := newRecord(t)
	addPerson(t, r.store, "Guest", people.Observer)
	guest := r.visitor("")
	status, text := guest.signIn("Guest", password)
	require.Equal(t, http.StatusOK, status, text)
	r.store.Pool.Close()
	for _, v := range []*visitor{guest, r.visitor(r.token)} {
		status, text = v.ask(http.MethodGet, "/sites", nil, nil)
		assert.Equal(t, http.StatusServiceUnavailable, status)
		assert.Contains(t, text, `"detail":"Tide Marker cannot reach its database.`)
	}
}
