package run

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/sequential"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/core/site"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

const (
	// mostAnswers is how many answers a search asks for at most.
	mostAnswers = 60
	// mostRounds is how many rounds of looks one answer takes at most, and mostMissed how many of
	// them may see nothing.
	mostRounds = 8
	mostMissed = 2
	// firstSearchPass numbers the first round of looks of a search.
	firstSearchPass = 2000
	// byChance is how often something shows that the settings do not do; atLeast is how often it
	// shows at least that they do.
	byChance, atLeast, always = 0.02, 0.5, 0.98
)

// NoSearch says why what a run found cannot be searched for.
type NoSearch struct{ Why string }

func (e *NoSearch) Error() string { return e.Why }

// StartSearch begins to search for what in a change brought about what a run found. The error is
// a *[NoSearch] when that cannot be searched for.
func (w *Runner) StartSearch(ctx context.Context, ofRun int64, who string) (r store.Run, err error) {
	err = w.Store.Within(ctx, func(s *store.Store) error {
		r, err = w.startSearchIn(ctx, s, ofRun, who)
		return err
	})
	return r, err
}

func (w *Runner) startSearchIn(ctx context.Context, s *store.Store, ofRun int64, who string) (store.Run, error) {
	x, of, err := searchOf(ctx, s, ofRun)
	if err != nil {
		return store.Run{}, err
	}
	x.RunID, err = w.StartIn(ctx, s, store.Run{SiteID: of.SiteID, EnvironmentID: of.EnvironmentID, ChangeID: of.ChangeID, Kind: release.CulpritRun,
		Target: of.Target, PutBack: true, MarkID: of.MarkID, RequestedBy: who})
	if err != nil {
		return store.Run{}, err
	}
	if err := s.SaveSearch(ctx, x); err != nil {
		return store.Run{}, err
	}
	return s.Run(ctx, x.RunID)
}

// searchUnasked begins a search when a change has just broken staging, and the site says that the
// culprit is searched for without being asked.
func (r *run) searchUnasked(ctx context.Context, s *store.Store) error {
	if !r.site.FindCulprit || r.row.Kind != release.TryRun || r.row.ChangeID == nil || r.row.Verdict != evidence.VerdictBroken {
		return nil
	}
	_, err := r.startSearchIn(ctx, s, r.row.ID, r.row.RequestedBy)
	if _, none := errors.AsType[*NoSearch](err); none {
		return nil
	}
	return err
}

// searchOf is what there is to search about what a run found.
func searchOf(ctx context.Context, s *store.Store, ofRun int64) (store.Search, store.Run, error) {
	of, err := s.Run(ctx, ofRun)
	if err != nil {
		return store.Search{}, of, err
	}
	env, err := s.Environment(ctx, of.EnvironmentID)
	if err != nil {
		return store.Search{}, of, err
	}
	row, err := s.Site(ctx, of.SiteID)
	if err != nil {
		return store.Search{}, of, err
	}
	at, _, _ := row.Document.V.Environment(env.Name)
	none := func(why string, args ...any) error { return &NoSearch{fmt.Sprintf(why, args...)} }
	switch {
	case of.Kind != release.TryRun && of.Kind != release.CheckRun:
		return store.Search{}, of, none("Run %d tried no change. Search what a try or a check found.", ofRun)
	case !of.State.Over():
		return store.Search{}, of, none("Run %d is not over yet.", ofRun)
	case of.Verdict != evidence.VerdictBroken && of.Verdict != evidence.VerdictUnsure:
		return store.Search{}, of, none("Run %d found nothing broken: there is nothing to search for.", ofRun)
	case at.Role == site.Production:
		return store.Search{}, of, none("Visitors are on %s, which does not go back and forth. Try the change on staging and search there.", env.Name)
	}
	found, err := findingsOf(ctx, s, ofRun)
	if err != nil {
		return store.Search{}, of, err
	}
	if _, any := inspect.Seek(found); !any {
		return store.Search{}, of, none("What run %d found shows only to somebody who was there before the change, or later on. That is not searched for.", ofRun)
	}
	base, err := before(ctx, s, of)
	if err != nil {
		return store.Search{}, of, err
	}
	if base == "" {
		return store.Search{}, of, none("There are no earlier settings to go back to.")
	}
	was, err := s.Revision(ctx, of.SiteID, base)
	if err != nil {
		return store.Search{}, of, err
	}
	is, err := s.Revision(ctx, of.SiteID, of.Target)
	if err != nil {
		return store.Search{}, of, err
	}
	parts := culprit.Parts(was, is)
	if len(parts) < 2 {
		return store.Search{}, of, none("The change has one edit only: it is the culprit.")
	}
	if env.Catalogue.V == nil {
		return store.Search{}, of, none("The settings of %s have not been read yet.", env.Name)
	}
	p := store.SearchProblem{Parts: parts, Needs: culprit.NeedsOf(*env.Catalogue.V, env.About.V.Facts.Host(), was, parts), Likely: culprit.Likely(*env.Catalogue.V, parts, found), Most: mostAnswers}
	return store.Search{OfRunID: ofRun, Base: base, Problem: store.JSON[store.SearchProblem]{V: p}}, of, nil
}

