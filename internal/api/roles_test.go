package api_test

import (
	"fmt"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tidemarker/internal/core/people"
)

// rolesTable is where it is written down which role may do what.
const rolesTable = "../../docs/roles.md"

// leastRoles reads the table: of each operation the least role that may do it, "" for anybody, also who is not signed in.
func leastRoles(t *testing.T) map[string]people.Role {
	t.Helper()
	raw, err := os.ReadFile(rolesTable)
	require.NoError(t, err)
	out := map[string]people.Role{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([a-z-]+)` \\| ([a-z]+) \\|").FindAllStringSubmatch(string(raw), -1) {
		role := people.Role(m[2])
		if m[2] == "anybody" {
			role = ""
		}
		require.NotContains(t, out, m[1], "it is in the table twice")
		out[m[1]] = role
	}
	return out
}

// TestEachRoleMayWhatIsWrittenDown asks for each operation of the API's description as each role, with nothing that it could
// be done to: who may is told that there is nothing, or what is wrong, and who may not is refused. An operation that nobody
// decided about fails.
func TestEachRoleMayWhatIsWrittenDown(t *testing.T) {
	r := newRecord(t)
	var described struct {
		Paths map[string]map[string]struct{ OperationID string }
	}
	r.get("/api/openapi.json", &described)
	least := leastRoles(t)
	number := regexp.MustCompile(`\{\w+\}`)
	asked := map[string]bool{}
	for _, role := range append([]people.Role{""}, people.Roles...) {
		v := r.visitor("")
		if role != "" {
			v = r.visitor(tokenOf(t, r.store, addPerson(t, r.store, "a "+string(role), role), people.Administrator))
		}
		for path, item := range described.Paths {
			for method, op := range item {
				needed, decided := least[op.OperationID]
				if !assert.True(t, decided, "%s %s: write into %s which role may %s", method, path, rolesTable, op.OperationID) {
					continue
				}
				asked[op.OperationID] = true
				status, text := v.ask(strings.ToUpper(method), strings.TrimPrefix(number.ReplaceAllString(path, "999999"), "/api/v1"), map[string]any{}, nil)
				what := fmt.Sprintf("%s as %q: %s", op.OperationID, role, text)
				switch may := slices.Index(people.Roles, role) >= slices.Index(people.Roles, needed); {
				case needed == "":
					assert.NotEqual(t, http.StatusForbidden, status, what) // get-session tells nobody that they are nobody: 401
				case role == "":
					assert.Equal(t, http.StatusUnauthorized, status, what)
				case may:
					assert.NotContains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, status, what)
					assert.Less(t, status, 500, what)
				default:
					assert.Equal(t, http.StatusForbidden, status, what)
					assert.Contains(t, text, "This needs", what)
				}
			}
		}
	}
	for op := range least {
		assert.True(t, asked[op], "%s is in the table, and there is no such operation", op)
	}
	assert.Greater(t, len(asked), 100)
}
