// Package web holds the built front end.
package web

import "embed"

// Dist is the built front end; without a build it holds nothing but a marker.
//
//go:embed all:dist
var Dist embed.FS
