package store

// ArchivedTables are the tables that are in an archive and those that are not.
func ArchivedTables() (in, out []string) {
	for _, a := range archived {
		in = append(in, a.table)
	}
	return in, append([]string(nil), notArchived...)
}
