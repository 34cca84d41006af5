// Package seal keeps secrets at rest: authenticated encryption (AES-256-GCM by Tink) under a key that lies
// outside the database. What is sealed for one purpose does not open for another.
package seal

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/tink-crypto/tink-go/v2/aead"
	"github.com/tink-crypto/tink-go/v2/insecurecleartextkeyset"
	"github.com/tink-crypto/tink-go/v2/keyset"
	"github.com/tink-crypto/tink-go/v2/tink"
)

// Box seals and opens. It may be used by many goroutines at once.
type Box struct{ aead tink.AEAD }

// NewKey makes a key, in Tink's JSON form.
func NewKey() ([]byte, error) {
	h, err := keyset.NewHandle(aead.AES256GCMKeyTemplate())
	if err != nil {
		return nil, err
	}
	var out bytes.Buffer
	err = insecurecleartextkeyset.Write(h, keyset.NewJSONWriter(&out))
	return out.Bytes(), err
}

// New makes a box of a key that NewKey made.
func New(key []byte) (*Box, error) {
	h, err := insecurecleartextkeyset.Read(keyset.NewJSONReader(bytes.NewReader(key)))
	if err != nil {
		return nil, fmt.Errorf("the key for secrets cannot be read; it is made by 'dorfbote key': %w", err)
	}
	a, err := aead.New(h)
	return &Box{a}, err
}

// Ephemeral makes a box whose key is kept nowhere. It is for tests.
func Ephemeral() *Box {
	key, err := NewKey()
	if err != nil {
		panic(err)
	}
	b, err := New(key)
	if err != nil {
		panic(err)
	}
	return b
}

// FromFile makes a box of the key in a file, which is made, readable by its owner alone, where there is none.
// Of several processes that make it at once, all end up with the same key.
func FromFile(name string) (*Box, error) {
	raw, err := os.ReadFile(name)
	if errors.Is(err, fs.ErrNotExist) {
		if err := makeFile(name); err != nil {
			return nil, fmt.Errorf("making the key for secrets: %w", err)
		}
		raw, err = os.ReadFile(name)
	}
	if err != nil {
		return nil, fmt.Errorf("reading the key for secrets: %w", err)
	}
	return New(raw)
}

func makeFile(name string) error {
	key, err := NewKey()
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(name), 0o755); err != nil {
		return err
	}
	temp, err := os.CreateTemp(filepath.Dir(name), ".key-*") // 0600
	if err != nil {
		return err
	}
	defer func() { _ = os.Remove(temp.Name()) }()
	if _, err := temp.Write(key); err != nil {
		return err
	}
	if err := temp.Close(); err != nil {
		return err
	}
	if err := os.Link(temp.Name(), name); err != nil && !errors.Is(err, fs.ErrExist) { // whole, or not at all
		return err
	}
	return nil
}

// Seal seals secrets, by name, for one connection.
func (b *Box) Seal(secrets map[string]string, connection string) ([]byte, error) {
	if len(secrets) == 0 {
		return nil, nil
	}
	plain, err := json.Marshal(secrets)
	if err != nil {
		return nil, err
	}
	return b.aead.Encrypt(plain, []byte(connection))
}

// Open opens what was sealed for a connection. Nothing sealed is no secrets.
func (b *Box) Open(sealed []byte, connection string) (map[string]string, error) {
	out := map[string]string{}
	if len(sealed) == 0 {
		return out, nil
	}
	plain, err := b.aead.Decrypt(sealed, []byte(connection))
	if err != nil {
		return nil, fmt.Errorf("the secrets of %s cannot be opened with this key; give the key they were sealed with (DORFBOTE_KEY_FILE), or enter them anew", connection)
	}
	return out, json.Unmarshal(plain, &out)
}
