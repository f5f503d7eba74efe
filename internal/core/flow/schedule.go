package flow

import (
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones by name, also where the machine has none

	"github.com/robfig/cron/v3"

	"hollowreed/internal/core/fault"
)

// Schedule tells when runs start: at the times of a cron expression in a zone, or again and again after a time.
type Schedule struct {
	Spec     string // what it is made of: another text is another schedule
	cron     cron.Schedule
	every    time.Duration
	zone     *time.Location
	holidays func(date string) bool // days on which nothing starts, as 2031-03-09; nil is none
}

// crontab reads five fields (minute, hour, day of month, month, day of week), six with seconds before them, and
// words as @daily.
var crontab = cron.NewParser(cron.SecondOptional | cron.Minute | cron.Hour | cron.Dom | cron.Month | cron.Dow | cron.Descriptor)

// maxSkipped bounds the starts that fall on holidays one after the other.
const maxSkipped = 100_000

// ScheduleOf reads the schedule of a trigger.
func ScheduleOf(t Trigger, holidays func(date string) bool) (*Schedule, *fault.Fault) {
	s := &Schedule{Spec: strings.Join([]string{t.Cron.Value, t.Zone.Value, Interval(t.Interval), t.Holidays.Value}, "|"), every: time.Duration(t.Interval) * time.Second, zone: time.UTC, holidays: holidays}
	if z := t.Zone.Value; z != "" {
		zone, err := time.LoadLocation(z)
		if err != nil || z == "Local" {
			return nil, fault.Expect(fault.Setting, "a time zone as Europe/Oslo", fault.Quote(z)).InField("zone")
		}
		s.zone = zone
	}
	if c := t.Cron.Value; c != "" {
		if strings.Contains(c, "TZ=") {
			return nil, fault.New(fault.Setting, "the zone has a setting of its own").InField("cron")
		}
		parsed, err := crontab.Parse(c)
		if err != nil {
			return nil, fault.Expect(fault.Syntax, "a cron expression as 0 6 * * 1-5, or with seconds before it", fault.Quote(c)).InField("cron").WithFix("%s", err)
		}
		s.cron = parsed
		if s.Next(time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)).IsZero() {
			return nil, fault.New(fault.Setting, "this time never comes").InField("cron")
		}
	}
	return s, nil
}

// Next is the first start after a time; zero where there is none.
func (s *Schedule) Next(after time.Time) time.Time {
	for range maxSkipped {
		if s.cron == nil {
			after = after.Add(s.every)
		} else if after = s.cron.Next(after.In(s.zone)); after.IsZero() {
			return after
		}
		if s.holidays == nil || !s.holidays(after.In(s.zone).Format(time.DateOnly)) {
			return after.UTC()
		}
	}
	return time.Time{}
}

// Starts are the next starts after a time.
func (s *Schedule) Starts(after time.Time, n int) (list []time.Time) {
	for range n {
		if after = s.Next(after); after.IsZero() {
			break
		}
		list = append(list, after.In(s.zone))
	}
	return list
}

// Missed is what becomes of starts that nobody was there for.
type Missed string

// The choices: one run for all of them, a run for each, or none.
const (
	OneForAll Missed = "one run for all"
	EachRun   Missed = "a run for each"
	NoRun     Missed = "none"
)

// late is how long after its time a start still counts as in time.
const late = 30 * time.Second

// Due says what to do about a start that is due: whether a run starts, and when the next start is.
func (s *Schedule) Due(planned, now time.Time, missed Missed) (starts bool, next time.Time) {
	switch {
	case missed == EachRun:
		return true, s.Next(planned)
	case missed == NoRun && now.Sub(planned) > late:
		return false, s.Next(now)
	}
	return true, s.Next(now)
}

// Interval says how long a number of seconds is: 2 h, 1 min, 90 s.
func Interval(seconds int) string {
	switch {
	case seconds%3600 == 0:
		return strconv.Itoa(seconds/3600) + " h"
	case seconds%60 == 0:
		return strconv.Itoa(seconds/60) + " min"
	}
	return strconv.Itoa(seconds) + " s"
}
