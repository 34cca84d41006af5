package seal

import (
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// What is sealed for one connection opens for no other, with no other key, and not if a byte is another.
func TestSecretsAreBoundToTheirConnection(t *testing.T) {
	b := Ephemeral()
	sealed, err := b.Seal(map[string]string{"token": "secret-7"}, "square")
	require.NoError(t, err)
	assert.NotContains(t, string(sealed), "secret-7")
	got, err := b.Open(sealed, "square")
	require.NoError(t, err)
	assert.Equal(t, map[string]string{"token": "secret-7"}, got)
	for _, other := range []string{"square2", "squar", "", "Square"} {
		_, err := b.Open(sealed, other)
		require.Error(t, err, other)
	}
	_, err = Ephemeral().Open(sealed, "square")
	require.Error(t, err, "another key")
	for i := range sealed {
		altered := append([]byte(nil), sealed...)
		altered[i] ^= 1
		_, err := b.Open(altered, "square")
		require.Error(t, err, i)
	}
	again, err := b.Seal(map[string]string{"token": "secret-7"}, "square")
	require.NoError(t, err)
	assert.NotEqual(t, sealed, again, "the same secret is not seen to be the same")
}

func TestNothingSealedIsNoSecrets(t *testing.T) {
	got, err := Ephemeral().Open(nil, "x")
	require.NoError(t, err)
	assert.Empty(t, got)
	_, err = New([]byte("no key"))
	assert.Error(t, err)
}

// Processes that make the key at once end up with the same, which others cannot read.
func TestTheKeyIsMadeOnce(t *testing.T) {
	file := filepath.Join(t.TempDir(), "keys", "secret.key")
	var busy sync.WaitGroup
	boxes := make([]*Box, 8)
	for i := range boxes {
		busy.Go(func() {
			b, err := FromFile(file)
			if assert.NoError(t, err) {
				boxes[i] = b
			}
		})
	}
	busy.Wait()
	sealed, err := boxes[0].Seal(map[string]string{"a": "b"}, "x")
	require.NoError(t, err)
	for _, b := range boxes {
		_, err := b.Open(sealed, "x")
		require.NoError(t, err)
	}
	st, err := os.Stat(file)
	require.NoError(t, err)
	assert.Zero(t, st.Mode().Perm()&0o077)
}
