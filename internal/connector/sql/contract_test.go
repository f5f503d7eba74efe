package sql

import (
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/testdb"
)

func TestTheContractOfDatabases(t *testing.T) {
	address := testdb.New(t)
	conn, err := pgx.Connect(t.Context(), address)
	require.NoError(t, err)
	defer conn.Close(t.Context())
	_, err = conn.Exec(t.Context(), `create table crane (id int primary key, name varchar(60) not null check (name <> 'ghost'), lift_t numeric(10, 2), built date, seen timestamptz);
		create function twice(n bigint) returns bigint language sql as 'select 2 * n'`)
	require.NoError(t, err)
	s, err := OpenSystem(contract.Env("sql", map[string]string{"by": "address", "address": address, "timeout": "10"}))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	contract.SQL(t, s)
}
