package examples

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/value"
)

func TestEveryKindOfStepHasAnExampleThatHolds(t *testing.T) {
	for _, k := range flow.Kinds {
		e := Of(k.Name)
		require.NotNil(t, e, "%s has no example", k.Name)
		shown := false
		for _, text := range e.Texts {
			shown = shown || strings.Contains(text, "step: "+k.Name)
		}
		require.True(t, shown, "the example of %s does not have it", k.Name)
	}
	for name, e := range All() {
		t.Run(name, func(t *testing.T) {
			r, err := e.Run(t.Context())
			require.NoError(t, err)
			require.NotEmpty(t, e.Expect)
			for _, x := range e.Expect {
				got, f := r.Got(x.Of)
				require.Nil(t, f)
				text := got.String()
				if got.Kind() == value.RecordKind {
					require.JSONEq(t, x.Is, string((&json.Appender{}).Append(nil, got)), x.Of)
					continue
				}
				require.Equal(t, strings.ReplaceAll(x.Is, `\n`, "\n"), text, x.Of)
			}
		})
	}
}
