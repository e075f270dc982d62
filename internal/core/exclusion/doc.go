// Package exclusion computes with the exceptions a site makes: which address, cookie,
// script or style a pattern stands for, what patterns are to each other, and whether
// they cover what they should.
//
// The matching rules are those of the connector protocol, one [Kind] for each role:
// [Matches] holds one pattern against one text, a [Set] all patterns of a kind at once.
// [Within] and [Overlap] decide what patterns are to each other, [Try] says what one
// narrowly misses. A [Layer] is what a revision says; [Coverage] remarks what is wrong
// with it, [Matrix] holds it against policies and what was seen. A [Record] is an entry
// of the ledger as a file has it.
//
// It asks no site for anything: what is known comes in as [Known].
package exclusion
