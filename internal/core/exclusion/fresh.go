package exclusion

import (
	"fmt"

	"tidemarker/internal/core/words"
)

// Freshness is how long a page may go on showing what it showed before something was
// published, and by what rule.
type Freshness struct {
	AtOnce  bool   // it has to show it with the next request
	Seconds int    // otherwise within so many; 0 when nothing says
	Rule    string // in words
}

// ShowsWithin is the rule by which a page, path with query, has to show strangers what
// is published: at once when it is never cached or always refreshed, else when its cached
// copy has lived its time. asked is what the team wants, in seconds; it counts when it is
// stricter. 0 asks nothing.
func (l Layer) ShowsWithin(page string, asked int, agent string) Freshness {
	f := Freshness{}
	switch s := l.Says(page, Person{}, agent); {
	case s.Policy == Never:
		f = Freshness{AtOnce: true, Rule: "It is never cached. " + s.Why}
	case l.decides("always-refresh", page) != nil:
		f = Freshness{AtOnce: true, Rule: fmt.Sprintf("It is refreshed whenever something is published, by “%s”.", l.decides("always-refresh", page).Pattern)}
	default:
		f = l.Lives()
	}
	if asked > 0 && !f.AtOnce && (f.Seconds == 0 || asked < f.Seconds) {
		f.Rule = fmt.Sprintf("The team wants it within %s. %s", words.Span(asked), f.Rule)
		f.Seconds = asked
	}
	return f
}

// Lives is for how long a cached page may be served.
func (l Layer) Lives() Freshness {
	if l.Lifetime == 0 {
		return Freshness{Rule: "No setting says for how long pages are cached."}
	}
	return Freshness{Seconds: l.Lifetime, Rule: fmt.Sprintf("What is cached lives for %s.", words.Span(l.Lifetime))}
}
