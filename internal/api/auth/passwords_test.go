package auth

import (
	"context"
	"errors"
	"net/http"
	"testing"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/api/kit"
	"dorfbote/internal/testdb"
)

// For an unknown name the same work is done as for a known one, in the same place: so the time tells nothing.
func TestUnknownNamesTakeTheSameWork(t *testing.T) {
	p := newPasswords()
	known := HashPassword("right")
	for stored, want := range map[string]bool{known: true, "": false} {
		fits, err := p.fits(context.Background(), stored, "right")
		require.NoError(t, err)
		assert.Equal(t, want, fits)
	}
	for range hashesAtOnce { // all are busy
		p.slots <- struct{}{}
	}
	for _, stored := range []string{known, ""} {
		ctx, cancel := context.WithTimeout(context.Background(), 50*time.Millisecond)
		_, err := p.fits(ctx, stored, "right")
		cancel()
		require.Error(t, err, "it waits for its turn")
	}
	assert.Empty(t, p.waiting)
	assert.False(t, passwordFits(p.nobody, ""), "nobody's password is nobody's")
}

// Who is told to come again, since too many sign in at this moment, has not guessed: coming again locks nobody out.
func TestComingAgainIsNoGuess(t *testing.T) {
	st := testdb.New(t)
	s := New(&kit.Kit{Store: st})
	known := HashPassword("right")
	for range hashesAtOnce { // all are busy
		s.passwords.slots <- struct{}{}
	}
	for range 3 * guessesFromOne {
		ctx, cancel := context.WithTimeout(context.Background(), 100*time.Millisecond)
		_, err := s.Guess(ctx, "a@x.example", known, "right")
		cancel()
		if status, ok := errors.AsType[huma.StatusError](err); ok { // it may as well have been too short for the counting
			require.Equal(t, http.StatusServiceUnavailable, status.GetStatus())
		}
	}
	for range hashesAtOnce {
		<-s.passwords.slots
	}
	fits, err := s.Guess(context.Background(), "a@x.example", known, "right")
	require.NoError(t, err)
	assert.True(t, fits)
	for range guessesFromOne {
		fits, err = s.Guess(context.Background(), "a@x.example", known, "wrong")
		require.NoError(t, err)
		assert.False(t, fits)
	}
	_, err = s.Guess(context.Background(), "a@x.example", known, "right")
	assert.ErrorContains(t, err, "too many tries")
}
