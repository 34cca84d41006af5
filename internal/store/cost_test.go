package store_test

import (
	"context"
	"database/sql"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"dorfbote/internal/store"
	"dorfbote/internal/testdb"
)

// The index of a source's newest records beside the same writes without it.
func BenchmarkRecordsWritten(b *testing.B) {
	for _, with := range []bool{true, false} {
		b.Run(fmt.Sprintf("index=%v", with), func(b *testing.B) {
			st := testdb.New(b)
			if !with {
				require.NoError(b, st.DB.Exec("DROP INDEX records_newest").Error)
			}
			require.NoError(b, st.DB.Exec("INSERT INTO records (source, key, data, time) SELECT 'a/b', 'K-' || n, '{}', now() FROM generate_series(1, 50000) n").Error)
			require.NoError(b, st.DB.Exec("VACUUM ANALYZE records").Error)
			b.ResetTimer()
			for i := range b.N {
				require.NoError(b, st.DB.Exec(`INSERT INTO records (source, key, data, time) SELECT 'a/b', 'K-' || (1 + (? * 7919 + n * 104729) % 50000), '{"n":1}', now() FROM generate_series(1, 100) n ON CONFLICT (source, key) DO UPDATE SET data = excluded.data, time = excluded.time`, i).Error)
			}
		})
	}
}

// What it costs to move a source's mark, with the question who has one of their own.
func BenchmarkMovingAMark(b *testing.B) {
	st := testdb.New(b)
	require.NoError(b, st.DB.Exec("INSERT INTO marks (source, seq) VALUES ('a/b', 0)").Error)
	db, err := st.DB.DB()
	require.NoError(b, err)
	for _, asks := range []bool{true, false} {
		b.Run(fmt.Sprintf("asks=%v", asks), func(b *testing.B) {
			require.NoError(b, st.DB.Exec("UPDATE marks SET seq = 0").Error)
			for i := range b.N {
				tx, err := db.Begin()
				require.NoError(b, err)
				if asks {
					require.NoError(b, store.MoveMark(context.Background(), tx, store.Lane{Source: "a/b"}, int64(i), int64(i+1), nil))
				} else {
					require.NoError(b, plainly(tx, i))
				}
				require.NoError(b, tx.Commit())
			}
		})
	}
}

func plainly(tx *sql.Tx, i int) error {
	_, err := tx.Exec("UPDATE marks SET seq = $2 WHERE source = 'a/b' AND seq = $1", i, i+1)
	return err
}
