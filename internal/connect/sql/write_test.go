package sql_test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"dorfbote/internal/connect"
	dbkind "dorfbote/internal/connect/sql"
	"dorfbote/internal/core/value"
	"dorfbote/internal/testdb"
)

// Rows are added and changed where the connection allows it; whatever stands in a value stays a value.
func TestWriting(t *testing.T) {
	write := dbkind.Kind().Write
	for name, begin := range map[string]func(*testing.T) side{"PostgreSQL": postgres, "MariaDB": mariaDB} {
		t.Run(name, func(t *testing.T) {
			s := begin(t)
			config := func(more map[string]string) connect.Config {
				return connect.Config{ID: "co", Settings: merged(merged(s.settings, s.writer), more), Env: testdb.Loopback(t, value.DefaultWorkspace())}
			}
			src := connect.SourceConfig{Name: "co/orders", Settings: map[string]string{"table": s.table}, Key: "id"}
			ctx := context.Background()
			add := connect.Write{Set: map[string]any{"id": 7.0, "customer": "'); DROP TABLE orders; --", "amount": "12345678901234567890.5", "extra": map[string]any{"a": 1.0}, "paid": true}, Once: "k"}
			out, err := write(ctx, config(nil), src, add)
			require.ErrorContains(t, err, "only reads")
			assert.True(t, out.Final)
			allowed := config(map[string]string{"writes": "yes"})
			_, err = write(ctx, allowed, src, add)
			require.NoError(t, err)
			out, err = write(ctx, allowed, src, add)
			require.Error(t, err, "it is there")
			assert.True(t, out.Final)
			add.Again = true
			_, err = write(ctx, allowed, src, add)
			require.NoError(t, err, "the try before may have added it")
			_, err = write(ctx, allowed, src, connect.Write{Change: true, Key: "7", Set: map[string]any{"customer": "Käser"}})
			require.NoError(t, err)
			var customer, amount string
			require.NoError(t, s.owner.QueryRow("SELECT customer, amount FROM orders WHERE id = 7").Scan(&customer, &amount))
			assert.Equal(t, "Käser", customer)
			assert.Contains(t, amount, "12345678901234567890.5")
			out, err = write(ctx, allowed, src, connect.Write{Change: true, Key: "99", Set: map[string]any{"customer": "x"}})
			if name == "PostgreSQL" {
				require.ErrorContains(t, err, "0 rows")
				assert.True(t, out.Final)
			}
			out, err = write(ctx, allowed, src, connect.Write{Set: map[string]any{"nothing": 1.0}})
			require.Error(t, err)
			assert.True(t, out.Final, "a column that is not there does not come by waiting")
			away := config(map[string]string{"writes": "yes", "host": "127.0.0.1:1"})
			out, err = write(ctx, away, src, add)
			require.Error(t, err)
			assert.False(t, out.Final, "a database that is away may come back")
		})
	}
}
