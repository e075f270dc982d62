package settings

// Deletes are the keys of the edits by which a set of values deletes data that the one
// before it does not: a setting that is irreversible and newly active or set otherwise,
// and what belongs to a tidy while one is on, such as how many records it keeps.
func (c Catalogue) Deletes(before, after Values) []string {
	tidying := false
	for _, d := range c.Settings {
		tidying = tidying || d.Irreversible && d.Active(after[d.Key])
	}
	var out []string
	for _, diff := range Diff(before, after) {
		d, known := c.Find(diff.Key)
		if !known {
			continue
		}
		if d.Irreversible && d.Active(after[d.Key]) || !d.Irreversible && d.Role == tidyRole && tidying {
			out = append(out, d.Key)
		}
	}
	return out
}

// OnlyTidies tells whether everything that differs is of a tidy, and something of it
// deletes data: such a change is carried out by itself, and never promoted.
func (c Catalogue) OnlyTidies(before, after Values) bool {
	for _, diff := range Diff(before, after) {
		if d, known := c.Find(diff.Key); !known || !d.tidies() {
			return false
		}
	}
	return len(c.Deletes(before, after)) > 0
}

const tidyRole = "tidy"

// tidies tells whether a setting is of a tidy.
func (d Definition) tidies() bool { return d.Irreversible || d.Role == tidyRole }
