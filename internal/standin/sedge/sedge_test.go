package sedge

import (
	"net/http"
	"net/http/httptest"
	"os"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/standin/origin"
)

func TestTheArchiveServesItsPagesAndAnAdministration(t *testing.T) {
	if !Installed() {
		t.Skip("python3-django is not installed; make corpus installs it")
	}
	a, err := New("", time.Now, origin.Desk{})
	require.NoError(t, err)
	get := func(path string) *httptest.ResponseRecorder {
		w := httptest.NewRecorder()
		a.ServeHTTP(w, httptest.NewRequest(http.MethodGet, path, nil))
		return w
	}
	assert.Contains(t, get("/").Body.String(), "24 letters, kept by hand")
	assert.Contains(t, get("/find?q=eels").Body.String(), "Of eels, the 1st")
	assert.Equal(t, http.StatusNotFound, get("/letters/none").Code)
	door := get("/admin/login/")
	assert.Contains(t, door.Body.String(), "csrfmiddlewaretoken")
	assert.NotEqual(t, door.Body.String(), get("/admin/login/").Body.String(), "its token is another each time")
	assert.Equal(t, http.StatusOK, get("/static/admin/css/base.css").Code)
	require.NoError(t, a.Close())
	_, err = os.Stat(a.home)
	assert.True(t, os.IsNotExist(err), "nothing is left")
}
