package exclusion

import (
	"fmt"
	"time"
)

// Freshness is how long a page may go on showing what it showed before something was
// published, and by what rule.
type Freshness struct {
	AtOnce  bool   // it has to show it with the next request
	Seconds int    // otherwise within so many; 0 when nothing says
	Rule    string // in words
}

// ShowsWithin is the rule by which a page, path with query, has to show strangers what
// is published: at once when it is never held or always refreshed, else when its held
// copy has lived its time. asked is what the team wants, in seconds; it counts when it is
// stricter. 0 asks nothing.
func (l Layer) ShowsWithin(page string, asked int, agent string) Freshness {
	f := Freshness{}
	switch s := l.Says(page, Person{}, agent); {
	case s.Policy == Never:
		f = Freshness{AtOnce: true, Rule: "It is never held. " + s.Why}
	case l.decides("always-refresh", page) != nil:
		f = Freshness{AtOnce: true, Rule: fmt.Sprintf("It is refreshed whenever something is published, by “%s”.", l.decides("always-refresh", page).Pattern)}
	case l.Lifetime > 0:
		f = Freshness{Seconds: l.Lifetime, Rule: fmt.Sprintf("What is held lives for %s.", span(l.Lifetime))}
	default:
		f = Freshness{Rule: "No setting says for how long pages are held."}
	}
	if asked > 0 && !f.AtOnce && (f.Seconds == 0 || asked < f.Seconds) {
		f.Rule = fmt.Sprintf("The team wants it within %s. %s", span(asked), f.Rule)
		f.Seconds = asked
	}
	return f
}

// span is a number of seconds in words.
func span(seconds int) string { return shortly(time.Duration(seconds) * time.Second) }

func shortly(d time.Duration) string {
	for _, u := range []struct {
		size time.Duration
		one  string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if d >= u.size && d%u.size == 0 {
			return counted(int(d/u.size), u.one)
		}
	}
	return d.String()
}
