package connect

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"strings"
	"syscall"

	"dorfbote/internal/core/fault"
)

// NoAnswer says in plain words why a call brought no answer.
func NoAnswer(err error) string {
	var t *fault.Fault
	var dns *net.DNSError
	var cert *tls.CertificateVerificationError
	var header tls.RecordHeaderError
	var timeout net.Error
	switch {
	case errors.As(err, &t):
		return t.Said
	case errors.As(err, &dns) && dns.IsNotFound:
		return "there is no host called " + dns.Name
	case errors.As(err, &dns):
		return "the name " + dns.Name + " could not be looked up"
	case errors.As(err, &cert):
		return "its certificate is not trusted: " + cert.Err.Error()
	case errors.As(err, &header), strings.Contains(err.Error(), "gave HTTP response to HTTPS client"):
		return "it does not speak TLS there"
	case errors.Is(err, syscall.ECONNREFUSED):
		return "nothing listens there (the connection was refused)"
	case errors.Is(err, net.ErrClosed), errors.Is(err, syscall.ECONNRESET), errors.Is(err, syscall.EPIPE), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return "the connection was broken off"
	case errors.Is(err, syscall.EHOSTUNREACH), errors.Is(err, syscall.ENETUNREACH):
		return "there is no way to it from this server"
	case errors.Is(err, context.Canceled):
		return "the call was broken off"
	case errors.Is(err, os.ErrDeadlineExceeded), errors.Is(err, context.DeadlineExceeded), errors.As(err, &timeout) && timeout.Timeout():
		return "it did not answer in time"
	}
	if u, ok := errors.AsType[*url.Error](err); ok {
		err = u.Err
	}
	if op, ok := errors.AsType[*net.OpError](err); ok {
		err = op.Err
	}
	return err.Error()
}

// Counted says how many there are, such as "1 table" and "2 tables".
func Counted(n int, one string) string {
	if n == 1 {
		return "1 " + one
	}
	if before, ok := strings.CutSuffix(one, "y"); ok {
		return fmt.Sprintf("%d %sies", n, before)
	}
	return fmt.Sprintf("%d %ss", n, one)
}

// Answered joins an HTTP status with the words beside it, each said once.
func Answered(status string, parts ...string) string {
	var said []string
	for _, p := range parts {
		p = strings.TrimSpace(p)
		known := p == "" || strings.EqualFold(p, status) || strings.HasSuffix(strings.ToLower(status), " "+strings.ToLower(strings.TrimRight(p, ".")))
		for _, s := range said {
			known = known || strings.EqualFold(s, p)
		}
		if !known {
			said = append(said, p)
		}
	}
	if len(said) == 0 {
		return status
	}
	return status + ": " + strings.Join(said, " · ")
}