// before is the fingerprint of what an environment had before what a run looked at.
func before(ctx context.Context, s *store.Store, of store.Run) (string, error) {
	if of.Before != "" && of.Before != of.Target {
		return of.Before, nil
	}
	if of.ChangeID != nil {
		placed, err := s.Placed(ctx, of.EnvironmentID)
		if err != nil {
			return "", err
		}
		if way, there := release.Back(release.Record(placed), *of.ChangeID); there && way.To != of.Target {
			return way.To, nil
		}
	}
	if of.MarkID != nil {
		m, err := s.Mark(ctx, *of.MarkID)
		if err != nil || m.Fingerprint == of.Target {
			return "", err
		}
		return m.Fingerprint, nil
	}
	return "", nil
}

func findingsOf(ctx context.Context, s *store.Store, run int64) ([]evidence.Finding, error) {
	rows, err := s.Findings(ctx, run)
	out := make([]evidence.Finding, 0, len(rows))
	for _, f := range rows {
		out = append(out, f.Document.V)
	}
	return out, err
}

// searching is a search under way.
type searching struct {
	*run
	about  store.Search
	base   settings.Values
	sought inspect.Sought
	test   sequential.Test
}

// search tries parts of the change until it is known what breaks the site. Each answer is kept
// at once, so that a search which was cut off goes on and tries nothing twice.
func (r *run) search(ctx context.Context) error {
	x, err := r.Store.Search(ctx, r.row.ID)
	if err != nil {
		return err
	}
	s := &searching{run: r, about: x}
	if s.base, err = r.Store.Revision(ctx, r.row.SiteID, x.Base); err != nil {
		return err
	}
	found, err := findingsOf(ctx, r.Store, x.OfRunID)
	if err != nil {
		return err
	}
	s.sought, _ = inspect.Seek(found)
	s.test = sequential.Test{Lower: byChance, Upper: min(always, max(atLeast, s.sought.Rate)), Alpha: 0.05, Beta: 0.05}
	for {
		if err := r.stopIfAsked(ctx); err != nil {
			return err
		}
		answers, err := r.Store.SearchAnswers(ctx, r.row.ID)
		if err != nil {
			return err
		}
		step := culprit.Next(x.Problem.V.Problem(), known(answers, theCulprit))
		if err := r.Store.SaveSearchStep(ctx, r.row.ID, step); err != nil {
			return err
		}
		now, err := r.Store.Search(ctx, r.row.ID)
		if err != nil {
			return err
		}
		var lists []culprit.Excluding
		if step.Ask == nil && !now.Enough {
			again, err := s.exclude(ctx, now, answers)
			if err != nil {
				return err
			}
			if again {
				r.progress.Send(ctx, true)
				continue
			}
			if now, err = r.Store.Search(ctx, r.row.ID); err != nil {
				return err
			}
			lists = now.Exclusions.V
		}
		if step.Ask == nil || now.Enough {
			r.row.Verdict, r.row.Summary = Concluded(x.Problem.V.Parts, step, len(answers), now.Enough && step.Ask != nil, r.cat)
			r.row.Summary += excluded(lists, r.cat)
			r.row.Progress.V.Looks = r.progress.Looks()
			return nil
		}
		a, err := s.answer(ctx, step, firstSearchPass+len(answers)*mostRounds)
		if err != nil {
			return err
		}
		if err := r.Store.SaveSearchAnswer(ctx, a); err != nil {
			return err
		}
		r.progress.Send(ctx, true)
	}
}

