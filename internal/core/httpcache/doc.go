// Package httpcache reads what a response says about caching: whether a cache may keep
// it and for how long (RFC 9111), what caches on the way did with the request (RFC
// 9211), and where the site contradicts itself.
//
// An [Exchange] is a request and its response; [Exchange.Storable], [Exchange.Lifetime],
// [Exchange.Age] and [Exchange.Fresh] judge it, [Exchange.Contradictions] compares what
// it says with what was seen.
package httpcache
