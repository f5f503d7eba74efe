package trigger

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/flow"
	_ "hollowreed/internal/core/flow/step" // a flow has steps
	"hollowreed/internal/core/partfile"
)

// TestEveryTriggerIsComplete: each kind of the list says all that is asked of one, and a part with the least that it must say is
// read without a fault, drawn and shown.
func TestEveryTriggerIsComplete(t *testing.T) {
	names := map[string]bool{}
	for _, k := range flow.Triggers {
		t.Run(k.Name, func(t *testing.T) {
			require.False(t, names[k.Name], "it is there twice")
			names[k.Name] = true
			require.Same(t, k, flow.TriggerOf(k.Name))
			for _, text := range []string{k.Title, k.About, k.Drawn} {
				require.NotEmpty(t, text)
			}
			require.False(t, k.Files && !k.Brings, "a file brings records")
			require.False(t, k.Callable && (k.Brings || k.Requests), "what is called is started by nothing else")
			part := "flow: F\ntrigger:\n  kind: " + k.Name + "\n"
			for _, s := range k.Settings {
				require.NotEmpty(t, s.Label, s.Name)
				require.NotEmpty(t, s.Type, s.Name)
				if s.Required {
					part += "  " + s.Name + ": x\n"
				}
			}
			d := partfile.Parse("f.yaml", []byte(part+"steps:\n  - {step: note, id: n, name: N, text: '\"x\"'}\n"))
			f := flow.Parse("f", d)
			require.Empty(t, d.Faults)
			require.Same(t, k, f.Trigger.Of())
			require.Positive(t, f.Trigger.Interval)
			require.NotEmpty(t, f.Trigger.When())
		})
	}
}

// TestOlderNamesOfTriggersAreRead: of kinds and settings; written they have those of today.
func TestOlderNamesOfTriggersAreRead(t *testing.T) {
	kinds, settings := 0, 0
	for _, k := range flow.Triggers {
		for _, older := range k.Older {
			kinds++
			require.Nil(t, flow.TriggerOf(older))
			f := flow.Parse("f", partfile.Parse("f.yaml", []byte("flow: F\ntrigger: {kind: "+older+"}\n")))
			require.Equal(t, k.Name, f.Trigger.Kind)
		}
		for _, s := range k.Settings {
			for _, older := range s.Older {
				settings++
				text := []byte("flow: F\ntrigger:\n  kind: " + k.Name + "\n  " + older + ": 7 # as it was\n")
				require.Equal(t, "7", flow.Parse("f", partfile.Parse("f.yaml", text)).Trigger.Settings.Get(s.Name), "%s: %s", k.Name, older)
				require.Equal(t, "flow: F\ntrigger:\n  kind: "+k.Name+"\n  "+s.Name+": 7 # as it was\n", string(partfile.Upgraded(text, flow.Upgrade)))
			}
		}
	}
	require.Equal(t, 3, kinds)
	require.GreaterOrEqual(t, settings, 9)
}
