// Package kinds lists every kind of speed layer that there is.
package kinds

import (
	"tidemarker/internal/speedlayer"
	"tidemarker/internal/speedlayer/byhand"
	"tidemarker/internal/speedlayer/connector"
)

// All are the kinds, the usual one first.
var All = speedlayer.Kinds{connector.Kind, byhand.Kind}