// theCulprit is what answers of the search for the culprit have for a search for exclusions.
const theCulprit = -1

// known are the answers of the search for the culprit, or of one for exclusions.
func known(answers []store.SearchAnswer, of int) []culprit.Answer {
	var out []culprit.Answer
	for _, a := range answers {
		if a.Excluding != of {
			continue
		}
		out = append(out, culprit.Answer{Parts: a.Parts.V, Outcome: a.Outcome})
	}
	return out
}

// answer finds out what some parts of the change come to: from an earlier run, or by looking.
func (s *searching) answer(ctx context.Context, step culprit.Step, pass int) (store.SearchAnswer, error) {
	values := culprit.Put(s.base, pick(s.about.Problem.V.Parts, step.Ask))
	now := fmt.Sprintf("Trying %d of %d edits; about %d more tries", len(step.Ask), len(s.about.Problem.V.Parts), step.Left)
	return s.find(ctx, store.SearchAnswer{RunID: s.row.ID, Excluding: theCulprit, Parts: store.JSON[[]int]{V: step.Ask}}, values, now, pass)
}

// find finds out what some settings come to.
func (s *searching) find(ctx context.Context, a store.SearchAnswer, values settings.Values, now string, pass int) (store.SearchAnswer, error) {
	began := time.Now()
	if obstacles := s.cat.Obstacles(s.base, values, s.env.About.V.Facts.Host()); len(obstacles) > 0 {
		a.Outcome, a.Why = culprit.Undecided, "These cannot be put in force together: "+strings.Join(obstacles, " ")
		return a, nil
	}
	var err error
	if a.Fingerprint, err = s.Store.SaveRevision(ctx, s.row.SiteID, values); err != nil {
		return a, err
	}
	if there, err := s.earlierAnswer(ctx, &a); err != nil || there {
		return a, err
	}
	s.progress.Say(ctx, "searching", now)
	if _, err := s.turn(ctx, release.ActSearch, a.Fingerprint); err != nil {
		if no, is := errors.AsType[*inspect.NoTurn](err); is {
			a.Outcome, a.Why = culprit.Undecided, no.Error()
			return a, nil
		}
		return a, err
	}
	err = s.look(ctx, &a, pass)
	a.Seconds = time.Since(began).Seconds()
	return a, err
}

// earlierAnswer takes what an earlier run or search knows.
func (s *searching) earlierAnswer(ctx context.Context, a *store.SearchAnswer) (there bool, err error) {
	if a.Fingerprint == s.about.Base {
		a.Outcome = culprit.Passes
		return true, nil
	}
	if s.row.MarkID != nil {
		switch r, err := s.Store.KnownOf(ctx, s.row.EnvironmentID, *s.row.MarkID, a.Fingerprint); {
		case err == nil:
			a.Outcome, a.FromRunID = culprit.Passes, &r.ID
			if r.Verdict == evidence.VerdictBroken {
				a.Outcome = culprit.Fails
			}
			return true, nil
		case !errors.Is(err, store.ErrNotFound):
			return false, err
		}
	}
	switch had, err := s.Store.SearchedBefore(ctx, s.about.OfRunID, a.Fingerprint); {
	case err == nil:
		a.Outcome, a.Shown, a.Rounds, a.FromRunID = had.Outcome, had.Shown, had.Rounds, &had.RunID
		return true, nil
	case !errors.Is(err, store.ErrNotFound):
		return false, err
	}
	return false, nil
}

