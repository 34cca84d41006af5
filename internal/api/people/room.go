// Package people keeps people, teams, invitations and sessions, and shows the audit log.
package people

import (
	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/kit"
)

// People is the room of people.
type People struct {
	*kit.Kit
	Auth *auth.Auth
}
