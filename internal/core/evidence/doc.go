// Package evidence says what a look at a page yields, and what two looks differ in.
//
// A [Look] is everything seen of one environment in one run: pages, journeys and
// probes. [Learn] turns two looks at an untouched environment into a [Baseline],
// which knows what changes by itself. [Compare] holds a look against a baseline and
// returns [Finding]s; [Judge] turns findings into a [Verdict].
//
// Pictures are reached through [Pictures]; the package opens no browser and stores
// nothing.
package evidence
