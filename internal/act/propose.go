package act

import (
	"context"
	"strings"

	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
)

// Proposal is a set of values that may be put in force on an environment.
type Proposal struct {
	Environment store.Environment // as just read
	Difference  []settings.Difference
	Revision    string // fingerprint of all values, which are kept
}

// Propose reads an environment and keeps the values that edits would make of what it
// has. *[NotPossible] when they are not valid there, or when something newly stands in
// their way: a collision, a requirement, a host that lacks what they need.
func (a *Acts) Propose(ctx context.Context, envID int64, edits settings.Values) (Proposal, error) {
	env, found, err := a.Read(ctx, envID)
	if err != nil {
		return Proposal{}, err
	}
	if !a.Able(env).Applies {
		return Proposal{}, &NotPossible{"the settings of " + env.Name + " are changed by hand. Start a change: it becomes a checklist"}
	}
	if err := a.RefuseDrift(ctx, env); err != nil {
		return Proposal{}, &NotPossible{DriftText(env)}
	}
	target := found.Values.With(edits)
	p := Proposal{Environment: env, Difference: settings.Diff(found.Values, target)}
	if err := env.Catalogue.V.Validate(target); err != nil {
		return p, &NotPossible{err.Error()}
	}
	if why := env.Catalogue.V.Obstacles(found.Values, target, env.About.V.Facts.Host()); len(why) > 0 {
		return p, &NotPossible{strings.Join(why, " ")}
	}
	if len(env.Catalogue.V.Deletes(found.Values, target)) > 0 {
		backed, err := a.Store.BackedUp(ctx, envID)
		if err != nil {
			return p, err
		}
		if !backed {
			return p, &NotPossible{"it deletes data on " + env.Name + ", which no rollback restores. Record a backup there first, in the change's view"}
		}
	}
	p.Revision, err = a.Store.SaveRevision(ctx, env.SiteID, target)
	return p, err
}
