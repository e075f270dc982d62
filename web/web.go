// Package web carries the built interface.
package web

import "embed"

// Files is what Vite built into dist.
//
//go:embed all:dist
var Files embed.FS
