// Package settings describes the settings of a speed layer as data and computes
// with them: which values are valid, what a set of values needs and collides with,
// what differs between two sets, and by which fingerprint a set is known.
//
// The main types are [Catalogue] (every setting a site has), [Definition] (one of
// them), [Values] (one full set) and [Difference].
//
// No key of any catalogue is known here; only roles are. The package does not read
// or apply settings: that is the connector's work.
package settings
