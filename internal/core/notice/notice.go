// Package notice says what people are told, whom it concerns, how it reaches them, and when: at once, folded into one when much
// comes at a time, or once a day.
package notice

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"tidemarker/internal/core/people"
)

// Topic says what a notice is about.
type Topic string

// The topics.
const (
	Asked     Topic = "asked"     // an approval is asked for
	Decided   Topic = "decided"   // what somebody asked for was decided, or withdrawn
	Mentioned Topic = "mentioned" // somebody wrote a person's name
	Broken    Topic = "broken"    // production is broken, or may be
	GoingBack Topic = "back"      // a change goes back by itself, or went
	Outside   Topic = "outside"   // an environment was changed outside
	Unknown   Topic = "unknown"   // nobody knows what an environment has
	Tidied    Topic = "tidied"    // a tidy was carried out again, waits, or is paused
	RolledOut Topic = "rollout"   // a rollout stopped, or is through
	Settled   Topic = "settled"   // the watch of a promotion is over
	Finished  Topic = "finished"  // a run that somebody began has ended
)

// How is how a notice reaches somebody. In the application it always does, but for what they want nothing of.
type How string

// The ways.
const (
	AtOnce How = "at once" // by mail, a few seconds later
	Daily  How = "daily"   // by mail, with all else of the day
	Here   How = "here"    // in the application, and in the feed
	Never  How = "never"
)

// About is what holds for a topic unless somebody chooses otherwise.
type About struct {
	Topic   Topic          `json:"topic"`
	Text    string         `json:"text"`
	Who     people.Ability `json:"-"`        // whom it concerns, where it is not for certain people
	Named   bool           `json:"personal"` // it is for certain people
	Default How            `json:"default"`
}

// Topics are all topics, those first that are the most urgent.
var Topics = []About{
	{Broken, "Production is broken, or may be", people.Work, false, AtOnce},
	{GoingBack, "A change is being or was rolled back automatically", people.Work, false, AtOnce},
	{Unknown, "Nobody knows what an environment has", people.Work, false, AtOnce},
	{Asked, "An approval is asked for", people.Decide, false, AtOnce},
	{Decided, "What you asked for was decided", people.See, true, AtOnce},
	{Mentioned, "Somebody wrote your name", people.See, true, AtOnce},
	{Tidied, "A scheduled tidy deleted something, waits, or is paused", people.Work, false, AtOnce},
	{RolledOut, "A rollout stopped, or is through", people.Work, false, AtOnce},
	{Outside, "An environment was changed outside", people.Work, false, Daily},
	{Settled, "The watch of a promotion is over", people.Work, false, Daily},
	{Finished, "A run that you began has ended", people.See, true, Here},
}

// Of is what holds for a topic; ok is false when there is none of that name.
func Of(t Topic) (About, bool) {
	i := slices.IndexFunc(Topics, func(a About) bool { return a.Topic == t })
	if i < 0 {
		return About{}, false
	}
	return Topics[i], true
}

const (
	// Collect is for how long a notice waits for others that come with it, and Apart how far apart two mails to a person are.
	Collect = 10 * time.Second
	Apart   = 5 * time.Minute
)

// Due tells whether what waits for somebody is to be sent now: the oldest of it waits for long enough, and the last mail was long
// enough ago. So a storm of findings is one mail, or two: the first that comes, and all that came meanwhile.
func Due(oldest, last, now time.Time) bool {
	return !now.Before(oldest.Add(Collect)) && (last.IsZero() || !now.Before(last.Add(Apart)))
}

// DailyDue tells whether somebody's daily mail is due, at a time of day (15:04) in their zone: one that was missed comes once.
func DailyDue(clock string, zone *time.Location, last, now time.Time) bool {
	at, err := time.Parse("15:04", clock)
	if err != nil {
		return false
	}
	here := now.In(zone)
	due := time.Date(here.Year(), here.Month(), here.Day(), at.Hour(), at.Minute(), 0, 0, zone)
	if now.Before(due) {
		due = time.Date(here.Year(), here.Month(), here.Day()-1, at.Hour(), at.Minute(), 0, 0, zone)
	}
	return last.Before(due)
}

