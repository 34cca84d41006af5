package store

import (
	"context"
)

// AddFormLink keeps where the answers of a form can be mended. Of its token only the hash is kept.
func (s *Store) AddFormLink(ctx context.Context, hash, source, key string) error {
	return s.DB.WithContext(ctx).Exec("INSERT INTO form_links (token, source, key) VALUES (?, ?, ?)", hash, source, key).Error
}

// FormLink gives the key of the answers that a link is for, "" where there are none.
func (s *Store) FormLink(ctx context.Context, hash, source string) (key string, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT key FROM form_links WHERE token = ? AND source = ?", hash, source).Scan(&key).Error
	return key, err
}
