package people

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/notify"
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

func (s *People) signInsRoutes() {
	kit.Register(s.Kit, kit.Op("list-sign-ins", http.MethodGet, "/api/sign-ins", "Where one is signed in", "People"), kit.Anyone, s.listSignIns)
	kit.Changes(s.Kit, kit.Op("end-sign-in", http.MethodPost, "/api/sign-ins/{id}/end", "End a session", "People"), kit.Anyone, kit.ByID[struct{}](kit.AboutSession), s.endSignIn)
	kit.Changes(s.Kit, kit.Op("end-other-sign-ins", http.MethodPost, "/api/sign-ins/end-others", "End every session but this one", "People"), kit.Anyone, kit.Oneself[struct{}, struct{}](), func(ctx context.Context, who *kit.Person, _ *struct{}) (*struct{}, error) {
		return nil, s.endSignIns(ctx, who.ID, who.SignIn)
	})
}

func (s *People) listSignIns(ctx context.Context, who *kit.Person, in *signInsInput) (*kit.List[SignInItem], error) {
	person := who.ID
	if in.Person != 0 && in.Person != who.ID {
		if who.Role != "administrator" {
			return nil, huma.Error403Forbidden("only administrators see where others are signed in")
		}
		person = in.Person
	}
	var items []SignInItem
	err := s.Store.DB.WithContext(ctx).Raw(`SELECT id, person, at, seen_at, address, program, id = ? AS current FROM sign_ins
		WHERE person = ? AND ended_at IS NULL AND seen_at > ? ORDER BY seen_at DESC LIMIT 200`, who.SignIn, person, s.Engine.Now().Add(-s.Sessions.Lifetime)).Scan(&items).Error
	return kit.ListOf(items, 0), err
}

func (s *People) endSignIn(ctx context.Context, who *kit.Person, in *kit.IDInput) (*struct{}, error) {
	// Somebody else's is answered like one that does not exist, but to an administrator.
	res := s.Store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL AND (person = ? OR ?)", in.ID, who.ID, who.Role == "administrator")
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return nil, res.Error
}

// endSignIns ends a person's sessions but one.
func (s *People) endSignIns(ctx context.Context, person, but int64) error {
	err := s.Store.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE person = ? AND ended_at IS NULL AND id <> ?", person, but).Error
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return err
}
