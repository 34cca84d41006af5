package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"

	"dorfbote/internal/core/people"
	"dorfbote/internal/core/value"
)

// BookPerson is a person of the people book.
type BookPerson struct {
	Key       string `gorm:"primaryKey"` // the id as text is compared
	ID        string
	Name      string
	Prefers   string
	Addresses Texts `gorm:"type:jsonb"` // by connection
	ChangedAt time.Time
}

// TableName implements gorm's Tabler.
func (BookPerson) TableName() string { return "persons" }

// InBook makes the row of a person.
func InBook(p people.Person, at time.Time) BookPerson {
	out := BookPerson{Key: value.Fold(p.ID), ID: p.ID, Name: p.Name, Prefers: p.Prefers, Addresses: Texts{}, ChangedAt: at}
	for _, a := range p.Addresses {
		out.Addresses[a.Connection] = a.Address
	}
	return out
}

// Person is the row as a person, the addresses in the order of their connections.
func (b *BookPerson) Person() people.Person {
	out := people.Person{ID: b.ID, Name: b.Name, Prefers: b.Prefers, Addresses: []people.Address{}}
	for _, c := range value.SortedKeys(b.Addresses) {
		out.Addresses = append(out.Addresses, people.Address{Connection: c, Address: b.Addresses[c]})
	}
	return out
}

// Book lists persons of the people book by name: those in whose id, name or addresses a text stands, after a place in the list.
func (s *Store) Book(ctx context.Context, text string, from, limit int) ([]BookPerson, error) {
	q := s.DB.WithContext(ctx).Order("lower(name), key").Offset(from).Limit(limit)
	if text != "" {
		like := "%" + escapeLike(text) + "%"
		q = q.Where("name ILIKE ? OR id ILIKE ? OR addresses::text ILIKE ?", like, like, like)
	}
	var out []BookPerson
	err := q.Find(&out).Error
	return out, err
}

// WholeBook lists everybody in the people book, in the order of the keys.
func (s *Store) WholeBook(ctx context.Context) ([]people.Person, error) {
	var rows []BookPerson
	if err := s.DB.WithContext(ctx).Order(`key COLLATE "C"`).Limit(people.MaxPeople).Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make([]people.Person, len(rows))
	for i := range rows {
		out[i] = rows[i].Person()
	}
	return out, nil
}

// BookPersonBy gives a person by the id, compared as text is; the error is [gorm.ErrRecordNotFound] where there is none.
func (s *Store) BookPersonBy(ctx context.Context, id string) (*BookPerson, error) {
	var b BookPerson
	err := s.DB.WithContext(ctx).First(&b, "key = ?", value.Fold(id)).Error
	return &b, err
}

// PutPersons writes persons into the people book, in the place of those with their ids; all of it becomes them where whole is
// true.
func (s *Store) PutPersons(ctx context.Context, list []BookPerson, whole bool) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if whole {
			if err := tx.Exec("DELETE FROM persons").Error; err != nil {
				return err
			}
		}
		if len(list) == 0 {
			return nil
		}
		return tx.Clauses(clause.OnConflict{UpdateAll: true}).CreateInBatches(list, 500).Error
	})
}

// RemovePerson takes a person out of the people book.
func (s *Store) RemovePerson(ctx context.Context, id string) error {
	return found(s.DB.WithContext(ctx).Delete(&BookPerson{}, "key = ?", value.Fold(id)))
}

// Choice reads what the workspace has chosen under a name; nothing is written into v where there is no such choice.
func (s *Store) Choice(ctx context.Context, name string, v any) error {
	var raw string
	err := s.DB.WithContext(ctx).Raw("SELECT value::text FROM choices WHERE name = ?", name).Scan(&raw).Error
	if err != nil || raw == "" {
		return err
	}
	return json.Unmarshal([]byte(raw), v)
}

// Choose keeps what the workspace has chosen under a name; nil takes it back.
func (s *Store) Choose(ctx context.Context, name string, v any) error {
	db := s.DB.WithContext(ctx)
	if v == nil {
		return db.Exec("DELETE FROM choices WHERE name = ?", name).Error
	}
	raw, err := json.Marshal(v)
	if err != nil {
		return errors.Join(errors.New("keeping a choice"), err)
	}
	return db.Exec("INSERT INTO choices (name, value) VALUES (?, ?) ON CONFLICT (name) DO UPDATE SET value = excluded.value", name, string(raw)).Error
}

// BookSource is a source that is the people book: its records are the persons.
type BookSource struct {
	Source    string `json:"source"`
	ID        string `json:"id,omitempty"` // the field of each, as a path; "" is the record's key
	Name      string `json:"name,omitempty"`
	Prefers   string `json:"prefers,omitempty"`
	Addresses Texts  `json:"addresses,omitempty"` // the field of each connection's address
}

// PeopleBook is the name of the choice of a [BookSource].
const PeopleBook = "people book"

// Over counts the persons of the people book who have an address on a connection.
func (s *Store) Over(ctx context.Context, connection string) (n int64, err error) {
	err = s.DB.WithContext(ctx).Model(&BookPerson{}).Where("addresses ->> ? IS NOT NULL", connection).Count(&n).Error
	return n, err
}

// MoveAddresses has the persons of the people book reached over another connection at the addresses that they have on one. Who has
// an address on the other already keeps that.
func (s *Store) MoveAddresses(ctx context.Context, from, to string, at time.Time) error {
	return s.DB.WithContext(ctx).Exec(`UPDATE persons SET addresses = jsonb_build_object(CAST(@to AS text), addresses ->> @from) || (addresses - @from),
		prefers = CASE WHEN prefers = @from THEN @to ELSE prefers END, changed_at = @at WHERE addresses ->> @from IS NOT NULL`,
		sql.Named("from", from), sql.Named("to", to), sql.Named("at", at)).Error
}
