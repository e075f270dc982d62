// Package store keeps everything in PostgreSQL: sites, revisions, changes, runs, acts,
// looks, findings, marks, exclusions, history, people, and the pictures and bodies that
// are kept once by their SHA-256. The SQL is here, one file for each aggregate; only
// the job queue and the sessions have some of their own, in their libraries.
//
// [Open] connects; [Store.Migrate] brings the schema up to date; [Store.Within] makes
// one transaction of several writes. [ErrNotFound] says that there is no such row. What
// may follow what is decided in core/release; here it is locked, asked and written.
package store
