package kit

import (
	"context"
	"encoding/json"
	"errors"
	"net/http"
	"strings"
	"time"

	"dorfbote/internal/store"

	"github.com/danielgtaylor/huma/v2"
	"github.com/jackc/pgx/v5/pgconn"
	"gorm.io/gorm"
)

// Proving bounds how long a proof may take.
const Proving = 40 * time.Second

// Person is who is signed in.
type Person struct {
	ID    int64  `json:"id"`
	Name  string `json:"name"`
	Email string `json:"email"`
	Role  string `json:"role" enum:"administrator,editor,viewer"`

	// KeepsBook is true of who may change the people book.
	KeepsBook bool `json:"keeps_book"`

	SignIn int64 `json:"-"` // of this session
}

type PersonKey struct{}

// What a session holds. The sign-in is what can be ended from elsewhere.
const (
	SessionPerson = "person"
	SessionSignIn = "sign-in"
)

// Person gives who is signed in, or nil.
func (k *Kit) Person(ctx context.Context) *Person {
	if p, ok := ctx.Value(PersonKey{}).(*Person); ok {
		return p
	}
	id := k.Sessions.GetInt64(ctx, SessionSignIn)
	if id == 0 {
		return nil
	}
	p, seen, err := k.Store.SignedIn(ctx, id)
	if err != nil || p == nil {
		return nil
	}
	if k.Engine.Now().Sub(seen) > time.Minute {
		_ = k.Store.SeenSignIn(ctx, id)
	}
	return &Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, KeepsBook: p.KeepsBook || p.Role == store.Administrator, SignIn: id}
}

// Need is what a person must be to call an operation.
type Need int

const (
	Anyone  Need = iota // everyone who is signed in
	Editors             // editors and administrators; of what belongs to a team, those of the team
	Administrators
	BookKeepers // those who may change the people book
)

// Register adds an operation for people who are signed in, which changes nothing.
func Register[I, O any](k *Kit, o huma.Operation, n Need, fn func(context.Context, *Person, *I) (*O, error)) {
	k.secured(&o, n)
	k.Needs[o.OperationID] = n
	huma.Register(k.API, o, func(ctx context.Context, in *I) (*O, error) {
		out, err := fn(ctx, k.Person(ctx), in)
		return out, k.PlainError(o.OperationID, err)
	})
}

// Changes adds an operation for people who are signed in, which changes what c states. The change and its entry in the
// audit log are one transaction; an operation that is refused, or changes nothing, leaves no entry.
func Changes[I, O any](k *Kit, o huma.Operation, n Need, c Change[I, O], fn func(context.Context, *Person, *I) (*O, error)) {
	k.secured(&o, n)
	k.Changing[o.OperationID] = c.Auditable
	k.Needs[o.OperationID] = n
	k.Making[o.OperationID] = c.out != nil
	summary, _, _ := strings.Cut(o.Summary, ";")
	k.Summaries[o.OperationID] = summary
	huma.Register(k.API, o, func(ctx context.Context, in *I) (out *O, err error) {
		p := k.Person(ctx)
		// What has begun is done and entered, also where the caller goes away in the middle.
		ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), changing)
		defer cancel()
		ctx, extra := touching(ctx)
		err = k.Store.Within(ctx, func(ctx context.Context) error {
			about := given(c.in, in)
			if c.self {
				about = IDText(p.ID)
			}
			before, err := k.before(ctx, p, n, c.Auditable, about)
			if err != nil {
				return err
			}
			if out, err = fn(ctx, p, in); err != nil {
				return err
			}
			if about == "" {
				about = given(c.out, out)
			}
			entry := store.AuditEntry{Person: &p.ID, Name: p.Name, Did: o.OperationID, What: c.What, About: about, Before: before}
			if extra.after != nil {
				entry.Before, entry.After = extra.before, extra.after
				return k.Store.WriteAudit(ctx, entry)
			}
			return k.After(ctx, entry, c.Auditable, c.act)
		})
		if err != nil {
			return nil, k.PlainError(o.OperationID, err)
		}
		k.Engine.Sources.Forget() // what this process keeps in mind of it; the others are told
		return out, nil
	})
}

