package store_test

import (
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/assert"

	"dorfbote/internal/store"
)

// A name is the place itself as long as a key has room for it; longer places have names of their own, which lead back to them.
func TestNamesOfDestinations(t *testing.T) {
	seen := map[string]string{}
	for _, to := range []string{
		"square/#tours", "mail/" + strings.Repeat("a", 995), "mail/" + strings.Repeat("a", 996), "mail/" + strings.Repeat("a", 997), "mail/" + strings.Repeat("ä", 3000), "mail/x" + strings.Repeat("ä", 3000),
		"mail/" + strings.Repeat("one@x.example, ", 400) + "two@x.example", "mail/" + strings.Repeat("one@x.example, ", 400) + "six@x.example",
	} {
		name, place := store.DestinationName(to)
		assert.LessOrEqual(t, len(name), 1000)
		assert.True(t, utf8.ValidString(name))
		assert.Empty(t, seen[name], "%s", name)
		seen[name] = to
		connection, whole, _ := strings.Cut(to, "/")
		assert.True(t, strings.HasPrefix(name, connection+"/"))
		assert.Equal(t, whole, (&store.Destination{Name: name, Place: place}).To())
		again, _ := store.DestinationName(to)
		assert.Equal(t, name, again)
	}
}

// The workflows that something came through are read as they are written; what somebody else wrote there is none.
func TestThrough(t *testing.T) {
	text := ""
	for n := range int64(5) {
		assert.False(t, (&store.Arrival{Through: text}).Stopped(), text)
		text = store.Through(text, n+7)
	}
	assert.Equal(t, []int64{7, 8, 9, 10, 11}, store.CameThrough(text))
	assert.True(t, (&store.Arrival{Through: text}).Stopped())
	for _, foreign := range []string{"", "w", "7.8", "w7..w8", "w-1", "w7, w8", "w99999999999999999999", strings.Repeat("w1.", 200) + "w1"} {
		assert.Nil(t, store.CameThrough(foreign), foreign)
	}
}
