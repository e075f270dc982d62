package settings

import (
	"reflect"
	"slices"
)

// Conflict is a setting that a change set, and that was set to something else since, so
// that nobody but a person can say what it is to be without that change.
type Conflict struct {
	Key    string `json:"key"`
	Before any    `json:"before" doc:"Before the change."`
	After  any    `json:"after" doc:"As the change set it."`
	Now    any    `json:"now" doc:"As it was set since."`
}

// Inverse is what takes a change out of what is in force now and leaves everything that
// came after it: the edits, and what a person has to decide. before and after are all
// values before and after the change. Lists are taken apart: entries that the change
// added go, entries that it removed come back, and all others stay.
func Inverse(before, after, now Values) (Values, []Conflict) {
	edits, conflicts := Values{}, []Conflict{}
	for _, d := range Diff(before, after) {
		is, was := now[d.Key], before[d.Key]
		switch {
		case Equal(is, was):
		case Equal(is, after[d.Key]):
			edits[d.Key] = was
		case isList(is) && isList(was) && isList(after[d.Key]):
			if list := moved(after.Strings(d.Key), before.Strings(d.Key), now.Strings(d.Key)); !slices.Equal(list, now.Strings(d.Key)) {
				edits[d.Key] = list
			}
		default:
			conflicts = append(conflicts, Conflict{d.Key, was, after[d.Key], is})
		}
	}
	return edits.Clone(), conflicts
}

func isList(v any) bool { return v != nil && reflect.TypeOf(v).Kind() == reflect.Slice }

// moved does to a list what was done from before to after: it takes away and adds the same.
func moved(before, after, list []string) []string {
	out := []string{}
	for _, e := range list {
		if !slices.Contains(before, e) || slices.Contains(after, e) {
			out = append(out, e)
		}
	}
	for _, e := range after {
		if !slices.Contains(before, e) && !slices.Contains(out, e) {
			out = append(out, e)
		}
	}
	return out
}
