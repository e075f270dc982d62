package api_test

import (
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"tidemarker/internal/api"
	"tidemarker/internal/core/people"
	"tidemarker/internal/store"
)

const password = "three words here"

var passwordHash = sync.OnceValues(func() (string, error) { return api.HashPassword(password) })

// addPerson puts somebody in who signs in with the password above.
func addPerson(t *testing.T, st *store.Store, name string, role people.Role) int64 {
	t.Helper()
	hash, err := passwordHash()
	require.NoError(t, err)
	id, err := st.AddPerson(t.Context(), name, hash, role)
	require.NoError(t, err)
	return id
}

func tokenOf(t *testing.T, st *store.Store, person int64, most people.Role) string {
	t.Helper()
	secret, err := st.NewToken(t.Context(), store.Token{PersonID: person, Name: "tests", Most: most})
	require.NoError(t, err)
	return secret
}

func newRequest(t *testing.T, method, url, body string) (*http.Request, error) {
	t.Helper()
	req, err := http.NewRequestWithContext(t.Context(), method, url, strings.NewReader(body))
	if err == nil {
		req.Header.Set("Content-Type", "application/json")
	}
	return req, err
}

func answer(t *testing.T, req *http.Request) (status int, body string) {
	t.Helper()
	return answerTo(t, http.DefaultClient, req)
}

func answerTo(t *testing.T, c *http.Client, req *http.Request) (status int, body string) {
	t.Helper()
	res, err := c.Do(req)
	require.NoError(t, err)
	defer res.Body.Close()
	raw, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return res.StatusCode, string(raw)
}
