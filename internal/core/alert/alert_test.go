package alert

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	_ "hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

func parsed(t *testing.T, text string) (*Alert, *partfile.Doc) {
	t.Helper()
	d := partfile.Parse("alerts/a.yaml", []byte(text))
	return Parse("a", d), d
}

func TestAnAlertIsReadWithItsDefaults(t *testing.T) {
	a, d := parsed(t, "alert: Trouble\nwhen: a flow fails\nruns: tell\n")
	require.Empty(t, d.Faults)
	require.Equal(t, []int{1, 600, 3600}, []int{a.Threshold, a.Window, a.RepeatAfter})
	for text, want := range map[string]string{
		"alert: A\nruns: tell\nwhen: it rains\n":                              "it rains",
		"alert: A\nwhen: a flow fails\n":                                      "run flow",
		"alert: A\nruns: tell\nwhen: nothing arrives\n":                       `"flow" is missing`,
		"alert: A\nruns: tell\nwhen: nothing arrives\nflow: f\nby: dawn\n":    `expected a time of day as 06:30, found "dawn"`,
		"alert: A\nruns: tell\nwhen: nothing arrives\nflow: f\nzone: Nowhere": "expected a time zone",
	} {
		_, d := parsed(t, text)
		require.NotEmpty(t, d.Faults, text)
		require.Contains(t, d.Faults.Error(), want)
	}
}

// TestNothingArrivesByATimeOfDay: before it nothing is looked at; in its zone.
func TestNothingArrivesByATimeOfDay(t *testing.T) {
	a, d := parsed(t, "alert: A\nruns: tell\nwhen: nothing arrives\nflow: f\nby: '06:30'\nzone: Europe/Oslo\nwithin: 3600\n")
	require.Empty(t, d.Faults)
	_, ok := a.Since(time.Date(2031, 3, 9, 5, 29, 59, 0, time.UTC))
	require.False(t, ok)
	since, ok := a.Since(time.Date(2031, 3, 9, 9, 0, 0, 0, time.UTC))
	require.True(t, ok)
	require.Equal(t, time.Date(2031, 3, 9, 4, 30, 0, 0, time.UTC), since.UTC())
	a, _ = parsed(t, "alert: A\nruns: tell\nwhen: nothing arrives\nflow: f\nwithin: 60\n")
	since, ok = a.Since(time.Date(2031, 3, 9, 9, 0, 0, 0, time.UTC))
	require.True(t, ok)
	require.Equal(t, time.Date(2031, 3, 9, 8, 59, 0, 0, time.UTC), since)
}

func TestTheFlowMustFitTheMessage(t *testing.T) {
	of := func(fields string) *schema.Schema {
		d := partfile.Parse("s", []byte("schema: S\nnotation: json\nfields:\n"+fields))
		s := schema.Parse("s", d)
		require.Empty(t, d.Faults)
		return s
	}
	require.Contains(t, CheckFlow(nil).Error(), "begins with no message")
	for fields, want := range map[string]string{
		"  - {name: title, type: text}\n  - {name: since, type: timestamp}\n": "",
		"  - {name: flow, type: text, occurs: 0..1}\n":                        "",
		"  - {name: colour, type: text, occurs: 0..1}\n":                      "",
		"  - {name: flow, type: text}\n":                                      `not every alert has "flow"`,
		"  - {name: colour, type: text}\n":                                    `an alert has no "colour"`,
		"  - {name: told, type: text}\n":                                      "expected integer for told, found text",
	} {
		f := CheckFlow(of(fields))
		if want == "" {
			require.Nil(t, f, fields)
			continue
		}
		require.Contains(t, f.Error(), want)
	}
	a := &Alert{Title: "Trouble"}
	v := a.As(Notification{State: "raised", Text: "9 runs: account closed", Since: time.Unix(0, 0), NotifiedCount: 1}, of("  - {name: text, type: text}\n  - {name: title, type: text}\n"))
	require.Equal(t, "9 runs: account closed", v.Field("text").Text())
	require.Equal(t, "Trouble", v.Field("title").Text())
}

// TestOlderNamesOfAlertsAreRead: and written they are those of today.
func TestOlderNamesOfAlertsAreRead(t *testing.T) {
	const was = "alert: A # ours\nwhen: a flow fails\nruns: tell\ntimes: 3\nwithin: 60\nreminder: 5\noff: true\n"
	const now = "alert: A # ours\ncondition: a flow fails\nrun flow: tell\nthreshold: 3\nwindow: 60\nrepeat after: 5\ndisabled: true\n"
	require.Equal(t, now, string(partfile.Upgraded([]byte(was), Upgrade)))
	require.Equal(t, now, string(partfile.Upgraded([]byte(now), Upgrade)))
	for _, text := range []string{was, now} {
		a, d := parsed(t, text)
		require.Empty(t, d.Faults)
		require.Equal(t, FlowFailed, a.Condition)
		require.Equal(t, "tell", a.RunFlow.Value)
		require.Equal(t, []int{3, 60, 5}, []int{a.Threshold, a.Window, a.RepeatAfter})
		require.True(t, a.Disabled)
	}
}
