package people

import (
	"context"
	"net/http"
	"net/mail"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/notify"
	"dorfbote/internal/store"
)

// PersonItem is someone who may sign in.
type PersonItem struct {
	ID    int64      `json:"id"`
	Name  string     `json:"name"`
	Email string     `json:"email"`
	Role  string     `json:"role" enum:"administrator,editor,viewer"`
	Teams []int64    `json:"teams"`
	Gone  bool       `json:"gone" doc:"may not sign in any more"`
	Seen  *time.Time `json:"seen" doc:"when last here"`
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
		Name  *string  `json:"name,omitempty" minLength:"1" maxLength:"200"`
		Role  *string  `json:"role,omitempty" enum:"administrator,editor,viewer"`
		Teams *[]int64 `json:"teams,omitempty"`
		Gone  *bool    `json:"gone,omitempty"`
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
	kit.Changes(s.Kit, kit.Op("change-person", http.MethodPatch, "/api/people/{id}", "Change a person's name, role or teams, or let them go", "People"), kit.Administrators, kit.About[changePersonInput, personItemOutput](kit.AboutPerson, func(in *changePersonInput) string { return kit.IDText(in.ID) }), s.changePerson)
	kit.Register(s.Kit, kit.Op("list-teams", http.MethodGet, "/api/teams", "Teams that workflows belong to", "People"), kit.Anyone, s.listTeams)
	kit.Changes(s.Kit, kit.Op("create-team", http.MethodPost, "/api/teams", "Make a team", "People"), kit.Administrators, kit.Makes[newTeamInput](kit.AboutTeam, func(out *teamOutput) string { return kit.IDText(out.Body.ID) }), s.createTeam)
	kit.Changes(s.Kit, kit.Op("change-team", http.MethodPatch, "/api/teams/{id}", "Rename a team", "People"), kit.Administrators, kit.About[teamInput, teamOutput](kit.AboutTeam, func(in *teamInput) string { return kit.IDText(in.ID) }), s.changeTeam)
	kit.Changes(s.Kit, kit.Op("delete-team", http.MethodDelete, "/api/teams/{id}", "Delete a team; its workflows belong to everyone", "People"), kit.Administrators, kit.ByID[struct{}](kit.AboutTeam), s.deleteTeam)
	kit.Changes(s.Kit, kit.Op("change-password", http.MethodPost, "/api/me/password", "Choose a new password; other sessions end", "People"), kit.Anyone, kit.Oneself[passwordInput, struct{}](), s.changePassword)
	s.signInsRoutes()
	s.invitationRoutes()
	s.auditRoutes()
}

func (s *People) listPeople(ctx context.Context, who *kit.Person, _ *struct{}) (*kit.List[PersonItem], error) {
	items, err := s.people(ctx, 0)
	if who.Role != "administrator" {
		for i := range items {
			items[i].Seen = nil
		}
	}
	return kit.ListOf(items, 0), err
}

func (s *People) people(ctx context.Context, id int64) ([]PersonItem, error) {
	var rows []struct {
		ID                int64
		Name, Email, Role string
		GoneAt, Seen      *time.Time
	}
	db := s.Store.DB.WithContext(ctx)
	if err := db.Raw(`SELECT p.id, p.name, p.email, p.role, p.gone_at, (SELECT max(seen_at) FROM sign_ins WHERE person = p.id) AS seen
		FROM people p WHERE ? = 0 OR p.id = ? ORDER BY p.gone_at IS NOT NULL, p.name LIMIT 2000`, id, id).Scan(&rows).Error; err != nil {
		return nil, err
	}
	var members []struct{ Team, Person int64 }
	if err := db.Raw("SELECT team, person FROM team_people ORDER BY team").Scan(&members).Error; err != nil {
		return nil, err
	}
	teams := map[int64][]int64{}
	for _, m := range members {
		teams[m.Person] = append(teams[m.Person], m.Team)
	}
	items := make([]PersonItem, 0, len(rows))
	for _, r := range rows {
		it := PersonItem{ID: r.ID, Name: r.Name, Email: r.Email, Role: r.Role, Gone: r.GoneAt != nil, Seen: r.Seen, Teams: teams[r.ID]}
		if it.Teams == nil {
			it.Teams = []int64{}
		}
		items = append(items, it)
	}
	return items, nil
}

var errLastAdministrator = huma.Error409Conflict("this is the last administrator; make somebody else one first")

