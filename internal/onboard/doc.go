// Package onboard gets to know a site that nobody here has seen: finds its pages, tests
// what a person said about its environments, tries personas and journeys on the spot,
// and compares staging with production.
//
// A [Desk] has one method for each of these. What is proposed from what was seen is
// decided in core/survey; nothing is changed on the site.
package onboard
