// Package objects keeps pictures and bodies in a store that speaks the S3 protocol, where one is configured.
//
// The main type is [Bucket]. What is kept, for how long, and which object is whose is the store's work ([tidemarker/internal/store]);
// here are only the three acts on one object.
package objects
