package formula

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// TestWhatIsWrongHasAPlace: the piece that is underlined is the one at which the fault was found.
func TestWhatIsWrongHasAPlace(t *testing.T) {
	scope := NewScope()
	scope.Define("order", Type{Kind: value.RecordKind, Fields: schema.Record("order", schema.Scalar("no", value.Integer), schema.Scalar("naïve", value.Text))})
	scope.Open("order")
	for source, pieces := range map[string][]string{
		"":                          nil,
		"no + 1":                    nil,
		"no + nope":                 {"nope"},
		`upper(naïve) + order.nope`: {"nope"},
		`sum("a")`:                  {`"a"`},
		`nope(1) + no`:              {"nope"},
		"no +":                      {"+"},
		"(no  ":                     {"no"},
		`"a \" b" + 1`:              {`"a \" b"`},
		"no ++ )":                   {")"},
	} {
		var found []string
		for _, s := range Wrong(source, scope) {
			require.NotEmpty(t, s.Text, source)
			found = append(found, string([]rune(source)[s.From:s.To]))
		}
		require.Equal(t, pieces, found, source)
	}
}
