package auth

import (
	"context"
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/store"
)

type signInInput struct {
	Body struct {
		Email    string `json:"email" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"1" maxLength:"500"`
	}
}

// PersonOutput answers with who is signed in.
type PersonOutput struct{ Body kit.Person }

// Routes registers the operations of this room.
func (a *Auth) Routes() {
	huma.Register(a.API, kit.Op("sign-in", http.MethodPost, "/api/sign-in", "Sign in", "People"), a.signIn)
	huma.Register(a.API, kit.Op("sign-out", http.MethodPost, "/api/sign-out", "Sign out", "People"), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if id := a.Sessions.GetInt64(ctx, kit.SessionSignIn); id > 0 {
			if err := a.Store.EndSignIn(ctx, id, 0, true); err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
				return nil, a.PlainError("sign-out", err)
			}
		}
		return nil, a.Sessions.Destroy(ctx)
	})
	kit.Register(a.Kit, kit.Op("me", http.MethodGet, "/api/me", "Who is signed in", "People"), kit.Anyone, func(_ context.Context, who *kit.Person, _ *struct{}) (*PersonOutput, error) {
		return &PersonOutput{*who}, nil
	})
}

func (a *Auth) signIn(ctx context.Context, in *signInInput) (*PersonOutput, error) {
	email := strings.ToLower(strings.TrimSpace(in.Body.Email))
	p, err := a.Store.SignsIn(ctx, email)
	if err != nil {
		return nil, a.PlainError("sign-in", err)
	}
	if p == nil {
		p = &store.Person{} // a password is worked on all the same
	}
	fits, err := a.Guess(ctx, email, p.PasswordHash, in.Body.Password)
	if err != nil {
		return nil, a.PlainError("sign-in", err)
	}
	if !fits {
		return nil, huma.Error401Unauthorized("the address or the password is not right")
	}
	return a.SignInAs(ctx, *p)
}

// SignedIn lets only people through who are signed in.
func (a *Auth) SignedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := a.Person(r.Context())
		if p == nil {
			kit.WriteProblem(w, http.StatusUnauthorized, "", "sign in first")
			return
		}
		if p.Role == store.Viewer && r.Method != http.MethodGet {
			kit.WriteProblem(w, http.StatusForbidden, "", "viewers can look but not change anything")
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), kit.PersonKey{}, p)))
	})
}

// SignInAs signs a person in.
func (a *Auth) SignInAs(ctx context.Context, p store.Person) (*PersonOutput, error) {
	if err := a.Sessions.RenewToken(ctx); err != nil {
		return nil, err
	}
	from, _ := ctx.Value(kit.CallerKey{}).(kit.Caller)
	id, err := a.Store.AddSignIn(ctx, p.ID, from.Address, from.Program)
	if err != nil {
		return nil, a.PlainError("sign-in", err)
	}
	a.Sessions.Put(ctx, kit.SessionPerson, p.ID)
	a.Sessions.Put(ctx, kit.SessionSignIn, id)
	return &PersonOutput{kit.Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, SignIn: id}}, nil
}
