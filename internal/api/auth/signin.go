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

type PersonOutput struct{ Body kit.Person }

// Routes registers the operations of this room.
func (a *Auth) Routes() {
	huma.Register(a.API, kit.Op("sign-in", http.MethodPost, "/api/sign-in", "Sign in", "People"), a.signIn)
	huma.Register(a.API, kit.Op("sign-out", http.MethodPost, "/api/sign-out", "Sign out", "People"), func(ctx context.Context, _ *struct{}) (*struct{}, error) {
		if id := a.Sessions.GetInt64(ctx, kit.SessionSignIn); id > 0 {
			if err := a.Store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL", id).Error; err != nil {
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
	var p store.Person
	err := a.Store.DB.WithContext(ctx).First(&p, "lower(email) = ? AND gone_at IS NULL", email).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return nil, a.PlainError("sign-in", err)
	}
	fits, err := a.Guess(ctx, email, p.PasswordHash, in.Body.Password)
	if err != nil {
		return nil, a.PlainError("sign-in", err)
	}
	if !fits {
		return nil, huma.Error401Unauthorized("the address or the password is not right")
	}
	return a.SignInAs(ctx, p)
}

// SignedIn lets only people through who are signed in.
func (a *Auth) SignedIn(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		p := a.Person(r.Context())
		if p == nil {
			kit.WriteProblem(w, http.StatusUnauthorized, "", "sign in first")
			return
		}
		if p.Role == "viewer" && r.Method != http.MethodGet {
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
	var id int64
	if err := a.Store.DB.WithContext(ctx).Raw("INSERT INTO sign_ins (person, address, program) VALUES (?, ?, ?) RETURNING id", p.ID, from.Address, from.Program).Scan(&id).Error; err != nil {
		return nil, a.PlainError("sign-in", err)
	}
	a.Sessions.Put(ctx, kit.SessionPerson, p.ID)
	a.Sessions.Put(ctx, kit.SessionSignIn, id)
	return &PersonOutput{kit.Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, SignIn: id}}, nil
}
