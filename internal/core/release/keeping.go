package release

// MarksInUse are those of an environment's marks, the latest first, that something may still go back to or be compared with: the
// latest, and the latest of each fingerprint that is in force there or comes back with a rollback.
func MarksInUse(marks []MarkOf, in []Standing) map[int64]bool {
	out := map[int64]bool{}
	if len(marks) > 0 {
		out[marks[0].ID] = true
	}
	wanted := map[string]bool{}
	for _, s := range in {
		wanted[s.Before], wanted[s.After] = true, true
	}
	for _, m := range marks {
		if wanted[m.Fingerprint] {
			out[m.ID] = true
			delete(wanted, m.Fingerprint)
		}
	}
	return out
}
