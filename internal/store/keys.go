package store

import "context"

// KeyNamed gives a key of this installation as it is sealed; where there is none yet, fresh becomes it, for all processes.
func (s *Store) KeyNamed(ctx context.Context, name string, fresh []byte) (sealed []byte, err error) {
	if _, err = s.Pool.Exec(ctx, "INSERT INTO keys (name, value) VALUES ($1, $2) ON CONFLICT DO NOTHING", name, fresh); err != nil {
		return nil, err
	}
	err = s.Pool.QueryRow(ctx, "SELECT value FROM keys WHERE name = $1", name).Scan(&sealed)
	return sealed, err
}
