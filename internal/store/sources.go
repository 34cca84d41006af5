package store

import (
	"context"

	"gorm.io/gorm"
	"gorm.io/gorm/clause"
)

// Source is one kind of record of a connection: a source.
type Source struct {
	Name        string `gorm:"primaryKey"` // connection/kind
	Connection  string
	Title       string
	KeyField    string
	TitleField  string
	LinkField   string
	Schema      *string     // JSON Schema; nil where fields are learnt
	Settings    Texts       `gorm:"type:jsonb"`
	Corrections Corrections `gorm:"type:jsonb"`
	Learnt      *string     // the fields as last learnt
	LearntAt    int64
}

// Sources lists sources by name: all of them, or those of a connection.
func (s *Store) Sources(ctx context.Context, connection string) ([]Source, error) {
	q := s.DB.WithContext(ctx).Order("name").Limit(5000)
	if connection != "" {
		q = q.Where("connection = ?", connection)
	}
	var out []Source
	err := q.Find(&out).Error
	return out, err
}

// SourceNames lists the names of all sources, or of a connection's.
func (s *Store) SourceNames(ctx context.Context, connection string) ([]string, error) {
	q := s.DB.WithContext(ctx).Model(&Source{}).Order("name")
	if connection != "" {
		q = q.Where("connection = ?", connection)
	}
	out := []string{}
	err := q.Pluck("name", &out).Error
	return out, err
}

// SourceNamed gives a source, nil where there is none.
func (s *Store) SourceNamed(ctx context.Context, name string) (*Source, error) {
	var row Source
	res := s.DB.WithContext(ctx).Limit(1).Find(&row, "name = ?", name)
	if res.Error != nil || res.RowsAffected == 0 {
		return nil, res.Error
	}
	return &row, nil
}

// CountSources counts the sources of a connection.
func (s *Store) CountSources(ctx context.Context, connection string) (n int64, err error) {
	err = s.DB.WithContext(ctx).Model(&Source{}).Where("connection = ?", connection).Count(&n).Error
	return n, err
}

// AddSource makes a source known; one that is there stays as it is.
func (s *Store) AddSource(ctx context.Context, row *Source) error {
	return s.DB.WithContext(ctx).Clauses(clause.OnConflict{DoNothing: true}).Create(row).Error
}

// BeginSource makes a source, and how it is asked; poll is nil where it is not.
func (s *Store) BeginSource(ctx context.Context, row *Source, poll *Poll) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := tx.Create(row).Error; err != nil || poll == nil {
			return err
		}
		return tx.Create(poll).Error
	})
}

// ChangeSource changes a source and how it is asked while nobody else does. change is given both as they are, and the
// connection; the poll is nil where there is none. Its error keeps them so. Where anew is true, everything is read anew.
func (s *Store) ChangeSource(ctx context.Context, name string, begin string, change func(row *Source, poll *Poll, c *Connection) (anew bool, err error)) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		var row Source
		if err := tx.Raw("SELECT * FROM sources WHERE name = ? FOR UPDATE", name).Scan(&row).Error; err != nil {
			return err
		}
		if row.Name == "" {
			return gorm.ErrRecordNotFound
		}
		var c Connection
		if err := tx.First(&c, "id = ?", row.Connection).Error; err != nil {
			return err
		}
		var polls []Poll
		if err := tx.Limit(1).Find(&polls, "source = ?", name).Error; err != nil {
			return err
		}
		var poll *Poll
		if len(polls) > 0 {
			poll = &polls[0]
		}
		anew, err := change(&row, poll, &c)
		if err != nil {
			return err
		}
		if err := tx.Model(&row).Select("title", "key_field", "title_field", "link_field", "settings", "corrections", "schema").Updates(&row).Error; err != nil {
			return err
		}
		if anew {
			// It begins once more, from now on unless something else was said: what appears because more is read, or is called otherwise, is
			// nothing new.
			if err := tx.Exec("UPDATE polls SET cursor = NULL, begun = false, start = ?, missing = NULL, suspect = false, due_at = now() WHERE source = ?", begin, name).Error; err != nil {
				return err
			}
		}
		if poll == nil {
			return nil
		}
		columns := []string{"owned", "quickest", "slowest", "every"}
		if !anew {
			columns = append(columns, "due_at")
		}
		return tx.Model(poll).Select(columns).Updates(poll).Error
	})
}

// DeleteSource takes a source away, with its records.
func (s *Store) DeleteSource(ctx context.Context, name string) error {
	return s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		if err := found(tx.Exec("DELETE FROM sources WHERE name = ?", name)); err != nil {
			return err
		}
		return tx.Exec("DELETE FROM records WHERE source = ?", name).Error
	})
}
