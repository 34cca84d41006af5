package api

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"
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
	var p store.Person
	err := s.store.DB.WithContext(ctx).First(&p, "lower(email) = ? AND gone_at IS NULL", email).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, s.plainError("sign-in", err)
	}
	fits, err := s.guess(ctx, email, p.PasswordHash, in.Body.Password)
	if err != nil {
		return nil, s.plainError("sign-in", err)
	}
	if !fits {
		return nil, huma.Error401Unauthorized("the address or the password is not right")
	}
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
	if s.Engine.Now().Sub(row.SeenAt) > time.Minute {
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

// register adds an operation for people who are signed in, which changes nothing.
func register[I, O any](s *Server, o huma.Operation, n need, fn func(context.Context, *Person, *I) (*O, error)) {
	s.secured(&o, n)
	huma.Register(s.api, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := fn(ctx, s.person(ctx), in)
		return out, s.plainError(o.OperationID, err)
	})
}

// changes adds an operation for people who are signed in, which changes what c states. The change and its entry in the
// audit log are one transaction; an operation that is refused, or changes nothing, leaves no entry.
func changes[I, O any](s *Server, o huma.Operation, n need, c changing[I, O], fn func(context.Context, *Person, *I) (*O, error)) {
	s.secured(&o, n)
	s.changing[o.OperationID] = c.auditable
	summary, _, _ := strings.Cut(o.Summary, ";")
	s.summaries[o.OperationID] = summary
	huma.Register(s.api, o, func(ctx context.Context, in *I) (out *O, err error) {
		p := s.person(ctx)
		err = s.store.Within(ctx, func(ctx context.Context) error {
			about := given(c.in, in)
			if c.self {
				about = idText(p.ID)
			}
			before, err := s.before(ctx, p, n, c.auditable, about)
			if err != nil {
				return err
			}
			if out, err = fn(ctx, p, in); err != nil {
				return err
			}
			if about == "" {
				about = given(c.out, out)
			}
			return s.after(ctx, entry{person: &p.ID, name: p.Name, did: o.OperationID, what: c.what, about: about, before: before}, c.auditable, c.act)
		})
		if err != nil {
			return nil, s.plainError(o.OperationID, err)
		}
		return out, nil
	})
}

func given[T any](name func(*T) string, v *T) string {
	if name == nil || v == nil {
		return ""
	}
	return name(v)
}

// before gives a thing as it is before a change, and refuses the change of a workflow that belongs to another team.
func (s *Server) before(ctx context.Context, p *Person, n need, a auditable, about string) (json.RawMessage, error) {
	if a.what == "workflow" && n == editors {
		id, _ := strconv.ParseInt(about, 10, 64)
		if err := s.mayEdit(ctx, p, id); err != nil {
			return nil, err
		}
	}
	return s.snapshot(ctx, a, about)
}

// after writes down what a change has made different; of an act, that it was done.
func (s *Server) after(ctx context.Context, e entry, a auditable, act bool) error {
	var err error
	if e.after, err = s.snapshot(ctx, a, e.about); err != nil {
		return err
	}
	if string(e.before) == string(e.after) {
		if !act {
			return nil
		}
		e.before, e.after = nil, nil
	}
	return s.write(ctx, e)
}

// secured has a session's person and role looked at before the body is read.
func (s *Server) secured(o *huma.Operation, n need) {
	o.Security = []map[string][]string{{"session": {}}}
	if s.summaries == nil {
		s.summaries, s.changing = map[string]string{}, map[string]auditable{}
	}
	o.Middlewares = append(o.Middlewares, func(ctx huma.Context, next func(huma.Context)) {
		p := s.person(ctx.Context())
		switch {
		case p == nil:
			_ = huma.WriteErr(s.api, ctx, http.StatusUnauthorized, "sign in first")
		case n == editors && p.Role == "viewer":
			_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, "viewers can look but not change anything; ask an administrator for the role of editor")
		case n == administrators && p.Role != "administrator":
			_ = huma.WriteErr(s.api, ctx, http.StatusForbidden, "this is for administrators")
		default:
			next(huma.WithValue(ctx, personKey{}, p))
		}
	})
}

// pgNoSuchText is PostgreSQL's code for bytes that are no text.
const pgNoSuchText = "22021"

// orMissing is an error of the database, or, where there is none, that there is no such thing.
func orMissing(err error) error {
	if err != nil {
		return err
	}
	return gorm.ErrRecordNotFound
}

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
