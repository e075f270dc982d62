package site

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"reflect"
	"strings"

	"tidemarker/internal/core/journey"
)

// TestPlan is the site with other pages, personas, journeys, edits and budgets (nil: as they are), read as a site file
// is, and in words what differs, "" when nothing does. Secret values that are not told
// stay; a [MissingSecret] says which are not known.
func (s Site) TestPlan(to Site) (now Site, told string, err error) {
	to.Name, to.Environments, to.FindCulprit = s.Name, s.Environments, s.FindCulprit
	if to.Budgets == nil {
		to.Budgets = s.Budgets
	}
	if now, err = to.Read(); err != nil {
		return s, "", err
	}
	now = now.WithSecretsFrom(s)
	if err := now.Complete(); err != nil {
		return s, "", err
	}
	return now, Told(s, now), nil
}

// Steady are the elements that must not differ, by page.
func (s Site) Steady() map[string][]string {
	out := map[string][]string{}
	for _, p := range s.Pages {
		if len(p.Steady) > 0 {
			out[p.Path] = p.Steady
		}
	}
	return out
}

// Version is what is in the test plan as a SHA-256 in hexadecimal, so that two people who change it
// at once are told apart. Secret values have no part in it.
func (s Site) Version() string {
	s = s.Redacted()
	raw, err := json.Marshal([]any{s.Pages, s.Personas, s.Journeys, s.Publishing, s.Budgets})
	if err != nil {
		panic(err) // plain data
	}
	sum := sha256.Sum256(raw)
	return hex.EncodeToString(sum[:])
}

// Told says in words what a change of what is in the test plan did, "" when nothing.
func Told(before, after Site) string {
	var parts []string
	parts = append(parts, differing("page", before.Pages, after.Pages, func(p Page) string { return p.Path })...)
	parts = append(parts, differing("persona", before.Personas, after.Personas, func(p Persona) string { return p.Name })...)
	parts = append(parts, differing("journey", before.Journeys, after.Journeys, func(j journey.Journey) string { return "“" + j.Name + "”" })...)
	parts = append(parts, differing("edit", before.Publishing, after.Publishing, func(e PublishingTest) string { return "“" + e.Name + "”" })...)
	parts = append(parts, differing("budget", before.Budgets, after.Budgets, Budget.Text)...)
	return strings.Join(parts, "; ")
}

// mostNamed is how many of a kind are named; of more only the number is told.
const mostNamed = 3

func differing[T any](kind string, before, after []T, name func(T) string) []string {
	was, is := map[string]T{}, map[string]T{}
	for _, x := range before {
		was[name(x)] = x
	}
	var added, changed, gone []string
	for _, x := range after {
		n := name(x)
		is[n] = x
		old, there := was[n]
		switch {
		case !there:
			added = append(added, n)
		case !reflect.DeepEqual(old, x):
			changed = append(changed, n)
		}
	}
	for _, x := range before {
		if _, there := is[name(x)]; !there {
			gone = append(gone, name(x))
		}
	}
	var out []string
	for _, d := range []struct {
		verb  string
		names []string
	}{{"added", added}, {"changed", changed}, {"removed", gone}} {
		switch n := len(d.names); {
		case n == 0:
		case n == 1:
			out = append(out, fmt.Sprintf("%s %s %s", kind, d.names[0], d.verb))
		case n <= mostNamed:
			out = append(out, fmt.Sprintf("%ss %s %s", kind, strings.Join(d.names, ", "), d.verb))
		default:
			out = append(out, fmt.Sprintf("%d %ss %s", n, kind, d.verb))
		}
	}
	return out
}
