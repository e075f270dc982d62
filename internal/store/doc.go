// Package store keeps everything in PostgreSQL: sites, revisions, changes, runs,
// looks, findings, marks, exclusions, history, and the pictures and bodies that are
// kept once by their SHA-256. All SQL is here, one file for each aggregate.
//
// [Open] connects and brings the schema up to date; [Store] has the methods.
// [ErrNotFound] says that there is no such row. It decides nothing.
package store
