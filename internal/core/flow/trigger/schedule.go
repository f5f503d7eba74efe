package trigger

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Schedule starts runs by the clock.
var Schedule = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "schedule", Title: "Schedule", Drawn: "On time",
		About: "Starts a run at its times; of several workers one does.",
		Settings: setting.List{
			triggerName,
			{Name: "cron", Label: "At", Type: setting.Text, Redraw: true, Help: "A cron expression: minute hour day month weekday, with seconds before it where they matter; or @daily, @hourly"},
			{Name: "zone", Label: "Time zone", Type: setting.Text, Redraw: true, Help: "As Europe/Oslo; UTC where it is empty"},
			{Name: "interval", Older: []string{"every"}, Label: "Or fixed interval (s)", Type: setting.Number, Default: "3600", Least: 1},
			{Name: "holidays", Label: "Skip holidays in table", Type: setting.Part, Of: "table", Help: "A table whose keys are days, as 2031-05-17"},
			{Name: "missed", Label: "Missed starts", Type: setting.Choice, Default: string(flow.OneForAll), Choices: []string{string(flow.OneForAll), string(flow.EachRun), string(flow.NoRun)}, Help: "Because no worker ran, or the trigger was paused"},
		},
		When: func(t flow.Trigger) string {
			if t.Cron.Value != "" {
				return t.Cron.Value
			}
			return "every " + flow.Interval(t.Interval)
		},
	},
	Check: checkScheduleTrigger,
}

func checkScheduleTrigger(c *compile.Compiler, t flow.Trigger) {
	s, f := flow.ScheduleOf(t, holidays(c, t.Holidays))
	if f != nil {
		at := t.Cron
		if f.Field == "zone" {
			at = t.Zone
		}
		c.Fault(at, f)
		return
	}
	c.Plan.Schedule = s
}

// holidays says whether a day is among those of the trigger's table.
func holidays(c *compile.Compiler, id partfile.Text) func(date string) bool {
	if id.Value == "" {
		return nil
	}
	t := c.Parts.Formulas().Table(id.Value)
	if t == nil {
		c.Fault(id, fault.New(fault.Unknown, "there is no table %q", id.Value))
		return nil
	}
	c.Plan.Tables = append(c.Plan.Tables, id.Value)
	if len(t.Keys) != 1 {
		c.Fault(id, fault.New(fault.Setting, "the table %s has not one key, the day", t.Title))
		return nil
	}
	return func(date string) bool {
		day, ok := schema.ParseScalar(t.Keys[0].Kind, date)
		return ok && t.Has([]value.Value{day})
	}
}
