package people

import (
	"context"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// PersonItem is someone who may sign in.
type PersonItem struct {
	ID        int64      `json:"id"`
	Name      string     `json:"name"`
	Email     string     `json:"email"`
	Role      string     `json:"role" enum:"administrator,editor,viewer"`
	Teams     []int64    `json:"teams"`
	KeepsBook bool       `json:"keeps_book" doc:"may change the people book, as administrators may"`
	Gone      bool       `json:"gone" doc:"may not sign in any more"`
	Seen      *time.Time `json:"seen" doc:"when last here"`
}

// TeamItem is a team that workflows belong to.
type TeamItem struct {
	ID        int64  `json:"id"`
	Name      string `json:"name"`
	People    int64  `json:"people"`
	Workflows int64  `json:"workflows"`
}

type changePersonInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Name      *string  `json:"name,omitempty" minLength:"1" maxLength:"200"`
		Role      *string  `json:"role,omitempty" enum:"administrator,editor,viewer"`
		Teams     *[]int64 `json:"teams,omitempty"`
		Gone      *bool    `json:"gone,omitempty"`
		KeepsBook *bool    `json:"keeps_book,omitempty" doc:"may change the people book"`
	}
}

type personItemOutput struct{ Body PersonItem }

type teamOutput struct{ Body TeamItem }

