package store

import (
	"context"
	"time"
)

// SignIn is one of a person's sessions.
type SignIn struct {
	ID      int64
	Person  int64
	At      time.Time
	SeenAt  time.Time
	Address string // where from
	Program string // the browser, as it names itself
}

// AddSignIn keeps that a person has signed in.
func (s *Store) AddSignIn(ctx context.Context, person int64, address, program string) (id int64, err error) {
	err = s.DB.WithContext(ctx).Raw("INSERT INTO sign_ins (person, address, program) VALUES (?, ?, ?) RETURNING id", person, address, program).Scan(&id).Error
	return id, err
}

// SignedIn gives the person of a sign-in that holds, nil where it does not, and when it was last seen.
func (s *Store) SignedIn(ctx context.Context, id int64) (p *Person, seen time.Time, err error) {
	var row struct {
		Person
		SeenAt time.Time
	}
	err = s.DB.WithContext(ctx).Raw(`SELECT p.id, p.name, p.email, p.role, p.keeps_book, i.seen_at FROM sign_ins i JOIN people p ON p.id = i.person
		WHERE i.id = ? AND i.ended_at IS NULL AND p.gone_at IS NULL`, id).Scan(&row).Error
	if err != nil || row.ID == 0 {
		return nil, time.Time{}, err
	}
	return &row.Person, row.SeenAt, nil
}

// SeenSignIn notes that a sign-in was used.
func (s *Store) SeenSignIn(ctx context.Context, id int64) error {
	return s.DB.WithContext(ctx).Exec("UPDATE sign_ins SET seen_at = now() WHERE id = ?", id).Error
}

// SignIns lists where a person is signed in, the last seen first.
func (s *Store) SignIns(ctx context.Context, person int64, seenAfter time.Time) ([]SignIn, error) {
	var out []SignIn
	err := s.DB.WithContext(ctx).Raw(`SELECT id, person, at, seen_at, address, program FROM sign_ins
		WHERE person = ? AND ended_at IS NULL AND seen_at > ? ORDER BY seen_at DESC LIMIT 200`, person, seenAfter).Scan(&out).Error
	return out, err
}

// EndSignIn ends a session; somebody else's only where others is true.
func (s *Store) EndSignIn(ctx context.Context, id, person int64, others bool) error {
	return found(s.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE id = ? AND ended_at IS NULL AND (person = ? OR ?)", id, person, others))
}

// EndSignIns ends a person's sessions but one.
func (s *Store) EndSignIns(ctx context.Context, person, but int64) error {
	return s.DB.WithContext(ctx).Exec("UPDATE sign_ins SET ended_at = now() WHERE person = ? AND ended_at IS NULL AND id <> ?", person, but).Error
}
