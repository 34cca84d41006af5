package value

import (
	"errors"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// A number is read however it is typed, and refused where its country has none like it.
func TestPhone(t *testing.T) {
	for _, c := range []struct{ text, region, want, err string }{
		{"079 123 45 67", "CH", "+41791234567", ""}, {"+41 (0)79 123 45 67", "", "+41791234567", ""}, {"0041791234567", "CH", "+41791234567", ""}, {"+43 664 1234567", "CH", "+436641234567", ""},
		{"079 123 45 6", "CH", "", "is not a valid telephone number in CH"}, {"+41 79 123 45 6", "", "", "is not a valid telephone number in CH"}, {"079 123 45 67a", "CH", "", "not a valid"},
		{"079 123 45 67", "", "", "is not a possible"}, {"", "CH", "", "is not a possible"}, {"12", "CH", "", "is not a possible"}, {"tours", "CH", "", "is not a possible"},
	} {
		got, err := Phone(c.text, c.region)
		assert.Equal(t, c.want, got, c.text)
		if c.err == "" {
			require.NoError(t, err, c.text)
			continue
		}
		require.ErrorContains(t, err, c.err, c.text)
		assert.Equal(t, c.err == "is not a possible", errors.Is(err, ErrNoPhone), c.text)
	}
}