// look looks round after round until a sequential test decides whether what is sought shows.
func (s *searching) look(ctx context.Context, a *store.SearchAnswer, pass int) error {
	i := s.inspection()
	var err error
	if i.Compared, err = s.compared(ctx); err != nil {
		return err
	}
	if err := i.PurgeFor(ctx, s.sought); err != nil {
		return err
	}
	missed := 0
	for n := range mostRounds {
		shown, looked, err := i.Look(ctx, s.sought, pass+n)
		if err != nil {
			return err
		}
		if !looked {
			if missed++; missed == mostMissed {
				a.Outcome, a.Why = culprit.Undecided, "It could not be looked at."
				return nil
			}
			continue
		}
		a.Rounds++
		if len(shown) > 0 {
			a.Shown++
		}
		switch s.test.Decide(a.Shown, a.Rounds-a.Shown) {
		case sequential.Upper:
			a.Outcome = culprit.Fails
			return nil
		case sequential.Lower:
			a.Outcome = culprit.Passes
			return nil
		}
	}
	a.Outcome, a.Why = culprit.Undecided, fmt.Sprintf("It showed in %d of %d rounds of looks.", a.Shown, a.Rounds)
	return nil
}

func pick(parts []culprit.Part, which []int) []culprit.Part {
	out := make([]culprit.Part, 0, len(which))
	for _, i := range which {
		out = append(out, parts[i])
	}
	return out
}

// Concluded says what a search came to: broken with the culprits, clear when the whole change
// breaks nothing any more, unsure when it could not be decided or somebody had enough.
func Concluded(parts []culprit.Part, step culprit.Step, checks int, enough bool, c settings.Catalogue) (evidence.Verdict, string) {
	name := func(which []int) string {
		var out []string
		for _, i := range which {
			out = append(out, Named(c, parts[i]))
		}
		return strings.Join(out, " together with ")
	}
	var found []string
	for _, set := range step.Culprits {
		found = append(found, name(set))
	}
	took := fmt.Sprintf("%d tries.", checks)
	switch {
	case step.Clear:
		return evidence.VerdictClear, "Not broken: the whole change was looked at again, and what was found does not show. " + took
	case len(found) == 0:
		return evidence.VerdictUnsure, fmt.Sprintf("Not found: it is among %d of %d edits. %s", max(1, len(step.Suspected)), len(parts), took)
	}
	said := "Culprit: "
	if len(found) > 1 {
		said = "Culprits: "
	}
	said += strings.Join(found, "; ") + ". "
	switch {
	case enough || step.Stuck:
		said += "There may be others. "
	case len(step.Innocent) > 0:
		said += fmt.Sprintf("The other %d break nothing. ", len(step.Innocent))
	}
	return evidence.VerdictBroken, said + took
}

// Named is a part as people know it: by its setting's title.
func Named(c settings.Catalogue, p culprit.Part) string {
	d, known := c.Find(p.Key)
	title := p.Key
	if known {
		title = d.Title
	}
	switch {
	case p.Entry != "" && p.Removed:
		return fmt.Sprintf("%s without “%s”", title, p.Entry)
	case p.Entry != "":
		return fmt.Sprintf("%s with “%s”", title, p.Entry)
	case known && d.Type == settings.Switch:
		if on, _ := p.Value.(bool); !on {
			return title + " off"
		}
		return title
	}
	if known && d.Type == settings.Seconds {
		return fmt.Sprintf("%s: %s s", title, settings.Shown(p.Value))
	}
	return fmt.Sprintf("%s: %s", title, settings.Shown(p.Value))
}
