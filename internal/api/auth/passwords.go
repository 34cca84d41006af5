package auth

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/argon2"
)

// The cost of argon2id, as OWASP advises. Memory is in KiB.
const (
	argonTime, argonMemory, argonThreads = 2, 19 << 10, 1
	saltBytes, hashBytes                 = 16, 32
)

// HashPassword makes the stored form of a password: argon2id in the PHC string format.
func HashPassword(password string) string {
	salt := make([]byte, saltBytes)
	_, _ = rand.Read(salt)
	b64 := base64.RawStdEncoding
	return fmt.Sprintf("$argon2id$v=19$m=%d,t=%d,p=%d$%s$%s", argonMemory, argonTime, argonThreads,
		b64.EncodeToString(salt), b64.EncodeToString(argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, hashBytes)))
}

func passwordFits(stored, password string) bool {
	parts := strings.Split(stored, "$")
	if len(parts) != 6 {
		return false
	}
	var m, t uint32
	var p uint8
	if _, err := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &m, &t, &p); err != nil {
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	if err1 != nil || err2 != nil {
		return false
	}
	return subtle.ConstantTimeCompare(argon2.IDKey([]byte(password), salt, t, m, p, uint32(len(want))), want) == 1
}

// How many passwords are worked on at once, each with 19 MiB, how many may wait, and for how long.
const (
	hashesAtOnce  = 2
	hasheswaiting = 100
	hashPatience  = 15 * time.Second
)

// passwords works on passwords, a few at a time, whoever asks.
type passwords struct {
	slots   chan struct{}
	waiting chan struct{}
	nobody  string // the stored form of nobody's password, so that an unknown name takes as long as a known one
}

func newPasswords() *passwords {
	return &passwords{slots: make(chan struct{}, hashesAtOnce), waiting: make(chan struct{}, hasheswaiting), nobody: HashPassword(rand.Text())}
}

// work runs fn when there is room for it. Where too many wait already, the caller is told to come again.
func (p *passwords) work(ctx context.Context, fn func()) error {
	busy := huma.ErrorWithHeaders(huma.Error503ServiceUnavailable("too many people sign in at this moment; try again in a few seconds"), http.Header{"Retry-After": {"5"}})
	select {
	case p.waiting <- struct{}{}:
		defer func() { <-p.waiting }()
	default:
		return busy
	}
	ctx, cancel := context.WithTimeout(ctx, hashPatience)
	defer cancel()
	select {
	case p.slots <- struct{}{}:
		defer func() { <-p.slots }()
	case <-ctx.Done():
		return busy
	}
	fn()
	return nil
}

// fits tells whether a password is the stored one; an empty stored form is nobody's.
func (p *passwords) fits(ctx context.Context, stored, password string) (fits bool, err error) {
	known := stored != ""
	if !known {
		stored = p.nobody
	}
	err = p.work(ctx, func() { fits = passwordFits(stored, password) && known })
	return fits, err
}

// hash makes the stored form of a password.
func (p *passwords) hash(ctx context.Context, password string) (stored string, err error) {
	err = p.work(ctx, func() { stored = HashPassword(password) })
	return stored, err
}

// Hash makes the stored form of a password, as one of a few at a time. The error says that too many wait already.
func (a *Auth) Hash(ctx context.Context, password string) (stored string, err error) {
	return a.passwords.hash(ctx, password)
}
