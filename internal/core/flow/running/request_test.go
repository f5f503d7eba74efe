package running

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/value"
)

// TestARequestIsKeptAsItCame: with its run it is written and read again, and is the same to the steps whether it was or not.
func TestARequestIsKeptAsItCame(t *testing.T) {
	text, none := "a text, \u00e6", ""
	for name, v := range map[string]value.Value{
		"with nothing":    RequestOf("GET", "where/Ling", nil, nil, nil),
		"an empty body":   RequestOf("POST", "a", &none, nil, nil),
		"with everything": RequestOf("PUT", "a/b", &text, []Pair{{"q", "1"}, {"q", ""}}, []Pair{{"accept", "*/*"}}),
	} {
		again := ReadRequest(WriteRequest(v))
		require.True(t, value.Equal(v, again), "%s: %s became %s", name, v, again)
		for _, field := range Request.Fields {
			require.Equal(t, v.Field(field.Name).Kind(), again.Field(field.Name).Kind(), "%s: %s", name, field.Name)
		}
	}
	require.Equal(t, value.Absent, ReadRequest(nil).Kind())
}
