package store

import (
	"context"
	"time"
)

// Invitation lets somebody become a person here. Of its token only the hash is kept.
type Invitation struct {
	ID          int64
	TokenHash   string
	Email, Role string
	Team        *int64
	InvitedBy   string
	ExpiresAt   time.Time
}

const openInvitations = "SELECT id, email, role, team, invited_by, expires_at FROM invitations WHERE accepted_at IS NULL AND expires_at > now()"

// Invitations lists invitations that are open, the newest first.
func (s *Store) Invitations(ctx context.Context) ([]Invitation, error) {
	var out []Invitation
	err := s.DB.WithContext(ctx).Raw(openInvitations + " ORDER BY id DESC LIMIT 500").Scan(&out).Error
	return out, err
}

// Invitation gives the open invitation with a token's hash, nil where there is none.
func (s *Store) Invitation(ctx context.Context, hash string) (*Invitation, error) {
	var i Invitation
	err := s.DB.WithContext(ctx).Raw(openInvitations+" AND token_hash = ?", hash).Scan(&i).Error
	if err != nil || i.ID == 0 {
		return nil, err
	}
	return &i, nil
}

// Invite keeps an invitation. An older one to the same address holds as well, until one of them is accepted.
func (s *Store) Invite(ctx context.Context, i *Invitation) error {
	return s.DB.WithContext(ctx).Raw("INSERT INTO invitations (token_hash, email, role, team, invited_by, expires_at) VALUES (?, ?, ?, ?, ?, ?) RETURNING id",
		i.TokenHash, i.Email, i.Role, i.Team, i.InvitedBy, i.ExpiresAt).Scan(&i.ID).Error
}

// Withdraw takes an invitation back that was not accepted.
func (s *Store) Withdraw(ctx context.Context, id int64) error {
	return found(s.DB.WithContext(ctx).Exec("DELETE FROM invitations WHERE id = ? AND accepted_at IS NULL", id))
}

// InviteFirst keeps an invitation for whoever becomes the first administrator, in the place of an older one. It gives false, and
// keeps nothing, where somebody is here already.
func (s *Store) InviteFirst(ctx context.Context, tokenHash string, expires time.Time) (bool, error) {
	res := s.DB.WithContext(ctx).Exec(`WITH old AS (DELETE FROM invitations WHERE email = '' AND accepted_at IS NULL)
		INSERT INTO invitations (token_hash, email, role, invited_by, expires_at)
		SELECT ?, '', 'administrator', '', ? WHERE NOT EXISTS (SELECT FROM people)`, tokenHash, expires)
	return res.RowsAffected > 0, res.Error
}

// Accept makes the person of an invitation, in the transaction of the context. The person is nil where the invitation does
// not hold any more: whoever comes second finds it accepted. The address is that of the invitation; only the first
// administrator, who was invited by nobody, gives it.
func (s *Store) Accept(ctx context.Context, hash, email, name, password string) (*Person, error) {
	tx := s.DB.WithContext(ctx)
	var i Invitation
	if err := tx.Raw(`UPDATE invitations SET accepted_at = now() WHERE token_hash = ? AND accepted_at IS NULL AND expires_at > now()
		RETURNING id, email, role, team`, hash).Scan(&i).Error; err != nil || i.ID == 0 {
		return nil, err
	}
	if i.Email == "" {
		var others int64
		if err := tx.Raw("SELECT count(*) FROM people").Scan(&others).Error; err != nil || others > 0 {
			return nil, err
		}
		i.Email = email
	}
	if err := tx.Exec("UPDATE invitations SET accepted_at = now() WHERE email = ? AND accepted_at IS NULL", i.Email).Error; err != nil { // whoever was invited twice comes once
		return nil, err
	}
	var p Person
	if err := tx.Raw(`INSERT INTO people (email, name, role, password_hash) VALUES (?, ?, ?, ?)
		ON CONFLICT (email) DO UPDATE SET name = excluded.name, role = excluded.role, password_hash = excluded.password_hash, gone_at = NULL RETURNING *`,
		i.Email, name, i.Role, password).Scan(&p).Error; err != nil {
		return nil, err
	}
	if i.Team == nil {
		return &p, nil
	}
	return &p, tx.Exec("INSERT INTO team_people (team, person) VALUES (?, ?) ON CONFLICT DO NOTHING", *i.Team, p.ID).Error
}
