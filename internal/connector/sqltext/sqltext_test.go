package sqltext

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
)

func dollars(n int) string { return fmt.Sprintf("$%d", n) }

func TestNamedParametersAreNumbered(t *testing.T) {
	for in, want := range map[string]string{
		"select 1": "select 1",
		"select * from t where a = :a and b = :b or a > :a":   "select * from t where a = $1 and b = $2 or a > $1",
		"select ':a', \":b\", `:c`, x::text -- :d\n, :e":      "select ':a', \":b\", `:c`, x::text -- :d\n, $1",
		"select /* :a */ $q$ :b $q$, $$:c$$, 'it''s :d', :éa": "select /* :a */ $q$ :b $q$, $$:c$$, 'it''s :d', $1",
		"select a[1:2], '12:30'::time, :1":                    "select a[1:2], '12:30'::time, :1",
	} {
		s, err := Parse(in, true, dollars)
		require.NoError(t, err, in)
		require.Equal(t, want, s.Text)
	}
	s, err := Parse("select :a, :b, :a", false, func(int) string { return "?" })
	require.NoError(t, err)
	require.Equal(t, "select ?, ?, ?", s.Text)
	require.Equal(t, []string{"a", "b", "a"}, s.Names)
	for _, in := range []string{"select 'a", "select /* a", "select $x$ a", `select "a`} {
		_, err := Parse(in, true, dollars)
		require.ErrorContains(t, err, "not ended", in)
	}
}

func TestAQueryIsToldFromATable(t *testing.T) {
	require.True(t, IsQuery("SELECT\n1"))
	require.True(t, IsQuery("with a as (select 1) select * from a"))
	require.False(t, IsQuery("select_list"))
	require.False(t, IsQuery("harbour.station"))
}

func FuzzParse(f *testing.F) {
	f.Add("select * from t where a = :a and b = ':b' -- :c\n and $1$ x $1$")
	f.Fuzz(func(t *testing.T, in string) {
		s, err := Parse(in, true, dollars)
		if err == nil && len(s.Names) == 0 {
			require.Equal(t, in, s.Text)
		}
	})
}
