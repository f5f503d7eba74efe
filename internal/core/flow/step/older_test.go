package step

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/setting"
)

// TestOlderNamesAreRead: choices of part files and states of journals by the names that they had; what is written has the new ones.
func TestOlderNamesAreRead(t *testing.T) {
	var s running.State
	require.NoError(t, json.Unmarshal([]byte(`"left out"`), &s))
	require.Equal(t, running.Skipped, s)
	require.NoError(t, json.Unmarshal([]byte(`"set aside"`), &s))
	require.Equal(t, running.SetAside, s)
	text, err := json.Marshal(running.Skipped)
	require.NoError(t, err)
	require.JSONEq(t, `"skipped"`, string(text))

	named := 0
	for _, k := range flow.Kinds {
		for _, set := range k.Settings {
			if set.Type != setting.Choice {
				continue
			}
			for was, now := range set.Was {
				require.NotContains(t, set.Choices, was, "%s: %s", k.Name, set.Name)
				named += map[bool]int{true: 1}[slices.Contains(set.Choices, now)]
			}
		}
	}
	require.Greater(t, named, 6)
}
