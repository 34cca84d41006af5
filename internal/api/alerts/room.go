// Package alerts is the room of what people do with what they were told: questions that are asked of them, and who looks after
// an alert.
package alerts

import (
	"dorfbote/internal/api/kit"
	"dorfbote/internal/api/shown"
)

// Alerts is the room.
type Alerts struct {
	*kit.Kit
	Shown *shown.Shown
}
