package people

import (
	"fmt"
	"slices"
	"strings"
)

// Role is what a person is to the team. Each role may do all that the ones before it
// may.
type Role string

// The roles, from the one that may least.
const (
	Observer      Role = "observer"      // reads and exports
	Maintainer    Role = "maintainer"    // edits settings, runs checks, adds exclusions, rolls back
	Approver      Role = "approver"      // approves or refuses what reaches visitors
	Administrator Role = "administrator" // says who the others are
)

// Roles are all roles in order.
var Roles = []Role{Observer, Maintainer, Approver, Administrator}

// Ability is what an operation asks of the one who wants it.
type Ability string

// The abilities.
const (
	See        Ability = "see"        // read everything that was recorded
	Work       Ability = "work"       // take sites on, edit and try changes, take marks, roll back
	Decide     Ability = "decide"     // put on production, and take as it is what a person must judge
	Administer Ability = "administer" // invite people, give them roles, keep them out
)

var least = map[Ability]Role{See: Observer, Work: Maintainer, Decide: Approver, Administer: Administrator}

// Known tells whether there is such a role.
func (r Role) Known() bool { return slices.Contains(Roles, r) }

// May tells whether the role has an ability. A role or ability that is not known has
// and gives none.
func (r Role) May(a Ability) bool {
	needed, known := least[a]
	return known && r.Known() && slices.Index(Roles, r) >= slices.Index(Roles, needed)
}

// Capped is the lesser of two roles: what somebody may do with a token that was made
// to do at most so much.
func (r Role) Capped(most Role) Role {
	if !r.Known() || !most.Known() {
		return ""
	}
	return Roles[min(slices.Index(Roles, r), slices.Index(Roles, most))]
}

// Forbidden is the error of somebody who lacks an ability; it says who has it.
type Forbidden struct {
	Ability Ability
	Role    Role
}

func (e *Forbidden) Error() string {
	from := slices.Index(Roles, least[e.Ability])
	var who []string
	for _, r := range Roles[from:] {
		who = append(who, "an "+string(r))
	}
	if from == 1 {
		who[0] = "a maintainer"
	}
	return fmt.Sprintf("This needs %s. You are signed in as %s.", strings.Join(who, " or "), article(e.Role))
}

func article(r Role) string {
	switch r {
	case "":
		return "nobody"
	case Maintainer:
		return "a maintainer"
	}
	return "an " + string(r)
}
