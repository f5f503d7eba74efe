package flow

import (
	"hollowreed/internal/core/doc"
)

// ScheduleTrigger starts runs by the clock.
var ScheduleTrigger = &TriggerKind{
	Name: "schedule", Title: "Schedule", Drawn: "On time",
	About: "Starts a run at its times; of several workers one does.",
	Settings: []Setting{
		triggerName,
		{Name: "cron", Label: "At", Type: Text, Redraw: true, Help: "A cron expression: minute hour day month weekday, with seconds before it where they matter; or @daily, @hourly"},
		{Name: "zone", Label: "In the time zone", Type: Text, Redraw: true, Help: "As Europe/Oslo; UTC where it is empty"},
		{Name: "every", Label: "Or fixed interval (s)", Type: Number, Default: "3600"},
		{Name: "holidays", Label: "Skip holidays in table", Type: Part, Of: "table", Help: "A table whose keys are days, as 2031-05-17"},
		{Name: "missed", Label: "Missed starts", Type: Choice, Default: string(OneForAll), Choices: []string{string(OneForAll), string(EachRun), string(NoRun)}, Help: "Because no worker ran, or the trigger was paused"},
	},
	read: readScheduleTrigger,
	when: func(t Trigger) string {
		if t.Cron.Value != "" {
			return t.Cron.Value
		}
		return "every " + every(t.Every)
	},
	check: checkScheduleTrigger,
}

func readScheduleTrigger(tr *Trigger, t doc.Node) {
	tr.Every, tr.Cron, tr.Zone, tr.Holidays = t.Int("every", 3600), t.Text("cron"), t.Text("zone"), t.Text("holidays")
	tr.Missed = Missed(t.Choice("missed", string(OneForAll), string(EachRun), string(NoRun)))
}

func checkScheduleTrigger(c *compiler, t Trigger) {
	s, f := ScheduleOf(t, c.holidays(t.Holidays))
	if f != nil {
		at := t.Cron
		if f.Field == "zone" {
			at = t.Zone
		}
		c.fault(at, f)
		return
	}
	c.plan.Schedule = s
}
