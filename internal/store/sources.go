package store

import (
	"context"

	"gorm.io/gorm/clause"
)

// SourceNamed gives a source, nil where there is none.
func (s *Store) SourceNamed(ctx context.Context, name string) (*Source, error) {
	var row Source
	res := s.DB.WithContext(ctx).Limit(1).Find(&row, "source = ?", name)
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
