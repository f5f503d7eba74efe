package sql

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/testdb"
)

// TestNumbersAreExact: what the server writes as text is what is read from its binary format.
func TestNumbersAreExact(t *testing.T) {
	conn, err := pgx.Connect(t.Context(), testdb.New(t))
	require.NoError(t, err)
	defer conn.Close(t.Context())
	for _, text := range []string{
		"0", "0.00", "1", "-1", "12.50", "0.1", "-0.001", "10000", "9999.9999", "100000000", "123456789012345.67", "99999999999999999", "-99999999999999999999999999.123456789",
		"0.00000000000000000001", "1e30", "10000.0001", "5000", "0.0500", "1234567890.10", "-100.0",
	} {
		var raw []byte
		var want string
		rows, err := conn.Query(t.Context(), "select $1::numeric, $1::numeric::text", pgx.QueryResultFormats{pgx.BinaryFormatCode, pgx.TextFormatCode}, text)
		require.NoError(t, err)
		require.True(t, rows.Next())
		raw, want = append(raw, rows.RawValues()[0]...), string(rows.RawValues()[1])
		rows.Close()
		got, ok := numeric(raw)
		require.True(t, ok, text)
		require.Equal(t, want, got.String())
	}
	for _, b := range [][]byte{nil, {0, 0}, {0, 0, 0, 0, 0xc0, 0, 0, 0}, {0, 9, 0, 0, 0, 0, 0, 0}} {
		_, ok := numeric(b)
		require.False(t, ok)
	}
}

func FuzzNumeric(f *testing.F) {
	f.Add([]byte{0, 2, 0, 0, 0, 0, 0, 2, 0, 12, 19, 136})
	f.Fuzz(func(t *testing.T, b []byte) {
		if len(b) >= 8 && (b[2] > 1 || b[6] > 1) {
			return // as long as a row may be
		}
		if v, ok := numeric(b); ok {
			require.NotEmpty(t, v.String())
		}
	})
}
