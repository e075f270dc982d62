package site

import (
	"fmt"
	"slices"
	"strings"
)

// Role says what an environment is for.
type Role string

// The roles. A site has at most one staging and one production.
const (
	Staging    Role = "staging"    // changes are tried there, and publishing tests made
	Production Role = "production" // visitors are there; only what was checked reaches it
	OtherRole  Role = "other"      // it is looked at, and nothing is tried or promoted there
)

// withRoles says what is meant where a document says no role at all: of several
// environments the first is staging, the last production and all between are others, as
// site files were read before they could say it; a sole one is production, where nothing
// is tried, unless it is named staging. Once a role is said, an environment without one
// is an other.
func withRoles(envs []Environment) []Environment {
	said := slices.ContainsFunc(envs, func(e Environment) bool { return e.Role != "" })
	out := slices.Clone(envs)
	for i := range out {
		switch {
		case out[i].Role != "":
		case said:
			out[i].Role = OtherRole
		case len(out) == 1 && out[i].Name != string(Staging):
			out[i].Role = Production
		case i == 0:
			out[i].Role = Staging
		case i == len(out)-1:
			out[i].Role = Production
		default:
			out[i].Role = OtherRole
		}
	}
	return out
}

// WithRoles is the document with the role of each environment said.
func (s Site) WithRoles() Site {
	s.Environments = withRoles(s.Environments)
	return s
}

func (s Site) roleFaults() []string {
	var out []string
	names := map[Role][]string{}
	for _, e := range s.Environments {
		names[e.Role] = append(names[e.Role], fmt.Sprintf("%q", e.Name))
	}
	for _, r := range []Role{Staging, Production} {
		if len(names[r]) > 1 {
			out = append(out, fmt.Sprintf("environments: %s have the role %s; one can have it", strings.Join(names[r], " and "), r))
		}
	}
	return out
}

// WithRole returns the environment that has a role.
func (s Site) WithRole(r Role) (Environment, bool) {
	for _, e := range s.Environments {
		if e.Role == r {
			return e, true
		}
	}
	return Environment{}, false
}

// RoleChange is an environment that another document gives another role.
type RoleChange struct {
	Environment string `json:"environment"`
	From        Role   `json:"from"`
	To          Role   `json:"to"`
}

// RoleChanges lists the environments of both documents whose role differs.
func RoleChanges(before, after Site) []RoleChange {
	var out []RoleChange
	for _, e := range after.Environments {
		if was, _, known := before.Environment(e.Name); known && was.Role != e.Role {
			out = append(out, RoleChange{e.Name, was.Role, e.Role})
		}
	}
	return out
}

// RolesChanged is the error of a document that changes roles without anybody having said
// that this is meant: where something is tried, and where visitors are, would change.
type RolesChanged struct{ Changes []RoleChange }

func (e *RolesChanged) Error() string {
	parts := make([]string, len(e.Changes))
	for i, c := range e.Changes {
		parts[i] = fmt.Sprintf("%s would become %s (it is %s)", c.Environment, c.To, c.From)
	}
	return strings.Join(parts, "; ") + ". Changes are tried and tests published on staging, and visitors are on production. Confirm it if that is meant"
}
