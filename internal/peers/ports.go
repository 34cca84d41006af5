package peers

import (
	"net"
	"testing"
)

// FreePort gives a port of this machine's that nobody listens at.
func FreePort(t testing.TB) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
