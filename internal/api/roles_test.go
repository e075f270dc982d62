package api_test

import (
	"fmt"
	"net/http"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// A file that makes production the place where things are tried is read only when a
// person says that it is meant.
func TestASiteFileThatChangesRolesAsksFirst(t *testing.T) {
	d := newDesk(t)
	file := fmt.Sprintf(`site: Fernhollow
environments:
  - { name: staging, role: production, url: "%s", connector: { kind: http, url: "%s" } }
  - { name: production, role: staging, url: "%s", connector: { kind: http, url: "%s" } }
pages: [{ path: / }]`, d.staging.URL, d.staging.ConnectorURL(), d.production.URL, d.production.ConnectorURL())
	roles := func() (staging, production string) {
		envs, err := d.store.EnvironmentsByRole(d.Context(), 1)
		require.NoError(d, err)
		return envs.Staging.Name, envs.Production.Name
	}
	status, text := d.api(people.Maintainer).ask(http.MethodPost, "/sites", map[string]any{"file": file}, nil)
	assert.Equal(t, http.StatusConflict, status)
	assert.Contains(t, text, "staging would become production (it is staging)")
	staging, production := roles()
	assert.Equal(t, []string{"staging", "production"}, []string{staging, production}, "nothing was read")

	d.signIn("Ada", "/")
	d.click("button", "^Register a site file$")
	d.fill("[role=dialog] textarea", file)
	d.click("[role=dialog] button", "^Register")
	d.see("[role=dialog]", "production would become staging \\(it is production\\)")
	d.accessible("a site file that changes roles")
	d.click("[role=dialog] button", "^Register with these roles$")
	d.see("h1", "^Fernhollow$")
	staging, production = roles()
	assert.Equal(t, []string{"production", "staging"}, []string{staging, production})
}
