// Package browser looks at pages in a real browser: it opens an address as a persona
// on a device and returns the evidence.
//
// [Start] runs one Chromium with a bounded number of tabs. Each look has a private
// context of its own that nothing is left of. [Browser.Look] looks at a page,
// [Browser.Take] takes a journey, [Browser.Prepare] makes a persona ready, and
// [Plain] asks without a browser.
//
// Only hosts that belong to the environment are reached; every other request is
// stopped and noted. What a page says about itself is taken as untrusted data: it is
// bounded in size and never run or rendered here.
package browser
