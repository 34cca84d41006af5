// Package shown says how arrivals, records and their fields are shown, wherever they are.
package shown

import "dorfbote/internal/api/kit"

// Shown shows arrivals and records.
type Shown struct{ *kit.Kit }
