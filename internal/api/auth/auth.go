// Package auth signs people in and out, and guards against guessing.
package auth

import (
	"dorfbote/internal/api/kit"
)

// Auth signs people in.
type Auth struct {
	*kit.Kit

	guesses   *guesses
	passwords *passwords
}

// New signs nobody in yet.
func New(k *kit.Kit) *Auth {
	return &Auth{Kit: k, guesses: &guesses{store: k.Store, proxied: k.Proxies != nil}, passwords: newPasswords()}
}
