package exclusions

import (
	"fmt"

	"tidemarker/internal/changes"
	"tidemarker/internal/core/exclusion"
	"tidemarker/internal/store"
)

// Desk is where the ledger is kept.
type Desk struct {
	Store   *store.Store
	Changes *changes.Desk

	remarks remembered[[]exclusion.Remark]
	cells   remembered[[]exclusion.Cell]
}

// Refused says that something a person gave is not right, and where it stands.
type Refused struct {
	Where string
	Err   error
}

func (e *Refused) Error() string { return e.Err.Error() }

func refused(where string, err error) error { return &Refused{where, err} }

func conflict(why string) error { return &changes.Conflict{Why: why} }

// LineFaults are what is wrong with entries that are read in, by line.
type LineFaults []exclusion.LineFault

func (f LineFaults) Error() string {
	return fmt.Sprintf("Nothing was read in: %d lines are not right. The first: %s.", len(f), f[0].Error())
}

// some is a list that is never null.
func some[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}
