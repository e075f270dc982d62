package run

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/culprit"
	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/settings"
	"tidemarker/internal/inspect"
	"tidemarker/internal/store"
)

// exclude goes on with the searches for the fewest exclusions with which a culprit may stay, by
// one answer; again is false when there is nothing more to ask.
func (s *searching) exclude(ctx context.Context, x store.Search, answers []store.SearchAnswer) (again bool, err error) {
	lists := x.Exclusions.V
	if len(lists) == 0 {
		if lists = s.excluding(x); len(lists) == 0 {
			return false, nil
		}
	}
	for i, list := range lists {
		if list.Over {
			continue
		}
		if slices.ContainsFunc(lists[:i], func(e culprit.Excluding) bool { return e.Culprit == list.Culprit && len(e.Fewest) > 0 }) {
			lists[i].Over, lists[i].Needless = true, true
			if err := s.Store.SaveExclusions(ctx, s.row.ID, lists); err != nil {
				return false, err
			}
			continue
		}
		// That a culprit may stay has to be so everywhere. What is tried on the way is looked at where it shows best, and the
		// fewest that come of it once more everywhere; when something shows there after all, all further tries look there.
		everywhere := slices.ContainsFunc(answers, func(a store.SearchAnswer) bool { return a.Excluding == i && a.Rest && a.Outcome == culprit.Fails })
		s.sought, everywhere = seekFor(s.found, everywhere)
		s.quick = inspect.SeekQuickly(s.found)
		counted := answers
		if everywhere { // that nothing showed counts only where it was looked for everywhere
			counted = slices.DeleteFunc(slices.Clone(answers), func(a store.SearchAnswer) bool { return a.Outcome == culprit.Passes && !a.Rest })
		}
		lists[i] = culprit.NextExclusions(list, known(counted, i))
		if fewest := lists[i].Fewest; lists[i].Over && len(fewest) > 0 {
			switch seen := everywhereWith(answers, i, fewest); seen {
			case culprit.Passes:
			case culprit.Undecided, culprit.Fails: // nobody knows whether it may stay
				lists[i].Fewest = []int{}
			default:
				lists[i].Over, lists[i].Fewest, lists[i].Ask, lists[i].Left, everywhere = false, []int{}, fewest, 1, true
				s.sought, _ = inspect.Seek(s.found, true)
			}
		}
		if err := s.Store.SaveExclusions(ctx, s.row.ID, lists); err != nil {
			return false, err
		}
		if lists[i].Over {
			return true, nil
		}
		values := culprit.Excluded(s.withoutOthers(x, list.Culprit), lists[i], lists[i].Ask)
		now := fmt.Sprintf("Trying with %d of %d excluded; about %d more tries", len(lists[i].Ask), len(list.Candidates), lists[i].Left)
		a, err := s.find(ctx, store.SearchAnswer{RunID: s.row.ID, Excluding: i, Rest: everywhere, Parts: store.JSON[[]int]{V: lists[i].Ask}}, values, now, firstSearchPass+len(answers)*mostRounds)
		if err != nil {
			return false, err
		}
		return true, s.Store.SaveSearchAnswer(ctx, a)
	}
	return false, nil
}

// seekFor is what is looked for where it shows best, or everywhere; wide says that it is everywhere, also where it shows in
// no more places than that.
func seekFor(found []evidence.Finding, everywhere bool) (s inspect.Sought, wide bool) {
	all, _ := inspect.Seek(found, true)
	few, _ := inspect.Seek(found, false)
	if everywhere || len(few.Places()) == len(all.Places()) {
		return all, true
	}
	return few, false
}

// everywhereWith is what looking everywhere with these excluded came to; "" when nobody did.
func everywhereWith(answers []store.SearchAnswer, list int, which []int) culprit.Outcome {
	for _, a := range answers {
		if a.Excluding == list && a.Rest && slices.Equal(a.Parts.V, which) {
			return a.Outcome
		}
	}
	return ""
}

// excluding are the searches that there are to be: for each culprit of one setting that has a
// list of what is excluded from it.
func (s *searching) excluding(x store.Search) []culprit.Excluding {
	var out []culprit.Excluding
	for i, set := range x.Step.V.Culprits {
		for _, n := range set {
			p := x.Problem.V.Parts[n]
			d, known := s.cat.Find(p.Key)
			if !known || p.Entry != "" || !d.Active(p.Value) {
				continue
			}
			before := len(out)
			for _, list := range culprit.ExclusionLists(s.cat, d.Role) {
				candidates := culprit.Candidates(list, s.run.base.Look, s.found, s.withoutOthers(x, i).Strings(list.Key), s.predicted)
				if len(candidates) > 0 {
					out = append(out, culprit.Excluding{Culprit: i, Key: list.Key, Candidates: candidates, Fewest: []int{}})
				}
			}
			if len(out) > before {
				break
			}
		}
	}
	return out
}

// withoutOthers is the whole change without the culprits but one, and without what needs them.
func (s *searching) withoutOthers(x store.Search, keep int) settings.Values {
	p := x.Problem.V
	var gone []int
	for i, set := range x.Step.V.Culprits {
		if i != keep {
			gone = append(gone, set...)
		}
	}
	for changed := true; changed; {
		changed = false
		for i, needs := range p.Needs {
			if !slices.Contains(gone, i) && slices.ContainsFunc(needs, func(n int) bool { return slices.Contains(gone, n) }) {
				gone, changed = append(gone, i), true
			}
		}
	}
	var parts []culprit.Part
	for i, part := range p.Parts {
		if !slices.Contains(gone, i) {
			parts = append(parts, part)
		}
	}
	return culprit.Put(s.base, parts)
}

// excluded says what has to be excluded so that the culprits may stay.
func excluded(lists []culprit.Excluding, c settings.Catalogue) string {
	said := ""
	for _, x := range lists {
		if x.Needless {
			continue
		}
		d, _ := c.Find(x.Key)
		var patterns []string
		for _, i := range x.Fewest {
			patterns = append(patterns, "“"+x.Candidates[i].Pattern+"”")
		}
		if len(patterns) > 0 {
			said += fmt.Sprintf(" With %s in “%s” it may stay", strings.Join(patterns, " and "), d.Title)
			if x.Rough {
				said += "; fewer may do"
			}
			said += "."
		} else if x.Over {
			said += fmt.Sprintf(" It breaks with all %d candidates in “%s” excluded, too.", len(x.Candidates), d.Title)
		}
	}
	return said
}
