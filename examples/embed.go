// Package examples holds example sheets for the demo world.
package examples

import "embed"

// Sheets are the example sheets.
//
//go:embed *.yaml
var Sheets embed.FS
