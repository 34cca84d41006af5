package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"golang.org/x/crypto/argon2"
	"golang.org/x/time/rate"
	"gorm.io/gorm"

	"dorfbote/internal/store"
)

// Person is who is signed in.
type Person struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Email string `json:"email"`
	Role  string `json:"role" enum:"administrator,editor,viewer"`
}

type personKey struct{}

const sessionPerson = "person"

// The cost of argon2id, as OWASP advises.
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

// guessLimit slows guessing of passwords: ten tries at once for a name, then one every six seconds.
type guessLimit struct {
	mu     sync.Mutex
	byName map[string]*rate.Limiter
}

func newGuessLimit() *guessLimit { return &guessLimit{byName: map[string]*rate.Limiter{}} }

func (g *guessLimit) allow(name string) bool {
	g.mu.Lock()
	defer g.mu.Unlock()
	if len(g.byName) > 10_000 {
		clear(g.byName)
	}
	l := g.byName[name]
	if l == nil {
		l = rate.NewLimiter(rate.Every(6*time.Second), 10)
		g.byName[name] = l
	}
	return l.Allow()
}

type signInInput struct {
	Body struct {
		Email    string `json:"email" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"500"`
	}
}

type personOutput struct{ Body Person }

func (s *Server) signInRoutes() {
	huma.Register(s.api, op("sign-in", http.MethodPost, "/api/sign-in", "Sign in", "People"), s.signIn)
	huma.Register(s.api, op("sign-out", http.MethodPost, "/api/sign-out", "Sign out", "People"), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		return nil, s.sessions.Destroy(ctx)
	})
	register(s, op("me", http.MethodGet, "/api/me", "Who is signed in", "People"), anyone, func(_ context.Context, who *Person, _ *struct{}) (*personOutput, error) {
		return &personOutput{*who}, nil
	})
}

func (s *Server) signIn(ctx context.Context, in *signInInput) (*personOutput, error) {
	email := strings.ToLower(strings.TrimSpace(in.Body.Email))
	if !s.guesses.allow(email) {
		return nil, huma.Error429TooManyRequests("too many tries for this address; wait a minute")
	}
	var p store.Person
	err := s.store.DB.WithContext(ctx).First(&p, "lower(email) = ?", email).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	stored := p.PasswordHash
	if stored == "" { // the same work for an unknown address, so that the time tells nothing
		stored = HashPassword("nobody")
	}
	if !passwordFits(stored, in.Body.Password) || p.ID == 0 {
		return nil, huma.Error401Unauthorized("the address or the password is not right")
	}
	if err := s.sessions.RenewToken(ctx); err != nil {
		return nil, err
	}
	s.sessions.Put(ctx, sessionPerson, p.ID)
	return &personOutput{Person{p.ID, p.Name, p.Email, p.Role}}, nil
}

// person gives who is signed in, or nil.
func (s *Server) person(ctx context.Context) *Person {
	if p, ok := ctx.Value(personKey{}).(*Person); ok {
		return p
	}
	id := s.sessions.GetInt64(ctx, sessionPerson)
	if id == 0 {
		return nil
	}
	var p store.Person
	if s.store.DB.WithContext(ctx).First(&p, id).Error != nil {
		return nil
	}
	return &Person{p.ID, p.Name, p.Email, p.Role}
}

// signedIn lets only people through who are signed in.
func (s *Server) signedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := s.person(r.Context())
		if p == nil {
			writeProblem(w, http.StatusUnauthorized, "", "sign in first")
			return
		}
		if p.Role == "viewer" && r.Method != http.MethodGet {
			writeProblem(w, http.StatusForbidden, "", "viewers can look but not change anything")
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), personKey{}, p)))
	})
}

// need is what a person must be to call an operation.
type need int

const (
	anyone  need = iota // everyone who is signed in
	editors             // editors and administrators
)

// register adds an operation for people who are signed in.
func register[I, O any](s *Server, o huma.Operation, n need, fn func(context.Context, *Person, *I) (*O, error)) {
	o.Security = []map[string][]string{{"session": {}}}
	huma.Register(s.api, o, func(ctx context.Context, in *I) (*O, error) {
		p := s.person(ctx)
		if p == nil {
			return nil, huma.Error401Unauthorized("sign in first")
		}
		if n == editors && p.Role == "viewer" {
			return nil, huma.Error403Forbidden("viewers can look but not change anything; ask an administrator for the role of editor")
		}
		out, err := fn(ctx, p, in)
		return out, s.plainError(o.OperationID, err)
	})
}

// plainError keeps what is not meant for people out of answers.
func (s *Server) plainError(operation string, err error) error {
	if err == nil {
		return nil
	}
	var status huma.StatusError
	switch {
	case errors.As(err, &status):
		return err
	case errors.Is(err, gorm.ErrRecordNotFound):
		return huma.Error404NotFound("there is no such thing, or it is gone")
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return huma.Error409Conflict("there is one with this name already")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the request was ended")
	}
	s.Log.Error("request failed", "operation", operation, "error", err)
	return huma.Error500InternalServerError("something went wrong here; it has been written to the log")
}

func op(id, method, path, summary, tag string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: 4 << 20}
}