// Retry is how long a delivery waits after a number of tries that did not succeed; more is false when it is given up. The pauses
// are those that the Standard Webhooks specification suggests, from memory: at once, 5 s, 5 min, 30 min, 2 h, 5 h, 10 h, 10 h.
func Retry(tries int) (pause time.Duration, more bool) {
	pauses := []time.Duration{5 * time.Second, 5 * time.Minute, 30 * time.Minute, 2 * time.Hour, 5 * time.Hour, 10 * time.Hour, 10 * time.Hour}
	if tries < 1 || tries > len(pauses) {
		return 0, false
	}
	return pauses[tries-1], true
}

// Item is one notice, as somebody reads it.
type Item struct {
	Site   string
	Topic  Topic
	Title  string
	Text   string
	Link   string // its address
	At     time.Time
	Number int64
}

// Group are notices of one site and topic: the first few, and how many more there are.
type Group struct {
	Site  string
	Topic string
	Items []Item
	More  int
}

// Letter is what somebody gets: a subject and what it says, the same whichever way it is written.
type Letter struct {
	Subject string
	Opening string
	Groups  []Group
}

// mostShown is how many notices of a site and topic are written out.
const mostShown = 5

// Compose makes one letter of notices: those of the most urgent topic first, folded where there are many.
func Compose(items []Item, daily bool) Letter {
	var l Letter
	rank := func(t Topic) int { return slices.IndexFunc(Topics, func(a About) bool { return a.Topic == t }) }
	sorted := slices.SortedStableFunc(slices.Values(items), func(a, b Item) int {
		return cmp.Or(rank(a.Topic)-rank(b.Topic), strings.Compare(a.Site, b.Site), a.At.Compare(b.At), cmp.Compare(a.Number, b.Number))
	})
	sites := map[string]bool{}
	for _, i := range sorted {
		sites[i.Site] = true
		about, _ := Of(i.Topic)
		if n := len(l.Groups); n == 0 || l.Groups[n-1].Site != i.Site || l.Groups[n-1].Topic != about.Text {
			l.Groups = append(l.Groups, Group{Site: i.Site, Topic: about.Text})
		}
		g := &l.Groups[len(l.Groups)-1]
		if len(g.Items) < mostShown {
			g.Items = append(g.Items, i)
		} else {
			g.More++
		}
	}
	switch n := len(items); {
	case n == 0:
		return l
	case n == 1:
		l.Subject = Line(sorted[0].Site + ": " + sorted[0].Title)
		l.Opening = sorted[0].Site
	case len(sites) == 1:
		l.Subject = Line(fmt.Sprintf("%s: %d notices, first: %s", sorted[0].Site, n, sorted[0].Title))
		l.Opening = fmt.Sprintf("%d notices of %s.", n, sorted[0].Site)
	default:
		l.Subject = Line(fmt.Sprintf("%d notices of %d sites, first: %s", n, len(sites), sorted[0].Title))
		l.Opening = fmt.Sprintf("%d notices of %d sites.", n, len(sites))
	}
	if daily {
		l.Subject = "Today: " + l.Subject
	}
	return l
}

// longestLine is how long a subject is, in runes.
const longestLine = 140

// Line is a text on one line, without what could end it, and no longer than a subject.
func Line(s string) string {
	s = strings.Join(strings.FieldsFunc(s, func(r rune) bool { return r < ' ' || r == 0x7f || r == '\u2028' || r == '\u2029' || r == '\u0085' }), " ")
	if r := []rune(s); len(r) > longestLine {
		return string(r[:longestLine-1]) + "…"
	}
	return s
}

// Title is the first sentence of a text.
func Title(text string) string {
	for i, r := range text {
		if r == '.' && i+1 < len(text) && text[i+1] == ' ' {
			return Line(text[:i])
		}
	}
	return Line(strings.TrimSuffix(text, "."))
}
