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
		Email    string `json:"email,omitempty" maxLength:"200" doc:"of the first administrator, whose invitation is for no address"`
	}
}

func (s *People) invitationRoutes() {
	kit.Register(s.Kit, kit.Op("list-invitations", http.MethodGet, "/api/invitations", "Invitations that are open", "People"), kit.Administrators, s.listInvitations)
	kit.Changes(s.Kit, kit.Op("invite", http.MethodPost, "/api/invitations", "Invite somebody; the link is shown once", "People"), kit.Administrators, kit.Makes[inviteInput](store.AboutInvitation, func(out *invitationOutput) string { return kit.IDText(out.Body.ID) }), s.invite)
	kit.Changes(s.Kit, kit.Op("withdraw-invitation", http.MethodDelete, "/api/invitations/{id}", "Withdraw an invitation", "People"), kit.Administrators, kit.ByID[struct{}](store.AboutInvitation), s.withdraw)
	huma.Register(s.API, kit.Op("read-invitation", http.MethodGet, "/api/welcome/{token}", "Whom an invitation is for", "People"), s.readInvitation)
	s.Summaries["accept-invitation"] = "Accept an invitation"
	s.Summaries["set-person"] = "Add a person, or change one"
	huma.Register(s.API, kit.Op("accept-invitation", http.MethodPost, "/api/welcome/{token}", "Accept an invitation, and sign in", "People"), s.acceptInvitation)
}

func shownInvitation(i *store.Invitation) InvitationItem {
	return InvitationItem{ID: i.ID, Email: i.Email, Role: i.Role, Team: i.Team, InvitedBy: i.InvitedBy, ExpiresAt: i.ExpiresAt}
}

func invitationHash(token string) string {
	h := sha256.Sum256([]byte(token))
	return hex.EncodeToString(h[:])
}

func (s *People) listInvitations(ctx context.Context, _ *kit.Person, _ *struct{}) (*kit.List[InvitationItem], error) {
	rows, err := s.Store.Invitations(ctx)
	items := make([]InvitationItem, 0, len(rows))
	for i := range rows {
		items = append(items, shownInvitation(&rows[i]))
	}
	return kit.ListOf(items, 0), err
}

func (s *People) invite(ctx context.Context, who *kit.Person, in *inviteInput) (*invitationOutput, error) {
	email, err := readEmail(in.Body.Email)
	if err != nil {
		return nil, err
	}
	there, err := s.Store.SignsIn(ctx, email)
	if err != nil {
		return nil, err
	}
	if there != nil {
		return nil, huma.Error409Conflict(email + " can sign in already")
	}
	token := newInvitation()
	made := store.Invitation{TokenHash: invitationHash(token), Email: email, Role: in.Body.Role, Team: in.Body.Team, InvitedBy: who.Name, ExpiresAt: s.Engine.Now().Add(invitationHolds)}
	err = s.Store.Invite(ctx, &made)
	out := &invitationOutput{shownInvitation(&made)}
	out.Body.Link = strings.TrimSuffix(s.PublicURL, "/") + "/welcome/" + token
	return out, kit.NoSuchTeam(err)
}

func newInvitation() string {
	raw := make([]byte, 24)
	_, _ = rand.Read(raw)
	return base64.RawURLEncoding.EncodeToString(raw)
}

// FirstLink gives the link by which the first administrator is made, which holds once and for a day; "" where somebody is here
// already. An older link holds no longer.
func FirstLink(ctx context.Context, st *store.Store, public string, now time.Time) (string, error) {
	token := newInvitation()
	made, err := st.InviteFirst(ctx, invitationHash(token), now.Add(24*time.Hour))
	if err != nil || !made {
		return "", err
	}
	return strings.TrimSuffix(public, "/") + "/welcome/" + token, nil
}

func (s *People) withdraw(ctx context.Context, _ *kit.Person, in *kit.IDInput) (*struct{}, error) {
	return nil, s.Store.Withdraw(ctx, in.ID)
}

var errNoInvitation = huma.Error404NotFound("this invitation does not hold any more: it was accepted, withdrawn, or is older than a week; ask for a new one")

func (s *People) readInvitation(ctx context.Context, in *tokenInput) (*invitationOutput, error) {
	i, err := s.Store.Invitation(ctx, invitationHash(in.Token))
	if err == nil && i == nil {
		err = errNoInvitation
	}
	if err != nil {
		return nil, s.PlainError("read-invitation", err)
	}
	return &invitationOutput{shownInvitation(i)}, nil
}

func (s *People) acceptInvitation(ctx context.Context, in *acceptInput) (*auth.PersonOutput, error) {
	i, err := s.readInvitation(ctx, &tokenInput{in.Token})
	if err != nil {
		return nil, err // before a password is worked on
	}
	email := i.Body.Email
	if email == "" {
		if email, err = readEmail(in.Body.Email); err != nil {
			return nil, err
		}
	}
	hash, err := s.Auth.Hash(ctx, in.Body.Password)
	if err != nil {
		return nil, err
	}
	var p *store.Person
	err = s.Store.Within(ctx, func(ctx context.Context) error {
		var err error
		if p, err = s.Store.Accept(ctx, invitationHash(in.Token), email, strings.TrimSpace(in.Body.Name), hash); err != nil {
			return err
		}
		if p == nil {
			return errNoInvitation
		}
		return s.After(ctx, store.AuditEntry{Person: &p.ID, Name: p.Name, Did: "accept-invitation", What: store.AboutPerson.What, About: kit.IDText(p.ID)}, store.AboutPerson, false)
	})
	if err != nil {
		return nil, s.PlainError("accept-invitation", err)
	}
	return s.Auth.SignInAs(ctx, *p)
}
