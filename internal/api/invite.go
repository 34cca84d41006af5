package api

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

func (s *Server) invitationRoutes() {
	register(s, op("list-invitations", http.MethodGet, "/api/invitations", "Invitations that are open", "People"), administrators, s.listInvitations)
	changes(s, op("invite", http.MethodPost, "/api/invitations", "Invite somebody; the link is shown once", "People"), administrators, makes[inviteInput](aboutInvitation, func(out *invitationOutput) string { return idText(out.Body.ID) }), s.invite)
	changes(s, op("withdraw-invitation", http.MethodDelete, "/api/invitations/{id}", "Withdraw an invitation", "People"), administrators, byID[struct{}](aboutInvitation), s.withdraw)
	huma.Register(s.api, op("read-invitation", http.MethodGet, "/api/welcome/{token}", "Whom an invitation is for", "People"), s.readInvitation)
	s.summaries["accept-invitation"] = "Accept an invitation"
	s.summaries["set-person"] = "Add a person, or change one"
	huma.Register(s.api, op("accept-invitation", http.MethodPost, "/api/welcome/{token}", "Accept an invitation, and sign in", "People"), s.acceptInvitation)
}

func invitationHash(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
}

func (s *Server) listInvitations(ctx context.Context, _ *Person, _ *struct{}) (*listOutput[InvitationItem], error) {
	var items []InvitationItem
	err := s.store.DB.WithContext(ctx).Raw(`SELECT id, email, role, team, invited_by, expires_at FROM invitations
		WHERE accepted_at IS NULL AND expires_at > now() ORDER BY id DESC LIMIT 500`).Scan(&items).Error
	return list(items, 0), err
}

func (s *Server) invite(ctx context.Context, who *Person, in *inviteInput) (*invitationOutput, error) {
	email, err := readEmail(in.Body.Email)
	if err != nil {
		return nil, err
	}
	db := s.store.DB.WithContext(ctx)
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
	return out, noSuchTeam(err)
}

func (s *Server) withdraw(ctx context.Context, _ *Person, in *idInput) (*struct{}, error) {
	res := s.store.DB.WithContext(ctx).Exec("DELETE FROM invitations WHERE id = ? AND accepted_at IS NULL", in.ID)
	if res.Error == nil && res.RowsAffected == 0 {
		return nil, gorm.ErrRecordNotFound
	}
	return nil, res.Error
}

var errNoInvitation = huma.Error404NotFound("this invitation does not hold any more: it was accepted, withdrawn, or is older than a week; ask for a new one")

func (s *Server) readInvitation(ctx context.Context, in *tokenInput) (*invitationOutput, error) {
	out := &invitationOutput{}
	err := s.store.DB.WithContext(ctx).Raw(`SELECT id, email, role, team, invited_by, expires_at FROM invitations
		WHERE token_hash = ? AND accepted_at IS NULL AND expires_at > now()`, invitationHash(in.Token)).Scan(&out.Body).Error
	if err == nil && out.Body.ID == 0 {
		err = errNoInvitation
	}
	return out, s.plainError("read-invitation", err)
}

func (s *Server) acceptInvitation(ctx context.Context, in *acceptInput) (*personOutput, error) {
	if _, err := s.readInvitation(ctx, &tokenInput{in.Token}); err != nil {
		return nil, err // before a password is worked on
	}
	hash, err := s.passwords.hash(ctx, in.Body.Password)
	if err != nil {
		return nil, err
	}
	var p store.Person
	err = s.store.Within(ctx, func(ctx context.Context) error {
		tx := s.store.DB.WithContext(ctx)
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
		return s.after(ctx, entry{person: &p.ID, name: p.Name, did: "accept-invitation", what: aboutPerson.what, about: idText(p.ID)}, aboutPerson, false)
	})
	if err != nil {
		return nil, s.plainError("accept-invitation", err)
	}
	return s.signInAs(ctx, p)
}
