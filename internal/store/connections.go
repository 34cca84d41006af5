package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Connection is an app or a chat that Dorfbote is connected to.
type Connection struct {
	ID           string // the first part of a source or destination
	Kind         string // hook, chat, rest, feed, …: see internal/connect
	Title        string
	KeyField     string // which field names a record sent as plain JSON
	Settings     Texts  `gorm:"type:jsonb"`
	Sealed       []byte // its secrets, see internal/seal
	Paused       bool
	LastOK       *time.Time `gorm:"column:last_ok"`
	FailingSince *time.Time
	LastError    string
	// SecretExpires is when its secret ends, as far as is known.
	SecretExpires *time.Time
	Owner         *int64
	CreatedAt     time.Time
}

// Connections lists every connection by its title.
func (s *Store) Connections(ctx context.Context) ([]Connection, error) {
	var out []Connection
	err := s.DB.WithContext(ctx).Order("lower(title), id").Limit(1000).Find(&out).Error
	return out, err
}

// Connection gives one connection; the error is [gorm.ErrRecordNotFound] where there is none.
func (s *Store) Connection(ctx context.Context, id string) (*Connection, error) {
	var c Connection
	err := s.DB.WithContext(ctx).First(&c, "id = ?", id).Error
	return &c, err
}

// ConnectionOf gives a connection that is of one of some kinds, nil where there is none with this id.
func (s *Store) ConnectionOf(ctx context.Context, id string, kinds ...string) (*Connection, error) {
	var c Connection
	res := s.DB.WithContext(ctx).Where("id = ? AND kind IN ?", id, kinds).Limit(1).Find(&c)
	if res.Error != nil || res.RowsAffected == 0 {
		return nil, res.Error
	}
	return &c, nil
}

// AddConnection makes a connection.
func (s *Store) AddConnection(ctx context.Context, c *Connection) error {
	return s.DB.WithContext(ctx).Create(c).Error
}

// ChangeConnection changes a connection while nobody else does. change is given it as it is; its error keeps it so.
func (s *Store) ChangeConnection(ctx context.Context, id string, change func(c *Connection) error) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var c Connection
		if err := tx.Raw("SELECT * FROM connections WHERE id = ? FOR UPDATE", id).Scan(&c).Error; err != nil {
			return err
		}
		if c.ID == "" {
			return gorm.ErrRecordNotFound
		}
		if err := change(&c); err != nil {
			return err
		}
		return tx.Model(&c).Select("title", "key_field", "settings", "sealed", "paused", "secret_expires").Updates(&c).Error
	})
}

// DeleteConnection takes a connection away, with its sources and destinations.
func (s *Store) DeleteConnection(ctx context.Context, id string) error {
	return found(s.DB.WithContext(ctx).Exec("DELETE FROM connections WHERE id = ?", id))
}

// Expiring lists connections whose secrets end before a moment, the next first.
func (s *Store) Expiring(ctx context.Context, before time.Time) ([]Connection, error) {
	var out []Connection
	err := s.DB.WithContext(ctx).Where("secret_expires < ?", before).Order("secret_expires").Find(&out).Error
	return out, err
}

// CallsADay is how many calls a day a connection's sources make, as they have settled.
func (s *Store) CallsADay(ctx context.Context, connection string) (n int64, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT coalesce(sum(86400 / every * greatest(last_calls, 1)), 0) FROM polls WHERE connection = ?", connection).Scan(&n).Error
	return n, err
}

// found makes a change of nothing the error that there is no such thing.
func found(res *gorm.DB) error {
	if res.Error == nil && res.RowsAffected == 0 {
		return gorm.ErrRecordNotFound
	}
	return res.Error
}
