package api

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
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
		assert.Error(t, err, "it waits for its turn")
	}
	assert.Empty(t, p.waiting)
	assert.False(t, passwordFits(p.nobody, ""), "nobody's password is nobody's")
}
