package sqltext

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func TestQueryOf(t *testing.T) {
	d := Dialect{Ident: func(name string) string { return "[" + name + "]" }}
	for what, want := range map[string]string{
		" booking ;\n":                     "select * from [booking]",
		"depot.booking":                    "select * from [depot.booking]",
		"select 1 as a;":                   "select 1 as a",
		"with b as (select 1) table b ; ;": "with b as (select 1) table b",
	} {
		got, err := d.QueryOf(what)
		require.NoError(t, err, what)
		assert.Equal(t, want, got)
	}
	_, err := d.QueryOf(" ;\n ")
	require.ErrorContains(t, err, "name a table, or write a query")
}

func TestRowSchema(t *testing.T) {
	s, err := RowSchema("row", []*schema.Field{Column("id"), Column("note")}, []string{"note is cut"})
	require.NoError(t, err)
	assert.Equal(t, schema.Rows, s.Notation)
	assert.Equal(t, []string{"id", "note"}, s.Root.Layout().Names)
	assert.Equal(t, value.Text, s.Root.Fields[1].Kind)
	assert.True(t, s.Root.Fields[1].Nullable)
	assert.Equal(t, []string{"note is cut"}, s.NotImported)

	_, err = RowSchema("row", []*schema.Field{Column("id"), Column("id")}, nil)
	require.ErrorContains(t, err, "two columns are called id")
	_, err = RowSchema("row", nil, nil)
	require.ErrorContains(t, err, "gives no columns")
}
