package people

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/auth"
	"dorfbote/internal/api/kit"
	"dorfbote/internal/store"
)

// invitationHolds is for how long an invitation can be accepted.
const invitationHolds = 7 * 24 * time.Hour

// InvitationItem is an invitation that is open.
type InvitationItem struct {
	ID        int64     `json:"id"`
	Email     string    `json:"email"`
	Role      string    `json:"role" enum:"administrator,editor,viewer"`
	Team      *int64    `json:"team"`
	InvitedBy string    `json:"invited_by"`
	ExpiresAt time.Time `json:"expires_at"`
	Link      string    `json:"link,omitempty" doc:"shown once, when it is made"`
}

type inviteInput struct {
	Body struct {
		Email string `json:"email" minLength:"3" maxLength:"200"`
		Role  string `json:"role" enum:"administrator,editor,viewer" default:"editor"`
		Team  *int64 `json:"team,omitempty"`
	}
}

type invitationOutput struct{ Body InvitationItem }

type tokenInput struct {
	Token string `path:"token" maxLength:"100"`
}

type acceptInput struct {
	Token string `path:"token" maxLength:"100"`
	Body  struct {
		Name     string `json:"name" minLength:"1" maxLength:"200"`
		Password string `json:"password" minLength:"10" maxLength:"500"`
	}
}

func (s *People) invitationRoutes() {
	kit.Register(s.Kit, kit.Op("list-invitations", http.MethodGet, "/api/invitations", "Invitations that are open", "People"), kit.Administrators, s.listInvitations)
	kit.Changes(s.Kit, kit.Op("invite", http.MethodPost, "/api/invitations", "Invite somebody; the link is shown once", "People"), kit.Administrators, kit.Makes[inviteInput](kit.AboutInvitation, func(out *invitationOutput) string { return kit.IDText(out.Body.ID) }), s.invite)
	kit.Changes(s.Kit, kit.Op("withdraw-invitation", http.MethodDelete, "/api/invitations/{id}", "Withdraw an invitation", "People"), kit.Administrators, kit.ByID[struct{}](kit.AboutInvitation), s.withdraw)
	huma.Register(s.API, kit.Op("read-invitation", http.MethodGet, "/api/welcome/{token}", "Whom an invitation is for", "People"), s.readInvitation)
	s.Summaries["accept-invitation"] = "Accept an invitation"
	s.Summaries["set-person"] = "Add a person, or change one"
	huma.Register(s.API, kit.Op("accept-invitation", http.MethodPost, "/api/welcome/{token}", "Accept an invitation, and sign in", "People"), s.acceptInvitation)
}

func invitationHash(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
}

func (s *People) listInvitations(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[InvitationItem], error) {
	var items []InvitationItem
	err := s.Store.DB.WithContext(ctx).Raw(`SELECT id, email, role, team, invited_by, expires_at FROM invitations
		WHERE accepted_at IS NULL AND expires_at > now() ORDER BY id DESC LIMIT 500`).Scan(&items).Error
	return kit.ListOf(items, 0), err
}

func (s *People) invite(ctx context.Context, who *kit.Person, in *inviteInput) (*invitationOutput, error) {
	email, err := readEmail(in.Body.Email)
	if err != nil {
		return nil, err
	}
	db := s.Store.DB.WithContext(ctx)
	var there int64
	if err := db.Raw("SELECT count(*) FROM people WHERE email = ? AND gone_at IS NULL", email).Scan(&there).Error; err != nil {
		return nil, err
	}
	if there > 0 {
		return nil, huma.Error409Conflict(email + " can sign in already")
	}
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	token := base64.RawURLEncoding.EncodeToString(raw)
	out := &invitationOutput{InvitationItem{Email: email, Role: in.Body.Role, Team: in.Body.Team, InvitedBy: who.Name, ExpiresAt: s.Engine.Now().Add(invitationHolds)}}
	err = db.Transaction(func(tx *gorm.DB) error {
		// A new invitation takes an older one's place.
		if err := tx.Exec("DELETE FROM invitations WHERE email = ? AND accepted_at IS NULL", email).Error; err != nil {
			return err
		}
		return tx.Raw("INSERT INTO invitations (token_hash, email, role, team, invited_by, expires_at) VALUES (?, ?, ?, ?, ?, ?) RETURNING id",
			invitationHash(token), email, in.Body.Role, in.Body.Team, who.Name, out.Body.ExpiresAt).Scan(&out.Body.ID).Error
	})
	out.Body.Link = strings.TrimSuffix(s.PublicURL, "/") + "/welcome/" + token
	return out, kit.NoSuchTeam(err)
}

func (s *People) withdraw(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	res := s.Store.DB.WithContext(ctx).Exec("DELETE FROM invitations WHERE id = ? AND accepted_at IS NULL", in.ID)
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	return nil, res.Error
}

var errNoInvitation = huma.Error404NotFound("this invitation does not hold any more: it was accepted, withdrawn, or is older than a week; ask for a new one")

func (s *People) readInvitation(ctx context.Context, in *tokenInput) (*invitationOutput, error) {
	out := &invitationOutput{}
	err := s.Store.DB.WithContext(ctx).Raw(`SELECT id, email, role, team, invited_by, expires_at FROM invitations
		WHERE token_hash = ? AND accepted_at IS NULL AND expires_at > now()`, invitationHash(in.Token)).Scan(&out.Body).Error
	if err == nil && out.Body.ID == 0 {
		err = errNoInvitation
	}
	return out, s.PlainError("read-invitation", err)
}

func (s *People) acceptInvitation(ctx context.Context, in *acceptInput) (*auth.PersonOutput, error) {
	if _, err := s.readInvitation(ctx, &tokenInput{in.Token}); err != nil {
		return nil, err // before a password is worked on
	}
	hash, err := s.Auth.Hash(ctx, in.Body.Password)
	if err != nil {
		return nil, err
	}
	var p store.Person
	err = s.Store.Within(ctx, func(ctx context.Context) error {
		tx := s.Store.DB.WithContext(ctx)
		var i struct {
			ID          int64
			Email, Role string
			Team        *int64
		}
		// Whoever comes second finds it accepted.
		if err := tx.Raw(`UPDATE invitations SET accepted_at = now() WHERE token_hash = ? AND accepted_at IS NULL AND expires_at > now()
			RETURNING id, email, role, team`, invitationHash(in.Token)).Scan(&i).Error; err != nil {
			return err
		}
		if i.ID == 0 {
			return errNoInvitation
		}
		if err := tx.Raw(`INSERT INTO people (email, name, role, password_hash) VALUES (?, ?, ?, ?)
			ON CONFLICT (email) DO UPDATE SET name = excluded.name, role = excluded.role, password_hash = excluded.password_hash, gone_at = NULL RETURNING *`,
			i.Email, strings.TrimSpace(in.Body.Name), i.Role, hash).Scan(&p).Error; err != nil {
			return err
		}
		if i.Team != nil {
			if err := tx.Exec("INSERT INTO team_people (team, person) VALUES (?, ?) ON CONFLICT DO NOTHING", *i.Team, p.ID).Error; err != nil {
				return err
			}
		}
		return s.After(ctx, kit.Entry{Person: &p.ID, Name: p.Name, Did: "accept-invitation", What: kit.AboutPerson.What, About: kit.IDText(p.ID)}, kit.AboutPerson, false)
	})
	if err != nil {
		return nil, s.PlainError("accept-invitation", err)
	}
	return s.Auth.SignInAs(ctx, p)
}
