package web

import (
	"context"
	"fmt"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"tidemarker/internal/core/release"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/store"
	"tidemarker/internal/work"
)

// move makes one move of a change and hands its runs in, the first one at once.
func (s *Server) move(ctx context.Context, situation release.Situation, c store.Change, e release.Event, explanation string) error {
	to, err := release.Apply(situation, e)
	if err != nil {
		return conflict(err)
	}
	ok, err := s.Store.MoveChange(ctx, c.ID, c.State, to, explanation)
	if err != nil {
		return err
	}
	if !ok {
		return huma.Error409Conflict("The change has moved on since. Load it again.")
	}
	return nil
}

func (s *Server) tryChange(ctx context.Context, situation release.Situation, c store.Change) error {
	if err := s.saveTarget(ctx, c); err != nil {
		return err
	}
	if err := s.move(ctx, situation, c, release.Try, "Being tried on staging."); err != nil {
		return err
	}
	staging, _, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return err
	}
	_, err = s.enqueue(ctx, store.Run{SiteID: c.SiteID, EnvironmentID: staging.ID, ChangeID: &c.ID, Kind: store.TryRun, Target: situation.Fingerprint, RequestedBy: who(ctx)}, staging.Name)
	return err
}

// saveTarget keeps the full set of values that a change would put in force.
func (s *Server) saveTarget(ctx context.Context, c store.Change) error {
	base, err := s.Store.Revision(ctx, c.SiteID, c.Base)
	if err != nil {
		return err
	}
	_, err = s.Store.SaveRevision(ctx, c.SiteID, base.With(c.Edits.V))
	return err
}

func (s *Server) promoteChange(ctx context.Context, _ release.Situation, c store.Change) error {
	return s.reachProduction(ctx, c, release.Promote, "Being promoted.")
}

func (s *Server) tidyChange(ctx context.Context, _ release.Situation, c store.Change) error {
	return s.reachProduction(ctx, c, release.Tidy, "The tidy is being carried out on production.")
}

func (s *Server) reachProduction(ctx context.Context, c store.Change, by release.Event, said string) error {
	staging, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return err
	}
	if staging.ID == production.ID {
		return huma.Error409Conflict("The site has only one environment; there is nowhere to promote to.")
	}
	// What is in force may have been changed since it was last read.
	for _, e := range []store.Environment{staging, production} {
		if _, _, err := s.Runner.Read(ctx, e.ID); err != nil {
			return err
		}
	}
	situation, c, err := work.SituationOf(ctx, s.Store, c.ID)
	if err != nil {
		return err
	}
	if err := s.move(ctx, situation, c, by, said); err != nil {
		return err
	}
	_, err = s.enqueue(ctx, store.Run{SiteID: c.SiteID, EnvironmentID: production.ID, ChangeID: &c.ID, Kind: store.PromoteRun, Target: situation.Fingerprint, RequestedBy: who(ctx)}, production.Name)
	return err
}

// rollBackChange puts back every environment that has the change: production first,
// since that is where visitors are.
func (s *Server) rollBackChange(ctx context.Context, situation release.Situation, c store.Change) error {
	staging, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return err
	}
	var runs []store.Run
	back := func(e store.Environment) error {
		m, err := s.markBefore(ctx, e, situation.Fingerprint)
		if err != nil {
			return err
		}
		runs = append(runs, store.Run{SiteID: c.SiteID, EnvironmentID: e.ID, ChangeID: &c.ID, Kind: store.RollBackRun, Target: m.Fingerprint, MarkID: &m.ID, RequestedBy: who(ctx)})
		return nil
	}
	onProduction := c.State == release.Promoted || c.State == release.Marked
	if onProduction && production.ID != staging.ID {
		if err := back(production); err != nil {
			return err
		}
	}
	if err := back(staging); err != nil {
		return err
	}
	if err := s.move(ctx, situation, c, release.RollBack, "Being rolled back."); err != nil {
		return err
	}
	var next *int64
	for i := len(runs) - 1; i >= 0; i-- {
		r := runs[i]
		r.NextID = next
		if i > 0 {
			r.State = store.Waiting
		}
		sum, err := s.enqueue(ctx, r, "")
		if err != nil {
			return err
		}
		next = &sum.ID
	}
	return nil
}

