package evidence

import (
	"fmt"
	"slices"
	"strings"
)

// OnlyReturning are what somebody sees who was here before the change, and who has an empty
// browser does not: it comes of what their browser kept. now is their look, of a pass.
func OnlyReturning(found, fresh []Finding, now PageLook, pass int) []Finding {
	var out []Finding
	for _, f := range found {
		if f.Severity == Note || f.Kind == NotCheckedKind || f.Shows(fresh) {
			continue
		}
		switch f.Kind {
		case PictureKind, ContentKind, ScriptErrorKind, MissingKind, RequestKind:
		default:
			continue // how it moves while it loads, and what its head says, is the others' to tell
		}
		kept := keptRequests(now)
		f.Title = "Returning visitors: " + lowerFirst(f.Title)
		f.Detail = strings.TrimSpace(f.Detail + " A browser that is here for the first time does not have it." + listed(" Not asked for again: ", kept))
		f.Pass, f.Region = pass, nil
		cause := "what browsers keep"
		if len(kept) > 0 {
			cause = kept[0]
		}
		out = append(out, f.caused("here before: "+cause))
	}
	return out
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

// NotWarm are the findings of a look at a page just after it was purged that looks at it once
// it was warm do not have.
func NotWarm(cold, warm []Finding) []Finding {
	return slices.DeleteFunc(slices.Clone(cold), func(f Finding) bool {
		return f.Severity == Note || f.Kind == PolicyKind || f.Kind == NotCheckedKind || f.Shows(warm)
	})
}

// FirstAfterPurge says of such findings what they are, with the pass that shows them.
func FirstAfterPurge(found []Finding, pass int) []Finding {
	var out []Finding
	for _, f := range found {
		cause := f.Part
		f.Title = "The first visitor after a purge: " + lowerFirst(f.Title)
		f.Detail = strings.TrimSpace(f.Detail + " Once the page is warm it is not so. Twice of two.")
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
