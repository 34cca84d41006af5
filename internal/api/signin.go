package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"
	"golang.org/x/crypto/argon2"
	"gorm.io/gorm"

	"dorfbote/internal/store"
)

// Person is who is signed in.
type Person struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Email string `json:"email"`
	Role  string `json:"role" enum:"administrator,editor,viewer"`

	SignIn int64 `json:"-"` // of this session
}

type personKey struct{}

// What a session holds. The sign-in is what can be ended from elsewhere.
const (
	sessionPerson = "person"
	sessionSignIn = "sign-in"
)

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
		if id := s.sessions.GetInt64(ctx, sessionSignIn); id > 0 {
			if err := s.store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL", id).Error; err != nil {
				return nil, s.plainError("sign-out", err)
			}
		}
		return nil, s.sessions.Destroy(ctx)
	})
	register(s, op("me", http.MethodGet, "/api/me", "Who is signed in", "People"), anyone, func(_ context.Context, who *Person, _ *struct{}) (*personOutput, error) {
		return &personOutput{*who}, nil
	})
}

func (s *Server) signIn(ctx context.Context, in *signInInput) (*personOutput, error) {
	email := strings.ToLower(strings.TrimSpace(in.Body.Email))
	if wait := s.guesses.wait(ctx, email); wait > 0 {
		return nil, tooManyGuesses(wait)
	}
	var p store.Person
	err := s.store.DB.WithContext(ctx).First(&p, "lower(email) = ? AND gone_at IS NULL", email).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, err
	}
	stored := p.PasswordHash
	if stored == "" { // the same work for an unknown address, so that the time tells nothing
		stored = HashPassword("nobody")
	}
	if !passwordFits(stored, in.Body.Password) || p.ID == 0 {
		s.guesses.failed(ctx, email)
		return nil, huma.Error401Unauthorized("the address or the password is not right")
	}
	s.guesses.right(ctx, email)
	return s.signInAs(ctx, p)
}

// person gives who is signed in, or nil.
func (s *Server) person(ctx context.Context) *Person {
	if p, ok := ctx.Value(personKey{}).(*Person); ok {
		return p
	}
	id := s.sessions.GetInt64(ctx, sessionSignIn)
	if id == 0 {
		return nil
	}
	var row struct {
		ID                int64
		Name, Email, Role string
		SeenAt            time.Time
	}
	db := s.store.DB.WithContext(ctx)
	if db.Raw(`SELECT p.id, p.name, p.email, p.role, i.seen_at FROM sign_ins i JOIN people p ON p.id = i.person
		WHERE i.id = ? AND i.ended_at IS NULL AND p.gone_at IS NULL`, id).Scan(&row).Error != nil || row.ID == 0 {
		return nil
	}
	if time.Since(row.SeenAt) > time.Minute {
		_ = db.Exec("UPDATE sign_ins SET seen_at = now() WHERE id = ?", id).Error
	}
	return &Person{ID: row.ID, Name: row.Name, Email: row.Email, Role: row.Role, SignIn: id}
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
	editors             // editors and administrators; of what belongs to a team, those of the team
	administrators
)

// register adds an operation for people who are signed in. What it changes is written into the audit log.
func register[I, O any](s *Server, o huma.Operation, n need, fn func(context.Context, *Person, *I) (*O, error)) {
	o.Security = []map[string][]string{{"session": {}}}
	subject, audited := subjectOf(o)
	if s.summaries == nil {
		s.summaries = map[string]string{}
	}
	s.summaries[o.OperationID], _, _ = strings.Cut(o.Summary, ";")
	huma.Register(s.api, o, func(ctx context.Context, in *I) (*O, error) {
		p := s.person(ctx)
		if p == nil {
			return nil, huma.Error401Unauthorized("sign in first")
		}
		if n == editors && p.Role == "viewer" {
			return nil, huma.Error403Forbidden("viewers can look but not change anything; ask an administrator for the role of editor")
		}
		if n == administrators && p.Role != "administrator" {
			return nil, huma.Error403Forbidden("this is for administrators")
		}
		about, before := "", json.RawMessage(nil)
		if audited {
			if about = subject.in(in); subject.what == "workflow" && n == editors {
				id, _ := strconv.ParseInt(about, 10, 64)
				if err := s.mayEdit(ctx, p, id); err != nil {
					return nil, s.plainError(o.OperationID, err)
				}
			}
			before = s.snapshot(ctx, subject, about)
		}
		out, err := fn(ctx, p, in)
		if audited && err == nil {
			if about == "" {
				about = subject.in(out)
			}
			s.record(ctx, p, o.OperationID, subject, about, before)
		}
		return out, s.plainError(o.OperationID, err)
	})
}

// pgNoSuchText is PostgreSQL's code for bytes that are no text.
const pgNoSuchText = "22021"

// plainError keeps what is not meant for people out of answers.
func (s *Server) plainError(operation string, err error) error {
	if err == nil {
		return nil
	}
	var status huma.StatusError
	var pg *pgconn.PgError
	switch {
	case errors.As(err, &status):
		return err
	case errors.Is(err, gorm.ErrRecordNotFound):
		return huma.Error404NotFound("there is no such thing, or it is gone")
	case errors.Is(err, gorm.ErrDuplicatedKey):
		return huma.Error409Conflict("there is one with this name already")
	case errors.As(err, &pg) && pg.Code == pgNoSuchText:
		return huma.Error400BadRequest("a text holds a character that no text can hold, such as NUL")
	case errors.Is(err, context.Canceled):
		return huma.NewError(499, "the request was ended")
	}
	s.Log.Error("request failed", "operation", operation, "error", err)
	return huma.Error500InternalServerError("something went wrong here; it has been written to the log")
}

func op(id, method, path, summary, tag string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: 4 << 20}
}