func given[T any](name func(*T) string, v *T) string {
	if name == nil || v == nil {
		return ""
	}
	return name(v)
}

// changing bounds one change.
const changing = 2 * time.Minute

// touched is what an operation on many says of what it touched.
type touched struct{ before, after json.RawMessage }

type touchedKey struct{}

func touching(ctx context.Context) (context.Context, *touched) {
	t := &touched{}
	return context.WithValue(ctx, touchedKey{}, t), t
}

// Touched has the audit log's entry name what an operation on many touched, as it was before and as it is now.
func Touched(ctx context.Context, before, after any) {
	t, ok := ctx.Value(touchedKey{}).(*touched)
	if !ok {
		return
	}
	t.before, _ = json.Marshal(before) // of what the store gives, which cannot fail
	t.after, _ = json.Marshal(after)
}

// before gives a thing as it is before a change, and refuses the change of what belongs to another team.
func (k *Kit) before(ctx context.Context, p *Person, n Need, a store.Auditable, about string) (json.RawMessage, error) {
	if n == Editors && p.Role != store.Administrator && about != "" {
		owners, err := k.Store.OwnersOf(ctx, a, about)
		if err != nil {
			return nil, err
		}
		for _, workflow := range owners {
			if err := k.MayEdit(ctx, p, workflow); err != nil {
				return nil, err
			}
		}
	}
	return k.Store.Snapshot(ctx, a, about)
}

// After writes down what a change has made different; of an act, that it was done.
func (k *Kit) After(ctx context.Context, e store.AuditEntry, a store.Auditable, act bool) error {
	var err error
	if e.After, err = k.Store.Snapshot(ctx, a, e.About); err != nil {
		return err
	}
	if string(e.Before) == string(e.After) {
		if !act {
			return nil
		}
		e.Before, e.After = nil, nil
	}
	return k.Store.WriteAudit(ctx, e)
}

// secured has a session's person and role looked at before the body is read.
func (k *Kit) secured(o *huma.Operation, n Need) {
	o.Security = []map[string][]string{{"session": {}}}
	if k.Summaries == nil {
		k.Summaries, k.Changing, k.Needs, k.Making = map[string]string{}, map[string]store.Auditable{}, map[string]Need{}, map[string]bool{}
	}
	o.Middlewares = append(o.Middlewares, func(ctx huma.Context, next func(huma.Context)) {
		p := k.Person(ctx.Context())
		switch {
		case p == nil:
			_ = huma.WriteErr(k.API, ctx, http.StatusUnauthorized, "sign in first")
		case n == Editors && p.Role == "viewer":
			_ = huma.WriteErr(k.API, ctx, http.StatusForbidden, "viewers can look but not change anything; ask an administrator for the role of editor")
		case n == BookKeepers && !p.KeepsBook:
			_ = huma.WriteErr(k.API, ctx, http.StatusForbidden, "whoever changes the people book decides who is told what, and who may answer; ask an administrator for the right to")
		case n == Administrators && p.Role != "administrator":
			_ = huma.WriteErr(k.API, ctx, http.StatusForbidden, "this is for administrators")
		default:
			next(huma.WithValue(ctx, PersonKey{}, p))
		}
	})
}

// pgNoSuchText is PostgreSQL's code for bytes that are no text.
const pgNoSuchText = "22021"

// OrMissing is an error of the database, or, where there is none, that there is no such thing.
func OrMissing(err error) error {
	if err != nil {
		return err
	}
	return gorm.ErrRecordNotFound
}

// PlainError keeps what is not meant for people out of answers.
func (k *Kit) PlainError(operation string, err error) error {
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
	k.Log.Error("request failed", "operation", operation, "error", err)
	return huma.Error500InternalServerError("something went wrong here; it has been written to the log")
}

func Op(id, method, path, summary, tag string) huma.Operation {
	return huma.Operation{OperationID: id, Method: method, Path: path, Summary: summary, Tags: []string{tag}, MaxBodyBytes: 4 << 20}
}
