package outbox

import (
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// A connection has so many berths, and few while it is slow; whoever finds none is called in the order of coming, and another connection
// is not concerned.
func TestBerths(t *testing.T) {
	var b berths
	now := time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)
	place := func(n int) string { return fmt.Sprint("square/#", n) }
	for n := range shareOfMany {
		assert.True(t, b.enter("square", place(n), now))
	}
	for _, n := range []int{100, 101, 100} {
		assert.False(t, b.enter("square", place(n), now))
	}
	assert.True(t, b.enter("mail", "mail/a@x.example", now))
	assert.Equal(t, place(100), b.leave("square", place(0), now))
	assert.True(t, b.enter("square", place(100), now))

	// Who is asked for again while being sent to is called once more.
	assert.False(t, b.enter("square", place(1), now))
	assert.Equal(t, place(101), b.leave("square", place(1), now))
	assert.True(t, b.enter("square", place(101), now))
	assert.Equal(t, place(1), b.leave("square", place(2), now))

	// A slow one calls nobody until only a few are under way, and as many as before once it answers quickly.
	b.took("square", slowAfter+1, true, now)
	assert.False(t, b.enter("square", place(200), now))
	for n := 3; n < shareOfMany-shareOfFew+2; n++ {
		assert.Empty(t, b.leave("square", place(n), now), n)
	}
	assert.Equal(t, place(200), b.leave("square", place(shareOfMany-shareOfFew+2), now))
	assert.True(t, b.enter("square", place(200), now))
	assert.False(t, b.enter("square", place(201), now))
	b.took("square", time.Millisecond, true, now)
	assert.True(t, b.enter("square", place(202), now))
	b.took("square", time.Millisecond, false, now)
	assert.False(t, b.enter("square", place(203), now), "no answer is as good as a slow one")
	assert.True(t, b.enter("square", place(204), now.Add(slowFor+1)), "for a while")
}