type teamInput struct {
	ID   int64 `path:"id"`
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"100"`
	}
}

type newTeamInput struct {
	Body struct {
		Name string `json:"name" minLength:"1" maxLength:"100"`
	}
}

type passwordInput struct {
	Body struct {
		Current string `json:"current" maxLength:"500"`
		New     string `json:"new" minLength:"10" maxLength:"500"`
	}
}

// Routes registers the operations of this room.
func (s *People) Routes() {
	kit.Register(s.Kit, kit.Op("list-people", http.MethodGet, "/api/people", "Who may sign in", "People"), kit.Anyone, s.listPeople)
	kit.Changes(s.Kit, kit.Op("change-person", http.MethodPatch, "/api/people/{id}", "Change a person's name, role or teams, or let them go", "People"), kit.Administrators, kit.About[changePersonInput, personItemOutput](store.AboutPerson, func(in *changePersonInput) string { return kit.IDText(in.ID) }), s.changePerson)
	kit.Register(s.Kit, kit.Op("list-teams", http.MethodGet, "/api/teams", "Teams that workflows belong to", "People"), kit.Anyone, s.listTeams)
	kit.Changes(s.Kit, kit.Op("create-team", http.MethodPost, "/api/teams", "Make a team", "People"), kit.Administrators, kit.Makes[newTeamInput](store.AboutTeam, func(out *teamOutput) string { return kit.IDText(out.Body.ID) }), s.createTeam)
	kit.Changes(s.Kit, kit.Op("change-team", http.MethodPatch, "/api/teams/{id}", "Rename a team", "People"), kit.Administrators, kit.About[teamInput, teamOutput](store.AboutTeam, func(in *teamInput) string { return kit.IDText(in.ID) }), s.changeTeam)
	kit.Changes(s.Kit, kit.Op("delete-team", http.MethodDelete, "/api/teams/{id}", "Delete a team; its workflows belong to everyone", "People"), kit.Administrators, kit.ByID[struct{}](store.AboutTeam), s.deleteTeam)
	kit.Changes(s.Kit, kit.Op("change-password", http.MethodPost, "/api/me/password", "Choose a new password; other sessions end", "People"), kit.Anyone, kit.Oneself[passwordInput, struct{}](), s.changePassword)
	s.signInsRoutes()
	s.invitationRoutes()
	s.bookRoutes()
	s.auditRoutes()
}

func (s *People) listPeople(ctx context.Context, who *kit.Person, _ *struct{}) (*kit.List[PersonItem], error) {
	items, err := s.people(ctx, 0)
	if who.Role != store.Administrator {
		for i := range items {
			items[i].Seen = nil
		}
	}
	return kit.ListOf(items, 0), err
}

func (s *People) people(ctx context.Context, id int64) ([]PersonItem, error) {
	rows, err := s.Store.People(ctx, id)
	if err != nil {
		return nil, err
	}
	items := make([]PersonItem, 0, len(rows))
	for _, r := range rows {
		it := PersonItem{ID: r.ID, Name: r.Name, Email: r.Email, Role: r.Role, KeepsBook: r.KeepsBook, Gone: r.GoneAt != nil, Seen: r.Seen, Teams: r.Teams}
		if it.Teams == nil {
			it.Teams = []int64{}
		}
		items = append(items, it)
	}
	return items, nil
}

var errLastAdministrator = huma.Error409Conflict("this is the last administrator; make somebody else one first")

func (s *People) changePerson(ctx context.Context, who *kit.Person, in *changePersonInput) (*personItemOutput, error) {
	if in.Body.Gone != nil && *in.Body.Gone && in.ID == who.ID {
		return nil, huma.Error409Conflict("you cannot let yourself go")
	}
	change := store.PersonChange{Name: in.Body.Name, Role: in.Body.Role, Gone: in.Body.Gone, KeepsBook: in.Body.KeepsBook, Teams: in.Body.Teams}
	administered, err := s.Store.ChangePerson(ctx, in.ID, change, s.Engine.Now())
	if err != nil {
		return nil, kit.NoSuchTeam(err)
	}
	if !administered {
		return nil, errLastAdministrator
	}
	if in.Body.Gone != nil && *in.Body.Gone {
		if err := s.endSignIns(ctx, in.ID, 0); err != nil {
			return nil, err
		}
	}
	items, err := s.people(ctx, in.ID)
	if err != nil || len(items) == 0 {
		return nil, kit.OrMissing(err)
	}
	return &personItemOutput{items[0]}, nil
}

func (s *People) teams(ctx context.Context, id int64) ([]TeamItem, error) {
	rows, err := s.Store.Teams(ctx, id)
	items := make([]TeamItem, 0, len(rows))
	for _, r := range rows {
		items = append(items, TeamItem(r))
	}
	return items, err
}

func (s *People) listTeams(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[TeamItem], error) {
	items, err := s.teams(ctx, 0)
	return kit.ListOf(items, 0), err
}

func (s *People) createTeam(ctx context.Context, _ *kit.Person, in *newTeamInput) (*teamOutput, error) {
	id, err := s.Store.AddTeam(ctx, strings.TrimSpace(in.Body.Name))
	if err != nil {
		return nil, err
	}
	return s.oneTeam(ctx, id)
}

func (s *People) oneTeam(ctx context.Context, id int64) (*teamOutput, error) {
	items, err := s.teams(ctx, id)
	if err != nil || len(items) == 0 {
		return nil, kit.OrMissing(err)
	}
	return &teamOutput{items[0]}, nil
}

func (s *People) changeTeam(ctx context.Context, _ *kit.Person, in *teamInput) (*teamOutput, error) {
	if err := s.Store.RenameTeam(ctx, in.ID, strings.TrimSpace(in.Body.Name)); err != nil {
		return nil, err
	}
	return s.oneTeam(ctx, in.ID)
}

func (s *People) deleteTeam(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	if err := s.Store.DeleteTeam(ctx, in.ID); err != nil {
		return nil, err
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows})
	return nil, nil
}

func (s *People) changePassword(ctx context.Context, who *kit.Person, in *passwordInput) (*struct{}, error) {
	stored, err := s.Store.PasswordOf(ctx, who.ID)
	if err != nil {
		return nil, err
	}
	fits, err := s.Auth.Guess(ctx, strings.ToLower(who.Email), stored, in.Body.Current)
	if err != nil {
		return nil, err
	}
	if !fits {
		return nil, huma.Error422UnprocessableEntity("the current password is not right", &huma.ErrorDetail{Location: "body.current", Message: "it is another"})
	}
	hash, err := s.Auth.Hash(ctx, in.Body.New)
	if err != nil {
		return nil, err
	}
	if err := s.Store.SetPassword(ctx, who.ID, hash); err != nil {
		return nil, err
	}
	return nil, s.endSignIns(ctx, who.ID, who.SignIn)
}

func readEmail(text string) (string, error) {
	a, err := mail.ParseAddress(strings.TrimSpace(text))
	if err != nil {
		return "", huma.Error422UnprocessableEntity("this is no mail address", &huma.ErrorDetail{Location: "body.email", Message: "write it like vera@lindental.example", Value: text})
	}
	return strings.ToLower(a.Address), nil
}

// byCommand is who the audit log names for what is done on the command line.
const byCommand = "the command line"

// SetPerson adds a person, or gives one another name, role and password, as the command line does; with an entry in the
// audit log.
func SetPerson(ctx context.Context, st *store.Store, p store.Person, password string) error {
	p.PasswordHash = auth.HashPassword(password)
	return st.Within(ctx, func(ctx context.Context) error {
		id, err := st.PersonWith(ctx, p.Email)
		if err != nil {
			return err
		}
		e := store.AuditEntry{Name: byCommand, Did: "set-person", What: store.AboutPerson.What}
		if id != 0 {
			if e.Before, err = st.Snapshot(ctx, store.AboutPerson, kit.IDText(id)); err != nil {
				return err
			}
		}
		if id, err = st.SetPerson(ctx, p); err != nil {
			return err
		}
		e.About = kit.IDText(id)
		return (&kit.Kit{Store: st}).After(ctx, e, store.AboutPerson, false)
	})
}
