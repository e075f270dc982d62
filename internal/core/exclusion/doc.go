// Package exclusion computes with the exceptions a site makes: which address, cookie,
// script or style a pattern stands for.
//
// The matching rules are those of the connector protocol, one for each kind of role:
// [MatchPath] (RFC 9309), [MatchName] (whole names), [MatchPart] (a part of an
// address or text), [MatchAgent] (a part of a User-Agent).
//
// It does not say whether a page may be held; that needs the whole revision.
package exclusion
