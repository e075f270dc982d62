// Package journey describes what a persona does on a site, step by step, and what
// must be true on the way.
//
// The main types are [Step] (one action or one expectation), [Target] (the element
// it is about) and [Outcome] (what came of a run). Carrying steps out is the
// browser's work; this package only says what they mean and how they read.
package journey
