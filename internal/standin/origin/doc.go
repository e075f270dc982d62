// Package origin has what the servers of invented sites share: sessions and members,
// form tokens, look-ups that a data cache can hold, records that a tidy deletes.
//
// It knows nothing of the speed layer in front; [Lookup] alone lets one in, as real
// sites let a data cache in.
package origin
