// Package api serves the API under /api/v1, the events, kept pictures, and the
// interface that is built into the binary.
//
// [New] returns the handler. Handlers decode, ask the store or the core, and encode;
// what is allowed is decided by core/release, what is done to a site by package work.
// Errors are RFC 9457 problem details.
package api
