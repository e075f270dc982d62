// Package standin runs invented sites with a real speed layer in front, so that
// Tide Marker can be tried and tested without anybody's site.
//
// An [Instance] is one environment: an origin, a [Layer] that rewrites its pages and
// holds them, and the connector through which the layer's settings are changed. What
// breaks, breaks because of what the layer does to a page; nothing here knows that
// it is being checked.
package standin
