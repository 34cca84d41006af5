package auth

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"gorm.io/gorm"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/store"
)

// The limits on guessing passwords, over all processes: so many wrong ones within a while, for a name from one address,
// for a name from anywhere, and for an address that tries many names.
const (
	guessesFromOne    = 10
	guessesPerName    = 40
	guessesPerAddress = 60
	guessesWithin     = 10 * time.Minute
)

// guesses counts tries of passwords before they are looked at, so that no number of them at once is more than the limit.
type guesses struct {
	store *store.Store
	// proxied is true where the addresses of people behind a proxy are known: then this machine's own counts too.
	proxied bool
}

type guessKey struct {
	key   string
	limit int
}

// keys are what a guess counts for. This machine's own address may be a proxy's, behind which everybody is: unless proxies
// are known, it counts for nothing by itself.
func (g *guesses) keys(ctx context.Context, name string) []guessKey {
	from, _ := ctx.Value(kit.CallerKey{}).(kit.Caller)
	out := []guessKey{{"name " + name + " from " + from.Address, guessesFromOne}, {"name " + name, guessesPerName}}
	if ip := net.ParseIP(from.Address); ip != nil && (g.proxied || !ip.IsLoopback()) {
		out = append(out, guessKey{"address " + from.Address, guessesPerAddress})
	}
	return out
}

// try counts a try of a name's password. Where there have been too many it says how long to wait, and the password must
// not be looked at.
func (g *guesses) try(ctx context.Context, name string) (wait time.Duration, err error) {
	err = g.store.DB.WithContext(store.Apart(ctx)).Transaction(func(tx *gorm.DB) error {
		if err := store.Lock(ctx, tx.Statement.ConnPool, store.LockGuesses, name); err != nil {
			return err
		}
		for _, k := range g.keys(ctx, name) {
			var row struct {
				Tries int
				Left  float64
			}
			err := tx.Raw(`INSERT INTO guesses (name, tries, since) VALUES (@name, 1, now())
				ON CONFLICT (name) DO UPDATE SET tries = CASE WHEN guesses.since < now() - @within * interval '1 second' THEN 1 ELSE guesses.tries + 1 END,
					since = CASE WHEN guesses.since < now() - @within * interval '1 second' THEN now() ELSE guesses.since END
				RETURNING tries, extract(epoch FROM since - now()) + @within AS left`, map[string]any{"name": k.key, "within": guessesWithin.Seconds()}).Scan(&row).Error
			if err != nil {
				return err
			}
			if row.Tries > k.limit {
				wait = max(wait, time.Duration(row.Left*float64(time.Second)), time.Second)
			}
		}
		return nil
	})
	return wait, err
}

// takeBack takes a try back that was none. One that was right forgives the name's others from the same address; who guesses
// from elsewhere is not let off by it.
func (g *guesses) takeBack(ctx context.Context, name string, right bool) error {
	return g.store.DB.WithContext(store.Apart(ctx)).Transaction(func(tx *gorm.DB) error {
		for i, k := range g.keys(ctx, name) {
			query := "UPDATE guesses SET tries = greatest(tries - 1, 0) WHERE name = ?"
			if i == 0 && right {
				query = "DELETE FROM guesses WHERE name = ?"
			}
			if err := tx.Exec(query, k.key).Error; err != nil {
				return err
			}
		}
		return nil
	})
}

// Guess tells whether a password is the stored one of a name. It counts before it is looked at; one that could not be
// looked at, since too many sign in at this moment, counts for nothing, so that coming again locks nobody out.
func (a *Auth) Guess(ctx context.Context, name, stored, password string) (fits bool, err error) {
	wait, err := a.guesses.try(ctx, name)
	if err != nil {
		return false, err
	}
	if wait > 0 {
		return false, tooManyGuesses(wait)
	}
	fits, err = a.passwords.fits(ctx, stored, password)
	if err == nil && !fits {
		return false, nil
	}
	if back := a.guesses.takeBack(context.WithoutCancel(ctx), name, fits); err == nil {
		err = back
	}
	return fits, err
}

func tooManyGuesses(wait time.Duration) error {
	words := fmt.Sprintf("too many tries with a wrong password; wait %d minutes", int(wait.Minutes())+1)
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(words), http.Header{"Retry-After": {fmt.Sprint(int(wait.Seconds()) + 1)}})
}
