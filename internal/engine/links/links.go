// Package links makes the signed addresses by which people act on what they were told, without an account: the buttons of a
// post. An address says what it is for and until when, and is known by a code of authentication (HMAC-SHA-256) under a key
// of this installation; whoever alters it makes it worthless.
package links

import (
	"context"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"sync"
	"time"

	"dorfbote/internal/engine/host"
)

// What links are for.
const (
	Button  = "b" // the buttons of a post
	Picture = "p" // what was drawn for a post
	Shared  = "s" // a page of some fields of a post's record
	Why     = "w" // the page that says why a post was told
	File    = "f" // a file that goes with a post, where it could not be carried
)

// doors are where the addresses lead that are for something.
var doors = map[string]string{Button: "/act/", Picture: "/picture/", Shared: "/shared/", Why: "/why/", File: "/file/"}

// AllButtons in the place of a button's number leads to a page with all of them.
const AllButtons = -1

// Lasts is how long a link may be used.
const Lasts = 30 * 24 * time.Hour

// Link is what an address says.
type Link struct {
	For   string // what it is for
	ID    int64  // of the post
	N     int    // of the button
	Until time.Time
	// Native is true of an address that only the other side's program knows, which says who pressed.
	Native bool
	// Copy is true of an address that went to somebody who got a copy: they may look, and act once they have signed in.
	Copy bool
}

// Why an address is not taken.
var (
	ErrForged  = errors.New("this link is not one of ours, or has been altered")
	ErrExpired = errors.New("this link has expired")
)

// Links signs and reads addresses. It is safe for use by many goroutines.
type Links struct {
	*host.Host
	mu  sync.Mutex
	key []byte
}

// The key's name, and what it is sealed for.
const (
	keyName   = "links"
	sealedFor = "the links of this installation"
)

// signing gives the key, which is made where there is none.
func (l *Links) signing(ctx context.Context) ([]byte, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.key != nil {
		return l.key, nil
	}
	fresh := make([]byte, 32)
	_, _ = rand.Read(fresh)
	sealed, err := l.Box.Seal(map[string]string{keyName: base64.StdEncoding.EncodeToString(fresh)}, sealedFor)
	if err != nil {
		return nil, err
	}
	have, err := l.Store.KeyNamed(ctx, keyName, sealed)
	if err != nil {
		return nil, fmt.Errorf("the key of links: %w", err)
	}
	opened, err := l.Box.Open(have, sealedFor)
	if err != nil {
		return nil, err
	}
	l.key, err = base64.StdEncoding.DecodeString(opened[keyName])
	return l.key, err
}

// Address gives the whole address of a link, "" where no address is known by which the outside reaches this installation. The same
// link gives the same address.
func (l *Links) Address(ctx context.Context, link Link) (string, error) {
	base := l.base()
	if base == "" {
		return "", nil
	}
	key, err := l.signing(ctx)
	if err != nil {
		return "", err
	}
	who := "l"
	switch {
	case link.Native:
		who = "n"
	case link.Copy:
		who = "c"
	}
	body := fmt.Sprintf("%s.%d.%d.%s.%d", link.For, link.ID, link.N, who, link.Until.Unix())
	return base + doors[link.For] + body + "." + code(key, body), nil
}

func (l *Links) base() string { return strings.TrimSuffix(l.Env.Base, "/") }

// Lead tells whether addresses can be given at all.
func (l *Links) Lead() bool { return l.base() != "" }

// Read reads what stands behind the door of a purpose. A link that is for something else is [ErrForged].
func (l *Links) Read(ctx context.Context, purpose, text string) (Link, error) {
	key, err := l.signing(ctx)
	if err != nil {
		return Link{}, err
	}
	at := strings.LastIndexByte(text, '.')
	if at < 0 || len(text) > 200 || !hmac.Equal([]byte(text[at+1:]), []byte(code(key, text[:at]))) {
		return Link{}, ErrForged
	}
	parts := strings.Split(text[:at], ".")
	if len(parts) != 5 || parts[0] != purpose {
		return Link{}, ErrForged
	}
	id, err1 := strconv.ParseInt(parts[1], 10, 64)
	n, err2 := strconv.Atoi(parts[2])
	until, err3 := strconv.ParseInt(parts[4], 10, 64)
	if errors.Join(err1, err2, err3) != nil {
		return Link{}, ErrForged
	}
	out := Link{For: parts[0], ID: id, N: n, Native: parts[3] == "n", Copy: parts[3] == "c", Until: time.Unix(until, 0)}
	if l.Now().After(out.Until) {
		return out, ErrExpired
	}
	return out, nil
}

// Proof says that somebody has opened the page that a link leads to: nobody else can know it, and it is another for each account.
func (l *Links) Proof(ctx context.Context, token string, account int64) (string, error) {
	key, err := l.signing(ctx)
	if err != nil {
		return "", err
	}
	return code(key, fmt.Sprintf("opened by %d: %s", account, token)), nil
}

func code(key []byte, body string) string {
	mac := hmac.New(sha256.New, key)
	mac.Write([]byte("dorfbote link " + body))
	return base64.RawURLEncoding.EncodeToString(mac.Sum(nil)[:18])
}
