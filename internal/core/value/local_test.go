package value

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestTimesOfEveryKindAreReadAndWritten: what is read is written as it was; what is none is refused.
func TestTimesOfEveryKindAreReadAndWritten(t *testing.T) {
	for _, c := range []struct {
		parse func(string) (Value, bool)
		good  []string
		bad   []string
	}{
		{ParseLocalTimestamp, []string{"2031-03-09T06:12:00", "0001-01-01T00:00:00", "9999-12-31T23:59:59.999999999"}, []string{"2031-03-09T06:12:00Z", "2031-03-09 06:12:00", "2031-02-30T06:12:00", "2031-03-09T24:00:00", "2031-03-09", ""}},
		{ParseZonedTime, []string{"06:12:00Z", "06:12:00+02:00", "23:59:59.5-03:30", "00:00:00+14:00"}, []string{"06:12:00", "06:12:00+2", "06:12:00+15:00", "06:12:00+02:60", "24:00:00Z", "Z", "+02:00"}},
		{ParseYearMonth, []string{"2031-03", "0001-01", "9999-12"}, []string{"2031-13", "2031-00", "2031-3", "2031-03-09", "0000-01", ""}},
		{ParseDuration, []string{"P1Y", "P1Y2M3DT4H5M6.7S", "PT0S", "-P1D", "P2W", "PT36H", "P0Y"}, []string{"", "P", "PT", "P1", "1D", "P1M1Y", "PT1D", "P1.5D", "PT1.S", "P-1D", "P1DT", "+P1D", "P99999999999D"}},
	} {
		for _, s := range c.good {
			v, ok := c.parse(s)
			require.True(t, ok, s)
			require.Equal(t, s, v.String())
			require.Equal(t, s, string(v.AppendText(nil)))
			_, key := Key(v)
			require.True(t, key)
			require.True(t, Equal(v, v))
		}
		for _, s := range c.bad {
			_, ok := c.parse(s)
			require.False(t, ok, s)
		}
	}
}

func TestTimesOfEveryKindAreCompared(t *testing.T) {
	read := func(parse func(string) (Value, bool), s string) Value {
		v, ok := parse(s)
		require.True(t, ok, s)
		return v
	}
	for _, c := range []struct {
		parse func(string) (Value, bool)
		a, b  string
		want  int
	}{
		{ParseLocalTimestamp, "2031-03-09T06:12:00", "2031-03-09T06:12:00.5", -1},
		{ParseZonedTime, "06:00:00+02:00", "04:00:00Z", 0},
		{ParseZonedTime, "06:00:00+02:00", "06:00:00+01:00", -1},
		{ParseYearMonth, "2031-12", "2032-01", -1},
		{ParseDuration, "P1Y", "P12M", 0},
		{ParseDuration, "P7D", "P1W", 0},
		{ParseDuration, "PT60S", "PT1M", 0},
		{ParseDuration, "P1M", "P32D", -1},
		{ParseDuration, "P1M", "P27D", 1},
		{ParseDuration, "-P1D", "PT0S", -1},
	} {
		a, b := read(c.parse, c.a), read(c.parse, c.b)
		got, err := Compare(a, b)
		require.NoError(t, err)
		require.Equal(t, c.want, got, "%s %s", c.a, c.b)
		ka, _ := Key(a)
		kb, _ := Key(b)
		require.Equal(t, c.want == 0, ka == kb, "%s %s", c.a, c.b)
	}
	_, err := Compare(read(ParseDuration, "P1M"), read(ParseDuration, "P30D"))
	require.ErrorIs(t, err, ErrNotComparable)
	for _, c := range [][3]string{
		{"2031-01-31", "P1M", "2031-02-28"}, {"2032-02-29", "P1Y", "2033-02-28"}, {"2031-03-09", "-P9D", "2031-02-28"}, {"2031-03-09", "P1W", "2031-03-16"},
	} {
		sum, ok := AddDuration(read(ParseDate, c[0]), read(ParseDuration, c[1]))
		require.True(t, ok)
		require.Equal(t, c[2], sum.String())
	}
	_, ok := AddDuration(read(ParseDate, "2031-03-09"), read(ParseDuration, "PT1H"))
	require.False(t, ok, "a date has no hours")
	later, ok := AddDuration(read(ParseLocalTimestamp, "2031-03-09T23:30:00"), read(ParseDuration, "P1DT45M"))
	require.True(t, ok)
	require.Equal(t, "2031-03-11T00:15:00", later.String())
	oslo, err := time.LoadLocation("Europe/Oslo")
	require.NoError(t, err)
	require.Equal(t, "2031-07-01T08:00:00+02:00", read(ParseLocalTimestamp, "2031-07-01T08:00:00").InZone(oslo).String())
}
