package sample

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// TestDullValuesBecomeRealLookingOnes: those that look made up, and no others; what comes of it fits the schema.
func TestDullValuesBecomeRealLookingOnes(t *testing.T) {
	class := schema.Scalar("class", value.Text)
	class.Constraints.Codes = []schema.Code{{Value: "test"}, {Value: "CAR"}}
	line := schema.Record("line", schema.Scalar("price", value.Integer))
	line.Max = schema.Many
	s := &schema.Schema{ID: "s", Notation: json.Kind.Notation, Root: schema.Record("s", schema.Scalar("name", value.Text), schema.Scalar("mail", value.Text), schema.Scalar("city", value.Text), class, line)}
	rows := func(texts ...int64) value.Value {
		var items []value.Value
		for _, n := range texts {
			items = append(items, value.NewRecord(line.Layout(), []value.Value{value.Int(n)}))
		}
		return value.ListOf(items...)
	}
	v := value.NewRecord(s.Root.Layout(), []value.Value{value.NewText("string"), value.NewText("tove@skerry.example"), value.NewText("city 1"), value.NewText("test"), rows(123, 412)})
	out, n := Liven(s, v, 1)
	require.Equal(t, 3, n)
	require.Regexp(t, "^(Mira|Tove|Jon|Ada|Eli) (Orrin|Lind|Haar|Skov|Berg)$", out.Field("name").Text())
	require.Equal(t, "tove@skerry.example", out.Field("mail").Text())
	require.Contains(t, []string{"Ling", "Skerry Holm", "Kelp Haven", "Orma", "Havra"}, out.Field("city").Text())
	require.Equal(t, "test", out.Field("class").Text(), "a code stays")
	require.NotEqual(t, "123", out.Field("line").Items()[0].Field("price").String())
	require.Equal(t, "412", out.Field("line").Items()[1].Field("price").String())
	again, _ := Liven(s, v, 1)
	require.True(t, value.Equal(out, again), "the same seed gives the same")
}
