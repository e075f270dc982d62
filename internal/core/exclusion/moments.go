package exclusion

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"tidemarker/internal/core/words"
)

// MomentKind says what may be otherwise from a moment on.
type MomentKind string

// The kinds.
const (
	FormsAged MomentKind = "form"   // forms on cached pages can no longer be sent
	Expired   MomentKind = "expiry" // what was cached has lived its time, and is made anew
)

// Moment is a time, counted from when pages were cached, from which on what is served may be
// otherwise than just after.
type Moment struct {
	Kind  MomentKind `json:"kind" enum:"form,expiry"`
	After int        `json:"after" doc:"Seconds after the pages were cached."`
	Pages []string   `json:"pages"`
	Why   string     `json:"why"`
}

// Moments are the times that the settings and what is known of the pages lead one to expect
// trouble at, the earliest first. A form that lives longer than its page is cached has none.
func Moments(l Layer, pages []Page, agent string) []Moment {
	var out []Moment
	add := func(kind MomentKind, after int, page, why string) {
		i := slices.IndexFunc(out, func(m Moment) bool { return m.Kind == kind && m.After == after })
		if i < 0 {
			out = append(out, Moment{kind, after, nil, why})
			i = len(out) - 1
		}
		out[i].Pages = append(out[i].Pages, page)
	}
	if l.Lifetime == 0 {
		return nil
	}
	for _, p := range pages {
		if l.Says(p.Path, Person{}, agent).Policy == Never {
			continue
		}
		if p.FormLives > 0 && p.FormLives < l.Lifetime {
			add(FormsAged, p.FormLives+margin(p.FormLives), p.Path, fmt.Sprintf("Its form can be sent for %s, and the page is cached for %s.", words.Span(p.FormLives), words.Span(l.Lifetime)))
		}
		why := fmt.Sprintf("What is cached lives for %s; then the page is generated again.", words.Span(l.Lifetime))
		if l.Stale {
			why = fmt.Sprintf("What is cached lives for %s; then the stale page is served once more while it is generated again.", words.Span(l.Lifetime))
		}
		add(Expired, l.Lifetime+margin(l.Lifetime), p.Path, why)
	}
	slices.SortFunc(out, func(a, b Moment) int { return cmp.Or(a.After-b.After, cmp.Compare(a.Kind, b.Kind)) })
	return out
}

// margin is by how many seconds later than due one looks: a twentieth, 2 at least. Common practice.
func margin(seconds int) int { return max(2, seconds/20) }

// NewMoments are those that were not there with the earlier settings, each with the pages for
// which it is new.
func NewMoments(before, now []Moment) []Moment {
	var out []Moment
	for _, m := range now {
		i := slices.IndexFunc(before, func(b Moment) bool { return b.Kind == m.Kind && b.After == m.After && b.Why == m.Why })
		if i >= 0 {
			m.Pages = slices.DeleteFunc(slices.Clone(m.Pages), func(p string) bool { return slices.Contains(before[i].Pages, p) })
		}
		if len(m.Pages) > 0 {
			out = append(out, m)
		}
	}
	return out
}

// String says in words when and why it is looked.
func (m Moment) String() string {
	pages := strings.Join(m.Pages[:min(3, len(m.Pages))], ", ")
	if n := len(m.Pages) - 3; n > 0 {
		pages += fmt.Sprintf(" and %d more", n)
	}
	return pages + ": " + m.Why
}
