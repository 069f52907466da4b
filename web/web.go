// Package web has the console's built files (make console).
package web

import "embed"

// Files holds the built console in dist/app.
//
//go:embed all:dist
var Files embed.FS
