package store

import "context"

// ConnectionOf gives a connection of a kind, nil where there is none with this id.
func (s *Store) ConnectionOf(ctx context.Context, id, kind string) (*Connection, error) {
	var c Connection
	res := s.DB.WithContext(ctx).Where("id = ? AND kind = ?", id, kind).Limit(1).Find(&c)
	if res.Error != nil || res.RowsAffected == 0 {
		return nil, res.Error
	}
	return &c, nil
}
