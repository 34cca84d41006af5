package connect

import (
	"errors"
	"net"
	"os"
	"sync/atomic"
	"time"
)

// patient is a line on which the other side may be silent for so long, and no longer.
type patient struct {
	net.Conn
	silence time.Duration
	until   atomic.Pointer[time.Time] // a deadline that somebody else has set; nil where there is none
}

// Patient bounds how long the other side may be silent while something is read from it. What keeps coming may take as long as it takes.
func Patient(c net.Conn, silence time.Duration) net.Conn {
	return &patient{Conn: c, silence: silence}
}

// Read waits for what comes next.
func (p *patient) Read(b []byte) (int, error) {
	end := time.Now().Add(p.silence)
	if u := p.until.Load(); u != nil && !u.IsZero() && u.Before(end) {
		end = *u
	}
	if err := p.Conn.SetReadDeadline(end); err != nil {
		return 0, err
	}
	n, err := p.Conn.Read(b)
	if n == 0 && errors.Is(err, os.ErrDeadlineExceeded) {
		_ = p.Close() // whoever reads once more does not wait once more
	}
	return n, err
}

// SetDeadline bounds reading and writing.
func (p *patient) SetDeadline(t time.Time) error {
	p.until.Store(&t)
	return p.Conn.SetDeadline(t)
}

// SetReadDeadline bounds reading; what is read already keeps to the earlier of it and of the silence that is borne.
func (p *patient) SetReadDeadline(t time.Time) error {
	p.until.Store(&t)
	if end := time.Now().Add(p.silence); t.IsZero() || t.After(end) {
		t = end
	}
	return p.Conn.SetReadDeadline(t)
}
