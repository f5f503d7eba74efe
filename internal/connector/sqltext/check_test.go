package sqltext

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func TestAnUpsertIsHeldAgainstItsTable(t *testing.T) {
	same := func(a, b string) bool { return a == b }
	row := &schema.Schema{Root: schema.Record("row", schema.Scalar("code", value.Text), schema.Scalar("name", value.Text))}
	u := running.Upsert{Table: "port", Key: []string{"code"}, Row: row}
	require.Empty(t, Check(u, []string{"id", "code", "name"}, [][]string{{"id"}, {"code"}}, same))
	require.Empty(t, Check(u, []string{"code", "name"}, nil, same), "some systems need no constraint")
	require.EqualError(t, Check(u, []string{"code"}, [][]string{{"code"}}, same), `the table port has no column "name". It has code`)
	require.EqualError(t, Check(u, []string{"code", "name"}, [][]string{{"id"}, {"code", "name"}}, same), "the key code of the table port has no unique constraint. Give the table one, or choose as key (id) or (code, name)")
	require.EqualError(t, Check(u, []string{"code", "name"}, [][]string{}, same), "the key code of the table port has no unique constraint. Give the table one on these columns: without it nothing tells its rows apart")
	u.Key = []string{"name", "code"}
	require.Empty(t, Check(u, []string{"code", "name"}, [][]string{{"code", "name"}}, same), "in any order")
}
