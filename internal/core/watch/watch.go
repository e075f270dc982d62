// Package watch plans how a promotion is watched after it, and says what late findings come of.
//
// Some breakage shows only when something has grown old: a cached page that is made anew, a form on one that outlived its token,
// what a browser kept from an earlier visit. [New] gives each look a time for such a reason; in between and after it looks at
// growing intervals. A late finding is the change's only as far as that can be shown ([Hold]): a site has news, too.
package watch

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/evidence"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/core/httpcache"
	"tidemarker/internal/core/words"
)

// Reason is what a look is for.
type Reason string

// The reasons.
const (
	FirstExpiry Reason = "first expiry" // the shortest lifetime of what is cached is over
	LastExpiry  Reason = "last expiry"  // the longest is
	Expiry      Reason = "expiry"       // another one is
	FormsAged   Reason = "forms"        // forms on cached pages may be too old to be sent
	Browsers    Reason = "browsers"     // what browsers keep has lived its time
	Routine     Reason = "routine"      // at growing intervals, with what browsers keep
	Final       Reason = "final"        // at the end of the watch
)

// Look is one look of a watch.
type Look struct {
	After int       `json:"after" doc:"Seconds after the promotion."`
	For   []Purpose `json:"for"`
}

// Purpose is one reason of a look, with what is known of it.
type Purpose struct {
	Reason Reason   `json:"reason" enum:"first expiry,last expiry,expiry,forms,browsers,routine,final"`
	Why    string   `json:"why"`
	Pages  []string `json:"pages,omitempty"`
}

// Aged tells whether something has grown old by then: pages are asked for as they are cached, which takes them out of the cache in
// the end. Other looks leave what is cached as it is.
func (l Look) Aged() bool {
	return slices.ContainsFunc(l.For, func(c Purpose) bool { return c.Reason != Routine && c.Reason != Browsers })
}

// Lives is for how long browsers keep something without asking for it again.
type Lives struct {
	Seconds int
	What    []string // addresses
}

// LivesOf are the lifetimes of what browsers keep: the shortest and the longest of documents, and of everything else.
func LivesOf(kept []httpcache.Stored) []Lives {
	by := map[int][]string{}
	for _, document := range []bool{true, false} {
		of := slices.DeleteFunc(slices.Clone(kept), func(s httpcache.Stored) bool { return (s.Kind == "document") != document })
		if len(of) == 0 {
			continue
		}
		shorter := func(a, b httpcache.Stored) int { return a.Lifetime() - b.Lifetime() }
		shortest, longest := slices.MinFunc(of, shorter).Lifetime(), slices.MaxFunc(of, shorter).Lifetime()
		for _, s := range of {
			if l := s.Lifetime(); (l == shortest || l == longest) && !slices.Contains(by[l], s.URL) {
				by[l] = append(by[l], s.URL)
			}
		}
	}
	var out []Lives
	for _, l := range slices.Sorted(maps.Keys(by)) {
		out = append(out, Lives{l, by[l]})
	}
	return out
}

const (
	// Longest is for how long a promotion can be watched.
	Longest = 31 * 24 * time.Hour
	// mostLooks is how many looks a watch has, those at the end of an interval left out first.
	mostLooks = 24
	// together is how near two looks are for one to do for both: within this part of the time since the promotion, or a minute.
	together = 20
)

// thinning is when it is looked without any other reason. Common practice: most of what breaks late shows within the first hour.
var thinning = []time.Duration{10 * time.Minute, time.Hour, 4 * time.Hour, 12 * time.Hour, 24 * time.Hour, 3 * 24 * time.Hour, 7 * 24 * time.Hour, 14 * 24 * time.Hour}

