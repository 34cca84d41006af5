package people

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/kit"
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

func (s *People) signInsRoutes() {
	kit.Register(s.Kit, kit.Op("list-sign-ins", http.MethodGet, "/api/sign-ins", "Where one is signed in", "People"), kit.Anyone, s.listSignIns)
	kit.Changes(s.Kit, kit.Op("end-sign-in", http.MethodPost, "/api/sign-ins/{id}/end", "End a session", "People"), kit.Anyone, kit.ByID[struct{}](store.AboutSession), s.endSignIn)
	kit.Changes(s.Kit, kit.Op("end-other-sign-ins", http.MethodPost, "/api/sign-ins/end-others", "End every session but this one", "People"), kit.Anyone, kit.Oneself[struct{}, struct{}](), func(ctx context.Context, who *kit.Person, _ *struct{}) (*struct{}, error) {
		return nil, s.endSignIns(ctx, who.ID, who.SignIn)
	})
}

func (s *People) listSignIns(ctx context.Context, who *kit.Person, in *signInsInput) (*kit.List[SignInItem], error) {
	person := who.ID
	if in.Person != 0 && in.Person != who.ID {
		if who.Role != store.Administrator {
			return nil, huma.Error403Forbidden("only administrators see where others are signed in")
		}
		person = in.Person
	}
	rows, err := s.Store.SignIns(ctx, person, s.Engine.Now().Add(-s.Sessions.Lifetime))
	items := make([]SignInItem, 0, len(rows))
	for _, r := range rows {
		items = append(items, SignInItem{ID: r.ID, Person: r.Person, At: r.At, SeenAt: r.SeenAt, Address: r.Address, Program: r.Program, Current: r.ID == who.SignIn})
	}
	return kit.ListOf(items, 0), err
}

func (s *People) endSignIn(ctx context.Context, who *kit.Person, in *kit.IDInput) (*struct{}, error) {
	// Somebody else's is answered like one that does not exist, but to an administrator.
	if err := s.Store.EndSignIn(ctx, in.ID, who.ID, who.Role == store.Administrator); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return nil, nil
}

// endSignIns ends a person's sessions but one.
func (s *People) endSignIns(ctx context.Context, person, but int64) error {
	err := s.Store.EndSignIns(ctx, person, but)
	s.Engine.Tell(ctx, notify.Message{Topic: notify.People})
	return err
}
