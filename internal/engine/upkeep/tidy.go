package upkeep

import (
	"context"
	"time"

	"dorfbote/internal/core/usual"
)

// healthHeld is how long health is kept by the hour.
const healthHeld = 14 * 24 * time.Hour

// Tidy drops what is only kept for a while.
func (u *Upkeep) Tidy(ctx context.Context) error {
	db := u.Store.DB.WithContext(ctx)
	if err := db.Exec("DELETE FROM health WHERE hour < ?", u.Now().Add(-healthHeld)).Error; err != nil {
		return err
	}
	if err := db.Exec("DELETE FROM hours WHERE hour < ?", u.Now().AddDate(0, 0, -7*(usual.Weeks+2))).Error; err != nil {
		return err
	}
	if err := db.Exec("DELETE FROM pace_told WHERE until < ?", u.Now().Add(-24*time.Hour)).Error; err != nil {
		return err
	}
	if err := db.Exec("DELETE FROM processes WHERE seen_at < now() - interval '1 hour'").Error; err != nil {
		return err
	}
	if err := u.tidyAlerts(ctx); err != nil {
		return err
	}
	// Made-up names that were guessed at leave a row each.
	if err := db.Exec("DELETE FROM guesses WHERE since < now() - interval '1 hour'").Error; err != nil {
		return err
	}
	return db.Exec(`DELETE FROM hook_requests r USING (SELECT connection, id, row_number() OVER (PARTITION BY connection ORDER BY id DESC) AS n FROM hook_requests) x
		WHERE x.id = r.id AND x.n > 100`).Error
}

// tidyAlerts lets go of what belongs to arrivals that are not kept any more, and of what is over.
func (u *Upkeep) tidyAlerts(ctx context.Context) error {
	if err := u.Store.ForgetReplies(ctx); err != nil {
		return err
	}
	db := u.Store.DB.WithContext(ctx)
	if err := db.Exec("DELETE FROM kept WHERE ends_at < now()").Error; err != nil {
		return err
	}
	for _, table := range []string{"alerts", "deeds", "asks", "escalations"} {
		if err := db.Exec("DELETE FROM " + table + " WHERE arrival < (SELECT min(seq) FROM arrivals)").Error; err != nil {
			return err
		}
	}
	return nil
}