// markBefore is an environment's latest mark that is not of the given settings.
func (s *Server) markBefore(ctx context.Context, e store.Environment, fingerprint string) (store.Mark, error) {
	marks, err := s.Store.Marks(ctx, e.ID, 50)
	if err != nil {
		return store.Mark{}, err
	}
	for _, m := range marks {
		if m.Fingerprint != fingerprint {
			return m, nil
		}
	}
	return store.Mark{}, huma.Error409Conflict(fmt.Sprintf("%s has no mark from before this change to go back to.", e.Name))
}

// rebaseChange keeps of the edits what still differs from production.
func (s *Server) rebaseChange(ctx context.Context, situation release.Situation, c store.Change) error {
	to, err := release.Apply(situation, release.Rebase)
	if err != nil {
		return conflict(err)
	}
	base, err := s.Store.Revision(ctx, c.SiteID, situation.Production)
	if err != nil {
		return err
	}
	c.Base, c.State, c.Edits.V = situation.Production, to, settings.Edited(base, c.Edits.V)
	ok, err := s.Store.EditChange(ctx, c, c.Version)
	if err != nil {
		return err
	}
	if !ok {
		return huma.Error409Conflict("Somebody else edited this change just now. Look at it again.")
	}
	return s.Store.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &c.ID, Kind: "change", Who: who(ctx), Text: "Began the change “" + c.Title + "” again from what production has now."})
}

// splitChange keeps the first step and makes a change of each of the others, every one
// after the one before it.
func (s *Server) splitChange(ctx context.Context, situation release.Situation, c store.Change) error {
	if _, err := release.Apply(situation, release.Edit); err != nil {
		return conflict(err)
	}
	_, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return err
	}
	if production.Catalogue.V == nil || !production.Catalogue.V.Piled(c.Edits.V) {
		return huma.Error409Conflict("There is nothing to split: at most one thing that is risky is changed.")
	}
	steps := production.Catalogue.V.Split(c.Edits.V)
	var rest []store.Change
	for i, step := range steps {
		part := store.Change{SiteID: c.SiteID, Title: fmt.Sprintf("%s (%d of %d)", c.Title, i+1, len(steps)), Effect: c.Effect, Base: c.Base, Edits: store.JSON[settings.Values]{V: step.Edits}, CreatedBy: who(ctx)}
		part.Reason = strings.TrimSpace(fmt.Sprintf("Part of “%s”: %s. %s", c.Title, step.Title, c.Reason))
		rest = append(rest, part)
	}
	first := c
	first.Title, first.Edits, first.EditedBy = rest[0].Title, rest[0].Edits, who(ctx)
	ok, err := s.Store.SplitChange(ctx, first, rest[1:])
	if err != nil {
		return err
	}
	if !ok {
		return huma.Error409Conflict("Somebody else edited this change just now. Nothing was split; look at it again.")
	}
	return s.Store.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &c.ID, Kind: "change", Who: who(ctx), Text: fmt.Sprintf("Split the change “%s” into %d.", c.Title, len(steps))})
}

func (s *Server) discardChange(ctx context.Context, situation release.Situation, c store.Change) error {
	if err := s.move(ctx, situation, c, release.Discard, "Discarded."); err != nil {
		return err
	}
	return s.Store.Record(ctx, store.Event{SiteID: c.SiteID, ChangeID: &c.ID, Kind: "change", Who: who(ctx), Text: "Discarded the change “" + c.Title + "”."})
}

func (s *Server) acceptChange(ctx context.Context, situation release.Situation, c store.Change) error {
	if err := s.move(ctx, situation, c, release.Accept, "Accepted as it is by "+who(ctx)+"."); err != nil {
		return err
	}
	_, production, err := s.ends(ctx, c.SiteID)
	if err != nil {
		return err
	}
	runs, err := s.Store.ChangeRuns(ctx, c.ID)
	if err != nil {
		return err
	}
	last, err := s.Store.LatestMark(ctx, production.ID)
	if err != nil {
		return err
	}
	for _, r := range runs {
		if r.EnvironmentID == production.ID && r.Kind == store.PromoteRun && r.State == store.Done {
			_, err := s.Store.SaveMark(ctx, store.Mark{EnvironmentID: production.ID, RunID: r.ID, Fingerprint: production.Fingerprint, Who: who(ctx),
				Reason: "Accepted as it is: " + r.Summary, Restless: last.Restless, Probes: last.Probes})
			return err
		}
	}
	return nil
}
