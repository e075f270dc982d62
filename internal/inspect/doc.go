// Package inspect inspects an environment as it is: purges and warms its pages, looks at
// them in a browser as every persona on every device, takes the journeys, asks for pages
// as somebody else, publishes and takes back, compares all of it with a mark, and comes
// to a verdict.
//
// An [Inspection] is one of these on one environment: [Inspection.Check] compares with a
// mark, [Inspection.TakeMark] looks twice and learns what changes by itself,
// [Inspection.TestIsolation] asks for pages without looking at them. It changes no
// setting. What counts as a difference is decided in the core.
package inspect
