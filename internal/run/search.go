package run

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/prediction"
	"tidemarker/internal/core/release"
	"tidemarker/internal/core/sequential"
	"tidemarker/internal/core/settings"
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
)

// searching is a search under way.
type searching struct {
	*run
	about  store.Search
	base   settings.Values
	found  []evidence.Finding // what is searched for
	sought inspect.Sought
	// quick is where what is sought shows soonest. It is looked at first, and all the rest only when it does not show
	// there; nil where each place is asked for anyway.
	quick *inspect.Sought
	// predicted is what was predicted of what is searched for.
	predicted []prediction.Held
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
	if s.found, err = findingsOf(ctx, r.Store, x.OfRunID); err != nil {
		return err
	}
	if s.predicted, err = predictedOf(ctx, r.Store, x.OfRunID); err != nil {
		return err
	}
	s.sought, _ = inspect.Seek(s.found, false)
	for over := false; !over; {
		if err := r.stopIfAsked(ctx); err != nil {
			return err
		}
		if over, err = s.goOn(ctx); err != nil {
			return err
		}
		r.progress.Send(ctx, true)
	}
	return nil
}

// goOn asks for one more answer, and comes to the search's end when there is nothing more to ask.
func (s *searching) goOn(ctx context.Context) (over bool, err error) {
	answers, err := s.Store.SearchAnswers(ctx, s.row.ID)
	if err != nil {
		return false, err
	}
	if err := s.narrow(ctx, answers, false); err != nil {
		return false, err
	}
	step := culprit.Next(s.about.Problem.V.Problem(), culprit.Holding(known(answers, theCulprit), s.sought.Places()))
	if err := s.Store.SaveSearchStep(ctx, s.row.ID, step); err != nil {
		return false, err
	}
	now, err := s.Store.Search(ctx, s.row.ID)
	if err != nil {
		return false, err
	}
	switch {
	case now.Enough:
	case step.Ask != nil:
		if err := s.narrow(ctx, answers, step.Rest); err != nil {
			return false, err
		}
		a, err := s.answer(ctx, step, firstSearchPass+len(answers)*mostRounds)
		if err != nil {
			return false, err
		}
		return false, s.Store.SaveSearchAnswer(ctx, a)
	default:
		again, err := s.exclude(ctx, now, answers)
		if err != nil || again {
			return false, err
		}
		if now, err = s.Store.Search(ctx, s.row.ID); err != nil {
			return false, err
		}
	}
	s.row.Verdict, s.row.Summary = concluded(s.about.Problem.V.Parts, step, len(answers), now.Enough && step.Ask != nil, s.cat)
	s.row.Summary += excluded(now.Exclusions.V, s.cat)
	s.row.Progress.V.Looks = s.progress.Looks()
	return true, nil
}

// narrow says what is looked for next: what was found; all of it wherever it showed, when it is to
// be known whether anything is left beside the culprits; and what was left then, once something was.
func (s *searching) narrow(ctx context.Context, answers []store.SearchAnswer, everywhere bool) error {
	left := s.found
	for _, a := range answers {
		if !a.Rest || a.Excluding != theCulprit || a.Outcome != culprit.Fails {
			continue
		}
		if len(a.Findings.V) == 0 && a.FromRunID != nil { // something else, which the culprits had hidden
			other, err := findingsOf(ctx, s.Store, *a.FromRunID)
			if err != nil {
				return err
			}
			if _, any := inspect.Seek(other, false); any {
				left = other
			}
			continue
		}
		if len(a.Findings.V) > 0 {
			left = slices.DeleteFunc(slices.Clone(s.found), func(f evidence.Finding) bool { return !slices.Contains(a.Findings.V, f.Fingerprint) })
		}
	}
	s.sought, _ = inspect.Seek(left, everywhere)
	return nil
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
		out = append(out, culprit.Answer{Parts: a.Parts.V, Outcome: a.Outcome, Looked: a.Looked.V})
	}
	return out
}

