package evidence

import (
	"fmt"
	"slices"
	"strings"
)

// OnlyReturning describes findings that only somebody has who was here before, with the pass that shows them. now is their look.
func OnlyReturning(found []Finding, now PageLook, pass int) []Finding {
	var out []Finding
	for _, f := range found {
		if !slices.Contains([]Kind{PictureKind, ContentKind, ScriptErrorKind, MissingKind, RequestKind}, f.Kind) {
			continue // how it moves while it loads is the others' to tell
		}
		kept := keptRequests(now)
		f.Title = "Returning visitors: " + lowerFirst(f.Title)
		f.Detail = strings.TrimSpace(f.Detail + " New visitors just before and just after do not have it." + listed(" Not asked for again: ", kept))
		f.Pass, f.Region = pass, nil
		cause := "what browsers keep"
		if len(kept) > 0 {
			cause = kept[0]
		}
		out = append(out, f.caused("here before: "+cause))
	}
	return out
}

// AlsoEarlier notes that somebody who comes again has it with the earlier settings, too: it is not the change's.
func (f Finding) AlsoEarlier() Finding {
	f.Severity = Note
	f.Detail = strings.TrimSpace(f.Detail + " Somebody who comes again has it with the earlier settings, too: it is not the change's.")
	return f
}

// keptRequests are the styles, scripts and documents that a browser had from before.
func keptRequests(p PageLook) []string {
	var out []string
	for _, r := range p.Requests {
		if r.Kept && slices.Contains([]string{"document", "stylesheet", "script"}, r.Kind) {
			out = append(out, pathOf(r.URL))
		}
	}
	return unique(out)
}

// NotTheirsYet tells of somebody who was here before, signed in, and is shown the page without
// what is theirs, although who signs in with an empty browser is shown it.
func NotTheirsYet(base Baseline, first, now PageLook, private []string, pass int) []Finding {
	m, known := base.Look.Page(now.Key)
	if !known || m.Missing != "" || now.Missing != "" || first.Missing != "" {
		return nil
	}
	var gone []string
	for _, text := range private {
		if has(m.Lines, text) && has(first.Lines, text) && !has(now.Lines, text) {
			gone = append(gone, text)
		}
	}
	if len(gone) == 0 {
		return nil
	}
	f := now.about(StaleKind, Broken, fmt.Sprintf("A returning visitor who signs in as %s is not shown what is theirs", now.Persona)).
		with("Their browser had the page from before; it lacks%s%s", listed(" ", gone), listed(" Not asked for again: ", keptRequests(now))).caused("here before: signed in")
	f.Pass = pass
	return []Finding{f}
}

// Against compares looks at one page with others of it that were made in turn with them, under the same settings: it returns what each of
// these shows against each of the others. What differs within either side changes by itself, and is left out: so neither a seat
// that is sold in between nor several of them are taken for a difference between the sides. Only findings of what people see or what
// fails are returned. It fails when a picture cannot be had.
func (b Baseline) Against(these, others []PageLook, pictures Pictures) ([]Finding, error) {
	var err error
	for _, side := range [][]PageLook{these, others} {
		for i := 1; i < len(side); i++ {
			if b, err = b.Relearn(side[i-1], side[i], pictures); err != nil {
				return nil, err
			}
		}
	}
	var out []Finding
	for i, this := range these {
		for j, other := range others {
			if this.Missing != "" || other.Missing != "" {
				return nil, nil
			}
			against := b
			against.Look = Look{}.With(other)
			found, err := ComparePage(against, this, pictures)
			if err != nil {
				return nil, err
			}
			if i+j == 0 {
				out = slices.DeleteFunc(found, func(f Finding) bool { return !f.seen() })
				continue
			}
			out = slices.DeleteFunc(out, func(f Finding) bool { return !f.Shows(found) })
		}
	}
	return out, nil
}

// seen tells whether a finding is of what people see, or of what fails.
func (f Finding) seen() bool {
	return f.Severity != Note && f.Kind != PolicyKind && f.Kind != NotCheckedKind
}

// Candidates are findings of a look that are not among those of another, as far as people see them: what [Baseline.Against] is asked about.
func Candidates(found, known []Finding) []Finding {
	return slices.DeleteFunc(slices.Clone(found), func(f Finding) bool { return !f.seen() || f.Shows(known) })
}

// OfKinds are the findings of a kind that one of the others has.
func OfKinds(found, others []Finding) []Finding {
	return slices.DeleteFunc(slices.Clone(found), func(f Finding) bool {
		return !slices.ContainsFunc(others, func(g Finding) bool { return g.Kind == f.Kind })
	})
}

// FirstAfterPurge describes findings that follow the state of the cache, with the pass that shows them.
func FirstAfterPurge(found []Finding, pass int) []Finding {
	var out []Finding
	for _, f := range found {
		cause := f.Part
		f.Title = "The first visitor after a purge: " + lowerFirst(f.Title)
		f.Detail = strings.TrimSpace(f.Detail + " Visitors right after, when the page was cached, did not have it: first and cached in turn, two of two.")
		f.Pass = pass
		out = append(out, f.caused("first after a purge: "+cause))
	}
	return out
}

// NotPublishedYet tells of somebody who was here before and is shown a page from their own
// browser that lacks what was published meanwhile, although the site serves it. word is what
// tells the edit; now is their look, of a pass.
func NotPublishedYet(p Probe, now PageLook, word string, pass int) []Finding {
	if now.Missing != "" || len(p.Second.PrivateTexts) == 0 || has(now.Lines, word) {
		return nil
	}
	kept := slices.ContainsFunc(now.Requests, func(r Request) bool { return r.Kept && r.Kind == "document" })
	if !kept {
		return nil // it was asked for, and what was answered is the others' to tell
	}
	f := now.about(StaleKind, Broken, "A returning visitor is not shown what was published").
		with("“%s” was published, and the site serves it. Their browser did not ask, since it may keep the page.", p.Edit).caused("here before: release")
	f.Pass = pass
	return []Finding{f}
}
