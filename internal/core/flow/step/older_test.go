package step

import (
	"encoding/json"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
)

// TestStatesOfOlderJournalsAreRead: by the names that they had; what is written has the new ones.
func TestStatesOfOlderJournalsAreRead(t *testing.T) {
	var s running.State
	require.NoError(t, json.Unmarshal([]byte(`"left out"`), &s))
	require.Equal(t, running.Skipped, s)
	require.NoError(t, json.Unmarshal([]byte(`"set aside"`), &s))
	require.Equal(t, running.SetAside, s)
	text, err := json.Marshal(running.Skipped)
	require.NoError(t, err)
	require.JSONEq(t, `"skipped"`, string(text))
}

// TestOlderNamesAreReadAndWrittenAnew: of kinds, settings, choices and branches. Each is written with its name of today, and read
// by either.
func TestOlderNamesAreReadAndWrittenAnew(t *testing.T) {
	kinds, settings, choices, tracks := 0, 0, 0, 0
	for _, k := range flow.Kinds {
		for _, older := range k.Older {
			kinds++
			require.Nil(t, flow.KindOf(older), "%s is no other kind now", older)
			f := parsedStep(t, partfile.Ordered{{Key: "step", Value: older}, {Key: "id", Value: "x"}})
			require.Equal(t, k.Name, f.Steps[0].Kind)
		}
		for _, set := range k.Settings {
			for _, older := range set.Older {
				settings++
				require.Nil(t, k.Settings.Find(older), "%s: %s is no other setting now", k.Name, older)
				f := parsedStep(t, partfile.Ordered{{Key: "step", Value: k.Name}, {Key: "id", Value: "x"}, {Key: older, Value: "7"}})
				require.Equal(t, "7", f.Steps[0].Setting(set.Name), "%s: %s", k.Name, older)
			}
			for was, now := range set.Was {
				require.NotContains(t, set.Choices, was, "%s: %s", k.Name, set.Name)
				if slices.Contains(set.Choices, now) {
					choices++
					f := parsedStep(t, partfile.Ordered{{Key: "step", Value: k.Name}, {Key: "id", Value: "x"}, {Key: set.Name, Value: was}})
					require.Equal(t, now, f.Steps[0].Setting(set.Name), "%s: %s", k.Name, set.Name)
				}
			}
		}
		for _, track := range k.Branches {
			for _, older := range track.Older {
				tracks++
				f := parsedStep(t, partfile.Ordered{{Key: "step", Value: k.Name}, {Key: "id", Value: "x"}, {Key: older, Value: []partfile.Ordered{{{Key: "step", Value: "note"}, {Key: "id", Value: "y"}}}}})
				require.Equal(t, "log", f.Steps[0].Branch(track.Key).Steps[0].Kind, "%s: %s", k.Name, older)
			}
		}
	}
	for what, n := range map[string][2]int{"kinds": {kinds, 19}, "settings": {settings, 40}, "choices": {choices, 15}, "tracks": {tracks, 3}} {
		require.GreaterOrEqual(t, n[0], n[1], what)
	}
	for _, set := range flow.Settings {
		for _, older := range set.Older {
			f := parsedStep(t, partfile.Ordered{}, partfile.Entry{Key: older, Value: "7"})
			require.Equal(t, "7", f.Settings.Get(set.Name), older)
		}
	}
}

// parsedStep is a flow with one step, and with settings of its own. What its text would be if it were written today says the same.
func parsedStep(t *testing.T, step partfile.Ordered, of ...partfile.Entry) *flow.Flow {
	t.Helper()
	part := partfile.Ordered{{Key: "flow", Value: "F"}, {Key: "trigger", Value: partfile.Ordered{{Key: "kind", Value: "manual"}}}, {Key: "steps", Value: []partfile.Ordered{step}}}
	text := partfile.Encode(append(part, of...))
	now := partfile.Upgraded(text, flow.Upgrade)
	require.NotEqual(t, string(text), string(now))
	require.Equal(t, string(now), string(partfile.Upgraded(now, flow.Upgrade)), "what is written anew has no older names")
	f := flow.Parse("f", partfile.Parse("f.yaml", text))
	again := flow.Parse("f", partfile.Parse("f.yaml", now))
	require.Equal(t, kindsOf(again), kindsOf(f))
	if len(again.Steps) > 0 {
		require.Equal(t, valuesOf(again.Steps[0].Settings), valuesOf(f.Steps[0].Settings))
	}
	return f
}

func kindsOf(f *flow.Flow) (kinds []string) {
	kinds = append(kinds, f.Trigger.Kind)
	f.Walk(func(s *flow.Step) { kinds = append(kinds, s.Kind) })
	return kinds
}

func valuesOf(v setting.Values) map[string]string {
	values := map[string]string{}
	for _, s := range v.List {
		values[s.Name] = v.Get(s.Name)
	}
	return values
}
