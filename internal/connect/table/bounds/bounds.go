// Package bounds keeps reading within bounds: a small file can hold a great deal of the same.
package bounds

import (
	"errors"
	"fmt"
	"io"
	"time"
)

// Bounds of what is read.
const (
	MaxTime  = 2 * time.Minute // of reading one table
	MaxToken = 2 << 20         // bytes of one text or tag
)

// Reader reads within bounds. A decoder that reads through it begins anew with each token.
type Reader struct {
	R     io.Reader
	Left  int64     // bytes that may still be read
	Token int64     // bytes of the token that is read; whoever decodes sets it back to 0
	Ends  time.Time // by when it must have been read
}

// Read reads on, or says which bound was met.
func (b *Reader) Read(p []byte) (int, error) {
	if b.Left <= 0 {
		return 0, errors.New("it unpacks to more than is read")
	}
	if b.Token > MaxToken {
		return 0, fmt.Errorf("it holds a text of more than %d MiB", MaxToken>>20)
	}
	if time.Now().After(b.Ends) {
		return 0, fmt.Errorf("reading it takes longer than %v", MaxTime)
	}
	n, err := b.R.Read(p)
	b.Left, b.Token = b.Left-int64(n), b.Token+int64(n)
	return n, err
}