func (s *People) changePerson(ctx context.Context, who *kit.Person, in *changePersonInput) (*personItemOutput, error) {
	err := s.Store.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		set := map[string]any{}
		if in.Body.Name != nil {
			set["name"] = strings.TrimSpace(*in.Body.Name)
		}
		if in.Body.Role != nil {
			set["role"] = *in.Body.Role
		}
		if in.Body.Gone != nil {
			if set["gone_at"] = gorm.Expr("NULL"); *in.Body.Gone {
				if in.ID == who.ID {
					return huma.Error409Conflict("you cannot let yourself go")
				}
				set["gone_at"] = s.Engine.Now()
			}
		}
		if err := store.Lock(ctx, tx.Statement.ConnPool, store.LockAdministrators, ""); err != nil {
			return err
		}
		if len(set) > 0 {
			res := tx.Table("people").Where("id = ?", in.ID).Updates(set)
			if res.Error != nil {
				return res.Error
			}
			if res.RowsAffected == 0 {
				return gorm.ErrRecordNotFound
			}
		}
		var left int64
		if err := tx.Raw("SELECT count(*) FROM people WHERE role = 'administrator' AND gone_at IS NULL").Scan(&left).Error; err != nil {
			return err
		}
		if left == 0 {
			return errLastAdministrator
		}
		if in.Body.Teams == nil {
			return nil
		}
		if err := tx.Exec("DELETE FROM team_people WHERE person = ?", in.ID).Error; err != nil {
			return err
		}
		for _, t := range *in.Body.Teams {
			if err := tx.Exec("INSERT INTO team_people (team, person) VALUES (?, ?) ON CONFLICT DO NOTHING", t, in.ID).Error; err != nil {
				return kit.NoSuchTeam(err)
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
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
	var items []TeamItem
	err := s.Store.DB.WithContext(ctx).Raw(`SELECT t.id, t.name, (SELECT count(*) FROM team_people m JOIN people p ON p.id = m.person AND p.gone_at IS NULL WHERE m.team = t.id) AS people,
		(SELECT count(*) FROM workflows w WHERE w.team = t.id) AS workflows FROM teams t WHERE ? = 0 OR t.id = ? ORDER BY t.name LIMIT 1000`, id, id).Scan(&items).Error
	return items, err
}

func (s *People) listTeams(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[TeamItem], error) {
	items, err := s.teams(ctx, 0)
	return kit.ListOf(items, 0), err
}

func (s *People) createTeam(ctx context.Context, _ *kit.Person, in *newTeamInput) (*teamOutput, error) {
	var id int64
	if err := s.Store.DB.WithContext(ctx).Raw("INSERT INTO teams (name) VALUES (?) RETURNING id", strings.TrimSpace(in.Body.Name)).Scan(&id).Error; err != nil {
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
	if err := s.Store.DB.WithContext(ctx).Exec("UPDATE teams SET name = ? WHERE id = ?", strings.TrimSpace(in.Body.Name), in.ID).Error; err != nil {
		return nil, err
	}
	return s.oneTeam(ctx, in.ID)
}

func (s *People) deleteTeam(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	res := s.Store.DB.WithContext(ctx).Exec("DELETE FROM teams WHERE id = ?", in.ID)
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	s.Engine.Tell(ctx, notify.Message{Topic: notify.Workflows})
	return nil, res.Error
}

func (s *People) changePassword(ctx context.Context, who *kit.Person, in *passwordInput) (*struct{}, error) {
	var stored string
	db := s.Store.DB.WithContext(ctx)
	if err := db.Raw("SELECT password_hash FROM people WHERE id = ?", who.ID).Scan(&stored).Error; err != nil {
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
	if err := db.Exec("UPDATE people SET password_hash = ? WHERE id = ?", hash, who.ID).Error; err != nil {
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

// Roles are what a person may be, the most powerful first.
var Roles = []string{"administrator", "editor", "viewer"}

// byCommand is who the audit log names for what is done on the command line.
const byCommand = "the command line"

// SetPerson adds a person, or gives one another name, role and password, as the command line does; with an entry in the
// audit log.
func SetPerson(ctx context.Context, st *store.Store, p store.Person, password string) error {
	s := &People{Kit: &kit.Kit{Store: st}}
	return st.Within(ctx, func(ctx context.Context) error {
		db := st.DB.WithContext(ctx)
		var id int64
		email := strings.ToLower(p.Email)
		if err := db.Raw("SELECT id FROM people WHERE email = ?", email).Scan(&id).Error; err != nil {
			return err
		}
		e := kit.Entry{Name: byCommand, Did: "set-person", What: kit.AboutPerson.What}
		var err error
		if id != 0 {
			if e.Before, err = s.Snapshot(ctx, kit.AboutPerson, kit.IDText(id)); err != nil {
				return err
			}
		}
		err = db.Raw(`INSERT INTO people (email, name, role, password_hash) VALUES (?, ?, ?, ?)
			ON CONFLICT (email) DO UPDATE SET password_hash = excluded.password_hash, name = excluded.name, role = excluded.role RETURNING id`,
			email, p.Name, p.Role, auth.HashPassword(password)).Scan(&id).Error
		if err != nil {
			return err
		}
		e.About = kit.IDText(id)
		return s.After(ctx, e, kit.AboutPerson, false)
	})
}
