// Package calendar says when something may go out to production.
//
// An [Entry] is what somebody wrote: a freeze, in which nothing is promoted, or a window,
// outside which nothing is; once, or again by a recurrence rule of RFC 5545. [Read] makes
// a [Line] of it, whose occurrences can be asked for. [At] says how a calendar stands at
// one moment, [Opens] when a promotion may begin next. [Write] and [ReadFile] exchange
// entries as iCalendar.
//
// The package reads no clock and no database of time zones: moments and zones are given.
package calendar
