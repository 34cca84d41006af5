package store

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"strings"
	"time"

	"gorm.io/gorm"
)

// Destination is a channel that posts go to.
type Destination struct {
	Name       string `gorm:"primaryKey"` // connection/channel
	Connection string
	Title      string
	Private    bool
	Paused     bool
	Reason     string
	NotBefore  *time.Time // the other side asked to wait until then
	Failures   int        // in a row
	PerMinute  int        // how many posts a minute a person allows; 0 is as fast as it goes
	SpacingMs  int        // learnt from being asked to wait: milliseconds from post to post
	SpacedAt   *time.Time // when that was learnt
	HeldBy     string     // the person who paused it, where one did
	Shut       string     // why it would take no post, as the other side said when it was asked
	AskedAt    *time.Time // when that was
	Place      string     // the whole place, where it is too long for the name
}

// longestName is how long a destination's name may be in bytes; what is longer is named by its beginning and a digest, since names are
// keys, and the database's keys are bounded.
const longestName = 1000

// DestinationName gives the name that a destination goes by, and, where that is not all of it, the whole place. Names of two places are
// never the same.
func DestinationName(to string) (name, place string) {
	if len(to) <= longestName {
		return to, ""
	}
	connection, place, _ := strings.Cut(to, "/")
	digest := sha256.Sum256([]byte(to))
	return connection + "/" + strings.ToValidUTF8(place[:200], "") + "… #" + hex.EncodeToString(digest[:16]), place
}

// To is where posts go, without the connection.
func (d *Destination) To() string {
	if d.Place != "" {
		return d.Place
	}
	_, place, _ := strings.Cut(d.Name, "/")
	return place
}

// ListedPlaces gives the places of each connection of some kinds.
func (s *Store) ListedPlaces(ctx context.Context, kinds []string) (map[string][]string, error) {
	var rows []struct{ Name, Connection string }
	err := s.DB.WithContext(ctx).Raw("SELECT d.name, d.connection FROM destinations d JOIN connections c ON c.id = d.connection WHERE c.kind IN ? ORDER BY d.name", kinds).Scan(&rows).Error
	out := map[string][]string{}
	for _, r := range rows {
		out[r.Connection] = append(out[r.Connection], strings.TrimPrefix(r.Name, r.Connection+"/"))
	}
	return out, err
}

// Destination gives one destination.
func (s *Store) Destination(ctx context.Context, name string) (*Destination, error) {
	var d Destination
	err := s.DB.WithContext(ctx).First(&d, "name = ?", name).Error
	return &d, err
}

// DestinationRow is a destination with how its posts stand.
type DestinationRow struct {
	Destination
	Waiting  int64
	Sent     int64 // in the last 24 hours
	LastSent *time.Time
	Refused  int64
	Oldest   *time.Time // since when the oldest waiting post waits
	Words    string     // the other side's, on the post that was refused last, or else on the one that waits first
}

// Most of the destinations that are listed at once.
const mostDestinations = 1000

// Destinations lists every destination of the kinds that list their places; of the others, whose places may be as many as there
// are customers, those that something waits for, that are in trouble, or that were told something within a day.
func (s *Store) Destinations(ctx context.Context, kinds []string) ([]DestinationRow, error) {
	var out []DestinationRow
	err := s.DB.WithContext(ctx).Raw(`SELECT d.*,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'waiting') AS waiting,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'refused') AS refused,
		(SELECT created_at FROM posts p WHERE p.destination = d.name AND p.state = 'waiting' ORDER BY id LIMIT 1) AS oldest,
		coalesce((SELECT answer FROM posts p WHERE p.destination = d.name AND p.state = 'refused' ORDER BY id DESC LIMIT 1),
			(SELECT answer FROM posts p WHERE p.destination = d.name AND p.state = 'waiting' ORDER BY id LIMIT 1), '') AS words,
		(SELECT count(*) FROM posts p WHERE p.destination = d.name AND p.state = 'sent' AND p.sent_at > now() - interval '1 day') AS sent,
		(SELECT max(sent_at) FROM posts p WHERE p.destination = d.name AND p.state = 'sent') AS last_sent
		FROM destinations d JOIN connections c ON c.id = d.connection
		WHERE c.kind IN ? OR d.paused OR d.failures > 0 OR EXISTS (SELECT 1 FROM posts p WHERE p.destination = d.name AND p.state = 'waiting')
			OR EXISTS (SELECT 1 FROM posts p WHERE p.destination = d.name AND p.state = 'refused')
			OR EXISTS (SELECT 1 FROM posts p WHERE p.destination = d.name AND p.state = 'sent' AND p.sent_at > now() - interval '1 day')
		ORDER BY c.kind IN ? DESC, d.name LIMIT ?`, kinds, kinds, mostDestinations).Scan(&out).Error
	return out, err
}

