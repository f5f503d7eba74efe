package flow

import (
	"strconv"

	"hollowreed/internal/core/setting"
)

// ScheduleTrigger starts runs by the clock.
var ScheduleTrigger = &TriggerKind{
	Name: "schedule", Title: "Schedule", Drawn: "On time",
	About: "Starts a run at its times; of several workers one does.",
	Settings: setting.List{
		triggerName,
		{Name: "cron", Label: "At", Type: setting.Text, Redraw: true, Help: "A cron expression: minute hour day month weekday, with seconds before it where they matter; or @daily, @hourly"},
		{Name: "zone", Label: "In the time zone", Type: setting.Text, Redraw: true, Help: "As Europe/Oslo; UTC where it is empty"},
		{Name: "every", Label: "Or fixed interval (s)", Type: setting.Number, Default: "3600", Least: 1},
		{Name: "holidays", Label: "Skip holidays in table", Type: setting.Part, Of: "table", Help: "A table whose keys are days, as 2031-05-17"},
		{Name: "missed", Label: "Missed starts", Type: setting.Choice, Default: string(OneForAll), Choices: []string{string(OneForAll), string(EachRun), string(NoRun)}, Help: "Because no worker ran, or the trigger was paused"},
	},
	when: func(t Trigger) string {
		if t.Cron.Value != "" {
			return t.Cron.Value
		}
		return "every " + every(t.Every)
	},
	check: checkScheduleTrigger,
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

// every says how long a number of seconds is: 2 h, 1 min, 90 s.
func every(seconds int) string {
	switch {
	case seconds%3600 == 0:
		return strconv.Itoa(seconds/3600) + " h"
	case seconds%60 == 0:
		return strconv.Itoa(seconds/60) + " min"
	}
	return strconv.Itoa(seconds) + " s"
}