// answer finds out what some parts of the change come to: from an earlier run, or by looking.
func (s *searching) answer(ctx context.Context, step culprit.Step, pass int) (store.SearchAnswer, error) {
	values := culprit.Put(s.base, pick(s.about.Problem.V.Parts, step.Ask))
	now := fmt.Sprintf("Trying %d of %d edits; about %d more tries", len(step.Ask), len(s.about.Problem.V.Parts), step.Left)
	return s.find(ctx, store.SearchAnswer{RunID: s.row.ID, Excluding: theCulprit, Rest: step.Rest, Parts: store.JSON[[]int]{V: step.Ask}}, values, now, pass)
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
			return true, s.ofRun(ctx, a, r)
		case !errors.Is(err, store.ErrNotFound):
			return false, err
		}
	}
	switch had, err := s.Store.SearchedBefore(ctx, s.about.OfRunID, a.Fingerprint, a.Rest, s.sought.Places()); {
	case err == nil:
		a.Looked, a.Outcome, a.Findings, a.Shown, a.Rounds, a.FromRunID = had.Looked, had.Outcome, had.Findings, had.Shown, had.Rounds, &had.RunID
		if had.FromRunID != nil && len(had.Findings.V) == 0 {
			a.FromRunID = had.FromRunID
		}
		return true, nil
	case !errors.Is(err, store.ErrNotFound):
		return false, err
	}
	return false, nil
}

// ofRun is what an earlier run with the same settings says of what is sought: it looked everywhere. What it found besides
// counts only when it is asked whether anything is left beside the culprits, which may have hidden it; then that is
// what is sought from there on.
func (s *searching) ofRun(ctx context.Context, a *store.SearchAnswer, r store.Run) error {
	a.Outcome, a.FromRunID = culprit.Passes, &r.ID
	if r.Verdict != evidence.VerdictBroken {
		return nil
	}
	found, err := findingsOf(ctx, s.Store, r.ID)
	if err != nil {
		return err
	}
	a.Findings.V = s.sought.Among(found)
	if len(a.Findings.V) > 0 || a.Rest {
		a.Outcome = culprit.Fails
	}
	return nil
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
	a.Looked.V = s.sought.Places()
	missed, drawn := 0, true
	for n := range mostRounds {
		shown, looked, err := s.once(ctx, i, pass+n, a.Excluding != theCulprit)
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
			a.Findings.V = shown
			drawn = drawn && s.sought.OnlyDrawn(shown)
		}
		switch culprit.TestOf(s.sought.Rate, drawn).Decide(a.Shown, a.Rounds-a.Shown) {
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

// once looks once for what is sought. For exclusions it is enough that something shows: then it is looked first where that
// is soonest, and no further than the first thing that does.
func (s *searching) once(ctx context.Context, i *inspect.Inspection, pass int, any bool) (shown []string, looked bool, err error) {
	if !any {
		return i.Look(ctx, s.sought, pass)
	}
	if s.quick != nil {
		if shown, looked, err = i.LookUntilShown(ctx, *s.quick, pass); err != nil || len(shown) > 0 {
			return shown, looked, err
		}
	}
	return i.LookUntilShown(ctx, s.sought, pass)
}

func pick(parts []culprit.Part, which []int) []culprit.Part {
	out := make([]culprit.Part, 0, len(which))
	for _, i := range which {
		out = append(out, parts[i])
	}
	return out
}

// concluded says what a search came to: broken with the culprits, clear when the whole change
// breaks nothing any more, unsure when it could not be decided or somebody had enough.
func concluded(parts []culprit.Part, step culprit.Step, checks int, enough bool, c settings.Catalogue) (evidence.Verdict, string) {
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
	if checks == 1 {
		took = "1 try."
	}
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
	case len(step.Innocent) == 1:
		said += "The other breaks nothing. "
	case len(step.Innocent) > 1:
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
	return fmt.Sprintf("%s: %s", title, d.Shown(p.Value))
}
