package store

import (
	"cmp"
	"context"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Person is someone who signs in.
type Person struct {
	ID           int64
	Email        string
	Name         string
	Role         string // administrator, editor, viewer
	PasswordHash string
	CreatedAt    time.Time
	KeepsBook    bool // may change the people book, besides administrators
}

// The roles of people, the most powerful first.
const (
	Administrator = "administrator"
	Editor        = "editor"
	Viewer        = "viewer"
)

// Roles lists the roles, the most powerful first.
var Roles = []string{Administrator, Editor, Viewer}

// PersonRow is a person in a list.
type PersonRow struct {
	ID                int64
	Name, Email, Role string
	GoneAt            *time.Time
	KeepsBook         bool
	Seen              *time.Time // when last here
	Teams             []int64    `gorm:"-"`
}

// People lists people, those who are gone last; one alone where id is not 0.
func (s *Store) People(ctx context.Context, id int64) ([]PersonRow, error) {
	var rows []PersonRow
	db := s.DB.WithContext(ctx)
	if err := db.Raw(`SELECT p.id, p.name, p.email, p.role, p.gone_at, p.keeps_book, (SELECT max(seen_at) FROM sign_ins WHERE person = p.id) AS seen
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
	for i := range rows {
		rows[i].Teams = teams[rows[i].ID]
	}
	return rows, nil
}

// PersonChange is what is changed of a person; what is nil stays.
type PersonChange struct {
	Name, Role *string
	Gone       *bool
	KeepsBook  *bool
	Teams      *[]int64
}

// ChangePerson changes a person. It tells whether an administrator is left; where none would be, nothing is changed.
func (s *Store) ChangePerson(ctx context.Context, id int64, c PersonChange, now time.Time) (administered bool, err error) {
	set := map[string]any{}
	if c.Name != nil {
		set["name"] = strings.TrimSpace(*c.Name)
	}
	if c.Role != nil {
		set["role"] = *c.Role
	}
	if c.Gone != nil {
		if set["gone_at"] = gorm.Expr("NULL"); *c.Gone {
			set["gone_at"] = now
		}
	}
	if c.KeepsBook != nil {
		set["keeps_book"] = *c.KeepsBook
	}
	administered = true
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := Lock(ctx, tx.Statement.ConnPool, LockAdministrators, ""); err != nil {
			return err
		}
		if len(set) > 0 {
			if err := found(tx.Table("people").Where("id = ?", id).Updates(set)); err != nil {
				return err
			}
		}
		var left int64
		if err := tx.Raw("SELECT count(*) FROM people WHERE role = 'administrator' AND gone_at IS NULL").Scan(&left).Error; err != nil {
			return err
		}
		if left == 0 {
			administered = false
			return errUndone
		}
		if c.Teams == nil {
			return nil
		}
		if err := tx.Exec("DELETE FROM team_people WHERE person = ?", id).Error; err != nil {
			return err
		}
		for _, t := range *c.Teams {
			if err := tx.Exec("INSERT INTO team_people (team, person) VALUES (?, ?) ON CONFLICT DO NOTHING", t, id).Error; err != nil {
				return err
			}
		}
		return nil
	})
	if !administered {
		err = nil
	}
	return administered, err
}

// SignsIn gives the person who signs in by an address; nil where nobody does, or does any more.
func (s *Store) SignsIn(ctx context.Context, email string) (*Person, error) {
	var p []Person
	err := s.DB.WithContext(ctx).Limit(1).Find(&p, "lower(email) = ? AND gone_at IS NULL", strings.ToLower(email)).Error
	if err != nil || len(p) == 0 {
		return nil, err
	}
	return &p[0], nil
}

// PasswordOf gives the stored form of a person's password.
func (s *Store) PasswordOf(ctx context.Context, id int64) (hash string, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT password_hash FROM people WHERE id = ?", id).Scan(&hash).Error
	return hash, err
}

// SetPassword keeps the stored form of a person's password.
func (s *Store) SetPassword(ctx context.Context, id int64, hash string) error {
	return s.DB.WithContext(ctx).Exec("UPDATE people SET password_hash = ? WHERE id = ?", hash, id).Error
}

// SetPerson adds a person, or gives the one with the address another password, and another name and role where they are said, and gives
// the id. Who is new and of whom no role is said is an administrator.
func (s *Store) SetPerson(ctx context.Context, p Person) (id int64, err error) {
	err = s.DB.WithContext(ctx).Raw(`INSERT INTO people (email, name, role, password_hash) VALUES (?, ?, ?, ?)
		ON CONFLICT (email) DO UPDATE SET password_hash = excluded.password_hash, name = CASE WHEN ? = '' THEN people.name ELSE excluded.name END,
			role = CASE WHEN ? = '' THEN people.role ELSE excluded.role END RETURNING id`,
		strings.ToLower(p.Email), cmp.Or(p.Name, p.Email), cmp.Or(p.Role, Administrator), p.PasswordHash, p.Name, p.Role).Scan(&id).Error
	return id, err
}

// PersonWith gives the id of the person with an address, 0 where there is none.
func (s *Store) PersonWith(ctx context.Context, email string) (id int64, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT id FROM people WHERE email = ?", strings.ToLower(email)).Scan(&id).Error
	return id, err
}

// errUndone undoes a transaction without being told.
var errUndone = gorm.ErrInvalidTransaction
