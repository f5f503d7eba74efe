package flow

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
)

func at(text string) time.Time {
	t, err := time.Parse("2006-01-02 15:04:05", text)
	if err != nil {
		panic(err)
	}
	return t
}

func schedule(t *testing.T, cron, zone string, every int, holidays ...string) *Schedule {
	t.Helper()
	days := map[string]bool{}
	for _, d := range holidays {
		days[d] = true
	}
	s, f := ScheduleOf(Trigger{Cron: partfile.Text{Value: cron}, Zone: partfile.Text{Value: zone}, Interval: every}, func(date string) bool { return days[date] })
	require.Nil(t, f)
	return s
}

func TestTheNextStarts(t *testing.T) {
	for _, c := range []struct {
		cron, zone string
		every      int
		holidays   []string
		after      string
		want       []string
	}{
		{"0 6 * * 1-5", "", 1, nil, "2031-03-07 05:00:00", []string{"2031-03-07 06:00:00", "2031-03-10 06:00:00", "2031-03-11 06:00:00"}},
		{"*/20 0 6 * * *", "", 1, nil, "2031-03-07 06:00:20", []string{"2031-03-07 06:00:40", "2031-03-08 06:00:00"}},
		{"@hourly", "", 1, nil, "2031-03-07 06:00:20", []string{"2031-03-07 07:00:00"}},
		// The clock of Oslo goes an hour forward on 30 March 2031: six o'clock there is five, then four in UTC.
		{"0 6 * * *", "Europe/Oslo", 1, nil, "2031-03-29 00:00:00", []string{"2031-03-29 05:00:00", "2031-03-30 04:00:00"}},
		{"0 6 * * *", "", 1, []string{"2031-05-17", "2031-05-18"}, "2031-05-16 07:00:00", []string{"2031-05-19 06:00:00"}},
		{"", "", 90, nil, "2031-03-07 06:00:00", []string{"2031-03-07 06:01:30", "2031-03-07 06:03:00"}},
	} {
		s := schedule(t, c.cron, c.zone, c.every, c.holidays...)
		got := s.Starts(at(c.after), len(c.want))
		for i, want := range c.want {
			require.Equal(t, at(want), got[i].UTC(), "%s %s", c.cron, c.zone)
		}
	}
}

func TestWhatBecomesOfMissedStarts(t *testing.T) {
	s := schedule(t, "0 6 * * *", "", 1)
	planned, now := at("2031-03-07 06:00:00"), at("2031-03-10 08:00:00")
	starts, next := s.Due(planned, now, OneForAll)
	require.True(t, starts)
	require.Equal(t, at("2031-03-11 06:00:00"), next)
	starts, next = s.Due(planned, now, EachRun)
	require.True(t, starts)
	require.Equal(t, at("2031-03-08 06:00:00"), next)
	starts, next = s.Due(planned, now, NoRun)
	require.False(t, starts)
	require.Equal(t, at("2031-03-11 06:00:00"), next)
	starts, _ = s.Due(planned, planned.Add(2*time.Second), NoRun)
	require.True(t, starts, "a moment late is in time")
}

func TestSchedulesThatCannotBe(t *testing.T) {
	for cron, want := range map[string]string{"6 o'clock": "expected a cron expression", "0 0 30 2 *": "never comes", "TZ=UTC 0 6 * * *": "a setting of its own"} {
		_, f := ScheduleOf(Trigger{Cron: partfile.Text{Value: cron}, Interval: 1}, nil)
		require.Contains(t, f.What(), want)
	}
	_, f := ScheduleOf(Trigger{Zone: partfile.Text{Value: "Ling/Harbour"}, Interval: 1}, nil)
	require.Contains(t, f.What(), "a time zone as Europe/Oslo")
}
