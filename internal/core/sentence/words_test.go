package sentence

import (
	"reflect"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A language that is read by has all that the reader asks it for, in the letters in which words are compared.
func TestTheGrammarIsWhole(t *testing.T) {
	g := reflect.ValueOf(english).Elem()
	for i := range g.NumField() {
		f, name := g.Field(i), g.Type().Field(i).Name
		assert.NotZero(t, f.Len(), name)
		if list, ok := reflect.TypeAssert[[]string](f); ok {
			for _, w := range list {
				assert.Equal(t, strings.ToLower(strings.Join(strings.Fields(w), " ")), w, name)
			}
		}
	}
	// A phrase that begins with another one, which would be found first, could never be read.
	for i, o := range english.Operators {
		for _, before := range english.Operators[:i] {
			assert.False(t, strings.HasPrefix(o.Words, before.Words+" "), "%q stands behind %q", o.Words, before.Words)
		}
	}
	for _, w := range []string{"batches batch", "boxes box", "entries entry", "glasses glass", "glass glass", "orders order", "milk milk"} {
		plural, one, _ := strings.Cut(w, " ")
		assert.Equal(t, one, english.singular(plural))
	}
	_, err := readGrammar([]byte("ask: [ask]\nasks: [ask]\n"))
	require.ErrorContains(t, err, "asks")
}
