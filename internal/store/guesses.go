package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// Tries is how often a key may be guessed for.
type Tries struct {
	Key   string
	Limit int
}

// TryGuess counts a guess at a name for each of some keys, within a span from the first. It gives how long the longest of
// those that are beyond their limits is to be waited for. It joins no transaction: a guess counts whatever becomes of it.
func (s *Store) TryGuess(ctx context.Context, name string, keys []Tries, within time.Duration) (wait time.Duration, err error) {
	err = s.DB.WithContext(Apart(ctx)).Transaction(func(tx *gorm.DB) error {
		if err := Lock(ctx, tx.Statement.ConnPool, LockGuesses, name); err != nil {
			return err
		}
		for _, k := range keys {
			var row struct {
				Tries int
				Left  float64
			}
			err := tx.Raw(`INSERT INTO guesses (name, tries, since) VALUES (@name, 1, now())
				ON CONFLICT (name) DO UPDATE SET tries = CASE WHEN guesses.since < now() - @within * interval '1 second' THEN 1 ELSE guesses.tries + 1 END,
					since = CASE WHEN guesses.since < now() - @within * interval '1 second' THEN now() ELSE guesses.since END
				RETURNING tries, extract(epoch FROM since - now()) + @within AS left`, map[string]any{"name": k.Key, "within": within.Seconds()}).Scan(&row).Error
			if err != nil {
				return err
			}
			if row.Tries > k.Limit {
				wait = max(wait, time.Duration(row.Left*float64(time.Second)), time.Second)
			}
		}
		return nil
	})
	return wait, err
}

// TakeBackGuess takes a guess back for each of some keys; for those that are forgiven, all of them.
func (s *Store) TakeBackGuess(ctx context.Context, keys []Tries, forgiven func(i int) bool) error {
	return s.DB.WithContext(Apart(ctx)).Transaction(func(tx *gorm.DB) error {
		for i, k := range keys {
			query := "UPDATE guesses SET tries = greatest(tries - 1, 0) WHERE name = ?"
			if forgiven(i) {
				query = "DELETE FROM guesses WHERE name = ?"
			}
			if err := tx.Exec(query, k.Key).Error; err != nil {
				return err
			}
		}
		return nil
	})
}
