package auth

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2"

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

// keys are what a guess counts for. This machine's own address may be a proxy's, behind which everybody is: unless proxies
// are known, it counts for nothing by itself.
func (g *guesses) keys(ctx context.Context, name string) []store.Tries {
	from, _ := ctx.Value(kit.CallerKey{}).(kit.Caller)
	out := []store.Tries{{Key: "name " + name + " from " + from.Address, Limit: guessesFromOne}, {Key: "name " + name, Limit: guessesPerName}}
	if ip := net.ParseIP(from.Address); ip != nil && (g.proxied || !ip.IsLoopback()) {
		out = append(out, store.Tries{Key: "address " + from.Address, Limit: guessesPerAddress})
	}
	return out
}

// try counts a try of a name's password. Where there have been too many it says how long to wait, and the password must
// not be looked at.
func (g *guesses) try(ctx context.Context, name string) (wait time.Duration, err error) {
	return g.store.TryGuess(ctx, name, g.keys(ctx, name), guessesWithin)
}

// takeBack takes a try back that was none. One that was right forgives the name's others from the same address; who guesses
// from elsewhere is not let off by it.
func (g *guesses) takeBack(ctx context.Context, name string, right bool) error {
	return g.store.TakeBackGuess(ctx, g.keys(ctx, name), func(i int) bool { return i == 0 && right })
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
	return huma.ErrorWithHeaders(huma.Error429TooManyRequests(words), http.Header{"Retry-After": {strconv.Itoa(int(wait.Seconds()) + 1)}})
}
