package evidence

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/httpcache"
)

// age is how old an answer says it is; known is false when it does not say.
func (a Answer) age() (d time.Duration, known bool) { return httpcache.ParseAge(a.Fields["age"]) }

// tolerance is by how much an age may be off: it is told in whole seconds.
const tolerance = 2 * time.Second

// leftFindings tell of somebody who signed out and is shown what was theirs all the same.
func leftFindings(base Baseline, p Probe) []Finding {
	if len(p.Second.PrivateTexts) == 0 {
		return nil
	}
	if m, there := base.earlier(p); there && len(m.Fresh.PrivateTexts) > 0 && len(p.Fresh.PrivateTexts) > 0 {
		return nil // the site itself went on showing it when the mark was taken
	}
	if len(p.Fresh.PrivateTexts) > 0 {
		return []Finding{p.about(LeakKind, Broken, p.Persona+" signed out and is still known").
			with("With what the browser had left after signing out, the page, generated fresh, was answered with %s", listed("", p.Second.PrivateTexts)).caused("known after signing out")}
	}
	return []Finding{p.about(LeakKind, Broken, "What belongs to "+p.Persona+" is shown after signing out").
		with("With what the browser had left after signing out, a cached copy came with %s Generated fresh, the page has none of it. %s.", listed("", p.Second.PrivateTexts), p.Second.CacheNote).caused("shown after signing out")}
}

// ignoredFindings tell of a page that is generated fresh because of a parameter that the
// settings ignore, and was not when the mark was taken.
func ignoredFindings(base Baseline, p Probe) []Finding {
	m, there := base.earlier(p)
	if !there || !m.Second.Served.FromCache() || !p.Second.Served.FromOrigin() {
		return nil
	}
	return []Finding{p.about(VariantKind, Note, fmt.Sprintf("With %q the page is generated fresh", p.Parameter)).
		with("The settings ignore the parameter, and when the mark was taken the cached copy came. %s.", p.Second.CacheNote).caused("ignored parameter")}
}

// oldFindings tell of a page that is served when it is older than it may be, and of a
// form on it that can no longer be sent.
func oldFindings(p Probe) []Finding {
	if !p.First.Served.FromCache() {
		return nil
	}
	var out []Finding
	age, told := p.First.age()
	if told && p.FormLives > 0 && slices.ContainsFunc(p.First.Tokens, func(t string) bool { return !slices.Contains(p.Fresh.Tokens, t) }) {
		e := httpcache.Exchange{Method: "GET", Status: p.First.Status, Request: httpcache.Header{}, Response: httpcache.Header{}}
		for _, c := range e.Contradictions(httpcache.Seen{Served: httpcache.Cached, Token: age, Expires: time.Duration(p.FormLives) * time.Second}) {
			out = append(out, p.about(FormKind, Broken, "A form is served that can no longer be sent").
				with("%s %s.", c.Text, p.First.CacheNote).caused(string(c.Kind)))
		}
	}
	may := time.Duration(p.Allowed) * time.Second
	if !told || p.Allowed == 0 || age <= may+tolerance {
		return out
	}
	if again, told := p.Second.age(); !p.Second.Served.FromCache() || told && again <= may+tolerance {
		return out // it was generated fresh meanwhile, as it is where an old copy is served once more
	}
	return append(out, p.about(StaleKind, Broken, "Is served when it is older than it may be").
		with("A copy came that was %s old. %s %s.", age, p.Rule, p.First.CacheNote).caused("older than it may be"))
}

// publishedFindings tell of a page that does not show in time what was published.
func publishedFindings(base Baseline, p Probe) []Finding {
	if len(p.Fresh.PrivateTexts) == 0 {
		return []Finding{p.about(NotCheckedKind, Unsure, "An edit does not show here at all").
			with("“%s” was published, but the page, generated fresh, does not have the word made up for it. Is this a page that shows it?", p.Edit).caused("edit not shown")}
	}
	if len(p.Second.PrivateTexts) > 0 || p.Allowed < 0 || p.Waited < float64(p.Allowed) {
		return nil // it shows, or may take longer than was waited
	}
	severity, before := Broken, ""
	if m, there := base.earlier(p); there && len(m.Second.PrivateTexts) == 0 && m.Waited >= float64(m.Allowed) {
		severity, before = Note, " It was not when the mark was taken, either."
	}
	return []Finding{p.about(StaleKind, severity, "An edit is not shown in time").
		with("“%s” was published; %.1f s later the page was as before. %s Generated fresh, it shows it.%s %s.", p.Edit, p.Waited, p.Rule, before, p.Second.CacheNote).caused("edit not shown in time")}
}

// LateForm tells of a journey that fails on pages as they were cached and works once they
// are generated fresh: what it sends is refused because of what a cached page had in it.
func LateForm(cached, anew JourneyLook) []Finding {
	failed := cached.Outcome.Failed()
	if cached.Missing != "" || anew.Missing != "" || failed < 0 || anew.Outcome.Failed() >= 0 {
		return nil
	}
	step := cached.Outcome.Steps[failed]
	f := cached.about(FormKind, Broken, cached.Journey+": a form from a cached page is refused").
		with("With the pages as they were cached, “%s” failed: %s With the same pages generated fresh it works.", step.Step, step.Why)
	f.Step = &failed
	return []Finding{f.caused(cached.Journey + ", from cached pages")}
}

// NotTakenBack tells of an edit that was published to prove something and stayed.
func NotTakenBack(k Key, edit, why string) []Finding {
	f := k.about(NotCheckedKind, Unsure, "An edit could not be taken back").with("“%s” was published and stays until somebody takes it back: %s", edit, why)
	return []Finding{f.caused("not taken back: " + edit)}
}

// TakenBackLate is such a finding once the edit was taken back with the earlier settings: nothing
// stays, and who publishes could not do their work with the change.
func TakenBackLate(f Finding) Finding {
	f.Kind, f.Title = JourneyKind, "An edit could be taken back with the earlier settings only"
	return f.with("%s It is taken back now.", strings.Replace(f.Detail, "and stays until somebody takes it back", "and could not be taken back with the change", 1))
}