// New plans the looks of a watch, the earliest first: a look at the end of each lifetime that ends within the period, some in
// between, and one at its end. lives are the lifetimes of what browsers keep.
func New(period time.Duration, moments []exclusion.Moment, lives []Lives) []Look {
	end := int(min(period, Longest).Seconds())
	var wanted []Look
	add := func(after int, c Purpose) {
		if after > 0 && after < end {
			wanted = append(wanted, Look{after, []Purpose{c}})
		}
	}
	var expiries []exclusion.Moment
	for _, m := range moments {
		if m.Kind == exclusion.FormsAged {
			add(m.After, Purpose{FormsAged, m.Why, m.Pages})
		} else {
			expiries = append(expiries, m)
		}
	}
	slices.SortFunc(expiries, func(a, b exclusion.Moment) int { return a.After - b.After })
	for i, m := range expiries {
		reason := Expiry
		switch {
		case m.After == expiries[0].After:
			reason = FirstExpiry
		case m.After == expiries[len(expiries)-1].After && i > 0:
			reason = LastExpiry
		}
		add(m.After, Purpose{reason, m.Why, m.Pages})
	}
	for _, l := range lives {
		add(l.Seconds+max(2, l.Seconds/together), Purpose{Browsers, fmt.Sprintf("Browsers keep %s for %s without asking.", some(l.What), words.Span(l.Seconds)), nil})
	}
	for _, at := range thinning {
		add(int(at.Seconds()), Purpose{Routine, "Nothing grows old just now; a browser comes again that was here at the promotion.", nil})
	}
	slices.SortStableFunc(wanted, func(a, b Look) int { return cmp.Compare(a.After, b.After) })
	out := joined(wanted)
	for len(out) > mostLooks-1 {
		i := slices.IndexFunc(out, func(l Look) bool { return len(l.For) == 1 && l.For[0].Reason == Expiry })
		if i < 0 {
			i = len(out) - 1
		}
		out = slices.Delete(out, i, i+1)
	}
	if end <= 0 {
		return nil
	}
	if n := len(out); n > 0 && near(out[n-1].After, end) {
		out[n-1] = Look{end, append(out[n-1].For, Purpose{Final, "The watch ends.", nil})}
		return out
	}
	return append(out, Look{end, []Purpose{{Final, "The watch ends.", nil}}})
}

// joined makes one look of those that are near each other, at the time of the later one. A look that has another reason is no
// routine one.
func joined(wanted []Look) []Look {
	var out []Look
	first := 0 // when the earliest of those in the last one was wanted
	for _, l := range wanted {
		if n := len(out); n > 0 && near(first, l.After) {
			out[n-1] = Look{l.After, append(out[n-1].For, l.For...)}
			continue
		}
		out, first = append(out, l), l.After
	}
	for i, l := range out {
		reasoned := slices.DeleteFunc(slices.Clone(l.For), func(c Purpose) bool { return c.Reason == Routine })
		if len(reasoned) > 0 {
			out[i].For = reasoned
		}
	}
	return out
}

func near(a, b int) bool { return b-a <= max(60, a/together) }

// some names a few of many.
func some(what []string) string {
	said := strings.Join(what[:min(2, len(what))], ", ")
	if n := len(what) - 2; n > 0 {
		said += fmt.Sprintf(" and %d more", n)
	}
	return said
}

// Blame says what a late finding comes of.
type Blame string

// The blames.
const (
	OfChange Blame = "change"    // staging shows it, too, with the same settings and without the site's news
	OfSite   Blame = "site"      // staging has the same settings and does not show it: the site has news
	Unknown  Blame = "not known" // nobody can tell
)

// Late is a late finding, held against staging with the same settings.
type Late struct {
	Finding int64             `json:"finding"`
	Title   string            `json:"title"`
	Page    string            `json:"page"`
	Kind    evidence.Kind     `json:"kind"`
	Weight  evidence.Severity `json:"severity" enum:"broken,unsure,note"`
	Blame   Blame             `json:"blame" enum:"change,site,not known"`
	Why     string            `json:"why"`
}

// Hold says what a late finding comes of. there is what staging shows with the same settings; looked is false when it was not
// looked at with them, and why says why not.
//
// What does not work any more stays a matter for a person, whatever staging shows: its cause may be on production alone.
func Hold(f evidence.Finding, there []evidence.Finding, looked bool, why string) (Blame, string) {
	switch {
	case !looked:
		return Unknown, "Staging could not be asked: " + why
	case f.Shows(there):
		return OfChange, "Staging shows it, too, with the same settings; nobody publishes there."
	case f.Kind.Appearance():
		return OfSite, "Staging does not show it with the same settings: it is news of the site."
	}
	return Unknown, "Staging does not show it with the same settings. It may be production’s own trouble."
}
