// Package survey makes a proposal out of a site that nobody here has seen: which pages
// it has, what kind each is and why, which few are worth watching, who looks, and what
// has to work.
//
// [ParseSitemap] reads sitemaps (sitemaps.org), [Observe] what a page shows of itself,
// [Classify] says its class with the reason, [WatchList], [Personas] and [Journeys]
// propose. It fetches nothing.
package survey
