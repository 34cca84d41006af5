package store_test

import (
	"context"
	"io"
	"net"
	"net/url"
	"sync/atomic"
	"testing"

	"github.com/jackc/pgx/v5/pgproto3"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// A server that is mending itself after a crash takes no connections for a moment. Whoever starts then waits for it.
func TestOpenWaitsForAServerThatIsStarting(t *testing.T) {
	address, err := url.Parse(testdb.URL(t))
	require.NoError(t, err)
	server := address.Host
	door, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer door.Close()
	var turnedAway atomic.Int32
	go func() {
		for {
			conn, err := door.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close()
				if turnedAway.Add(1) <= 3 {
					b := pgproto3.NewBackend(conn, conn)
					if _, err := b.ReceiveStartupMessage(); err != nil {
						return
					}
					b.Send(&pgproto3.ErrorResponse{Severity: "FATAL", Code: "57P03", Message: "the database system is not yet accepting connections"})
					_ = b.Flush()
					return
				}
				to, err := net.Dial("tcp", server)
				if err != nil {
					return
				}
				defer to.Close()
				go func() { _, _ = io.Copy(to, conn) }()
				_, _ = io.Copy(conn, to)
			}()
		}
	}()
	address.Host = door.Addr().String()
	st, err := store.Open(context.Background(), address.String(), 1)
	require.NoError(t, err)
	defer st.Close()
	assert.Greater(t, turnedAway.Load(), int32(3))

	// One that does not answer at all is an error, and soon.
	address.Host = "127.0.0.1:1"
	_, err = store.Open(context.Background(), address.String(), 1)
	assert.ErrorContains(t, err, "connecting to PostgreSQL at 127.0.0.1")
}
