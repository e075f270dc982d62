// Package prediction says what a change of settings will do to a site before it is tried: from
// what pages were made of when the mark was taken. It reads scripts, documents and style sheets,
// works out the order in which scripts run with the settings before and after, and which rules
// and files a page then lacks. What it predicted is held against what a run found.
//
// It predicts what can be read off; what depends on how scripts compute is left to the run.
package prediction
