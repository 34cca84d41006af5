package api

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// SignInItem is one of a person's sessions.
type SignInItem struct {
	ID      int64     `json:"id"`
	Person  int64     `json:"person"`
	At      time.Time `json:"at"`
	SeenAt  time.Time `json:"seen_at"`
	Address string    `json:"address" doc:"where from"`
	Program string    `json:"program" doc:"the browser, as it names itself"`
	Current bool      `json:"current" doc:"this one"`
}

type signInsInput struct {
	Person int64 `query:"person" doc:"somebody else's, for administrators"`
}

func (s *Server) signInsRoutes() {
	register(s, op("list-sign-ins", http.MethodGet, "/api/sign-ins", "Where one is signed in", "People"), anyone, s.listSignIns)
	changes(s, op("end-sign-in", http.MethodPost, "/api/sign-ins/{id}/end", "End a session", "People"), anyone, byID[struct{}](aboutSession), s.endSignIn)
	changes(s, op("end-other-sign-ins", http.MethodPost, "/api/sign-ins/end-others", "End every session but this one", "People"), anyone, oneself[struct{}, struct{}](), func(ctx context.Context, who *Person, _ *struct{}) (*struct{}, error) {
		return nil, s.endSignIns(ctx, who.ID, who.SignIn)
	})
}

func (s *Server) listSignIns(ctx context.Context, who *Person, in *signInsInput) (*listOutput[SignInItem], error) {
	person := who.ID
	if in.Person != 0 && in.Person != who.ID {
		if who.Role != "administrator" {
			return nil, huma.Error403Forbidden("only administrators see where others are signed in")
		}
		person = in.Person
	}
	var items []SignInItem
	err := s.store.DB.WithContext(ctx).Raw(`SELECT id, person, at, seen_at, address, program, id = ? AS current FROM sign_ins
		WHERE person = ? AND ended_at IS NULL AND seen_at > ? ORDER BY seen_at DESC LIMIT 200`, who.SignIn, person, s.Engine.Now().Add(-s.sessions.Lifetime)).Scan(&items).Error
	return list(items, 0), err
}

func (s *Server) endSignIn(ctx context.Context, who *Person, in *idInput) (*struct{}, error) {
	// Somebody else's is answered like one that does not exist, but to an administrator.
	res := s.store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL AND (person = ? OR ?)", in.ID, who.ID, who.Role == "administrator")
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return nil, res.Error
}

// endSignIns ends a person's sessions but one.
func (s *Server) endSignIns(ctx context.Context, person, but int64) error {
	err := s.store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE person = ? AND ended_at IS NULL AND id <> ?", person, but).Error
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return err
}

// signInAs signs a person in.
func (s *Server) signInAs(ctx context.Context, p store.Person) (*personOutput, error) {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return nil, err
	}
	from, _ := ctx.Value(callerKey{}).(caller)
	var id int64
	if err := s.store.DB.WithContext(ctx).Raw("INSERT INTO sign_ins (person, address, program) VALUES (?, ?, ?) RETURNING id", p.ID, from.address, from.program).Scan(&id).Error; err != nil {
		return nil, s.plainError("sign-in", err)
	}
	s.sessions.Put(ctx, sessionPerson, p.ID)
	s.sessions.Put(ctx, sessionSignIn, id)
	return &personOutput{Person{ID: p.ID, Name: p.Name, Email: p.Email, Role: p.Role, SignIn: id}}, nil
}