// WaitingDestinations lists the destinations that have something to send and may.
func (s *Store) WaitingDestinations(ctx context.Context) ([]string, error) {
	var out []string
	err := s.DB.WithContext(ctx).Raw(`SELECT d.name FROM destinations d WHERE NOT d.paused
		AND EXISTS (SELECT 1 FROM posts p WHERE p.destination = d.name AND p.state = 'waiting')`).Scan(&out).Error
	return out, err
}

// DestinationNames lists the places that posts go to over a connection.
func (s *Store) DestinationNames(ctx context.Context, connection string) ([]string, error) {
	out := []string{}
	err := s.DB.WithContext(ctx).Model(&Destination{}).Where("connection = ?", connection).Order("name").Pluck("name", &out).Error
	return out, err
}

// PrivateDestinations lists the places that only their members see.
func (s *Store) PrivateDestinations(ctx context.Context) ([]string, error) {
	var out []string
	err := s.DB.WithContext(ctx).Raw("SELECT name FROM destinations WHERE private").Scan(&out).Error
	return out, err
}

// NotUntil is the moment until which a destination is left alone; nil where it is not.
func (s *Store) NotUntil(ctx context.Context, name string) (at *time.Time, err error) {
	err = s.DB.WithContext(ctx).Raw("SELECT not_before FROM destinations WHERE name = ? AND not_before > now()", name).Scan(&at).Error
	return at, err
}

// PauseDestination has nothing sent to a destination until a person lets it go on.
func (s *Store) PauseDestination(ctx context.Context, name, reason, by string) error {
	return s.setDestination(ctx, name, map[string]any{"paused": true, "reason": reason, "held_by": by})
}

// RateDestination sets how many posts a minute a destination gets; 0 is as fast as it goes. A time that the rate until now
// has set holds no more; one that the other side has asked for does, and so does what it was seen to bear, unless that is
// to be forgotten.
func (s *Store) RateDestination(ctx context.Context, name string, perMinute int, forget bool) error {
	set := map[string]any{"per_minute": perMinute, "not_before": gorm.Expr("CASE WHEN failures > 0 THEN not_before END")}
	if forget {
		set["spacing_ms"], set["spaced_at"] = 0, nil
	}
	return s.setDestination(ctx, name, set)
}

func (s *Store) setDestination(ctx context.Context, name string, set map[string]any) error {
	return found(s.DB.WithContext(ctx).Model(&Destination{}).Where("name = ?", name).Updates(set))
}

// ResumeDestination lets a destination be sent to again: what was refused waits again, except what was set aside alone. Where only is
// not nil, the other posts that waited or were refused are dropped, and given back, and those of it that were set aside wait again, too.
func (s *Store) ResumeDestination(ctx context.Context, name string, only *[]int64) (dropped []Post, err error) {
	err = s.DB.WithContext(ctx).Transaction(func(tx *gorm.DB) error {
		err := found(tx.Exec("UPDATE destinations SET paused = false, reason = '', held_by = '', failures = 0, not_before = NULL, aside = '{}' WHERE name = ?", name))
		if err != nil {
			return err
		}
		if only != nil {
			err := tx.Raw("UPDATE posts SET state = 'dropped' WHERE destination = ? AND state IN ('waiting', 'refused') AND NOT aside AND NOT id = ANY (?::bigint[]) RETURNING id, destination, arrival, workflow",
				name, BigInts(*only)).Scan(&dropped).Error
			if err != nil {
				return err
			}
		}
		meant := []int64{}
		if only != nil {
			meant = *only
		}
		if err := tx.Exec("UPDATE posts SET state = 'waiting', aside = false, expires_at = NULL WHERE destination = ? AND state = 'refused' AND (NOT aside OR id = ANY (?::bigint[]))", name, BigInts(meant)).Error; err != nil {
			return err
		}
		return tx.Exec("UPDATE notices SET done_at = now() WHERE about = ? AND done_at IS NULL", name).Error
	})
	return dropped, err
}
