package api

import (
	"context"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/people"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/site"
	"tidemarker/internal/store"
)

// furtherBack is what somebody is told who may not put production back so far.
const furtherBack = " A maintainer puts production back only to what it had before the latest promotion."

// mayRestore lets everybody who works restore production to what it had before the latest promotion, and only those who
// decide about production restore it to anything else. Other environments may be restored to anything.
func (s *Server) mayRestore(ctx context.Context, env store.Environment, to string) error {
	role := callerOf(ctx).role
	if env.Role != site.Production || role.May(people.Decide) {
		return nil
	}
	placed, err := s.Store.Placed(ctx, env.ID)
	if err != nil {
		return err
	}
	if before, ok := release.BeforeLatestPromotion(placed); ok && before == to {
		return nil
	}
	return huma.Error403Forbidden((&people.Forbidden{Ability: people.Decide, Role: role}).Error() + furtherBack)
}

// mayRollBack is [Server.mayRestore] for every environment that rolling a change back restores.
func (s *Server) mayRollBack(ctx context.Context, change int64) error {
	if callerOf(ctx).role.May(people.Decide) {
		return nil
	}
	plan, err := s.Changes.PlanRollBack(ctx, change)
	if err != nil {
		return err
	}
	for _, b := range plan.Backs {
		if err := s.mayRestore(ctx, b.Environment, b.Way.To); err != nil {
			return err
		}
	}
	return nil
}

// permittedBack says of the ways back of a change why this person may not take them.
func (s *Server) permittedBack(ctx context.Context, change int64, choices []release.Choice) {
	for i, c := range choices {
		if !c.Allowed || c.Event != release.RollBack && c.Event != release.RollBackAll {
			continue
		}
		if err := s.mayRollBack(ctx, change); err != nil {
			choices[i].Allowed, choices[i].Why = false, err.Error()
		}
	}
}
