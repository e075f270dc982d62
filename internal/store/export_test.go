package store

// ArchivedTables are the tables that are in an archive and those that are not.
func ArchivedTables() (in, out []string) {
	for _, a := range archived {
		in = append(in, a.table)
	}
	return in, append([]string(nil), notArchived...)
}

// BackedUpTables are the tables that are in a backup and those that are not.
func BackedUpTables() (in, out []string) {
	return backedUpTables(), append([]string(nil), notBackedUp...)
}
