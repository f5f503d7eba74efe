package schema

import (
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// TestPatternsThatDetermineNothing: what a pattern leaves open, names twice, or what its type does not have is refused where
// it is written, with what was probably meant.
func TestPatternsThatDetermineNothing(t *testing.T) {
	for _, c := range []struct {
		kind    value.Kind
		pattern string
		want    string
	}{
		{value.Date, "dd.MM.yyyy", ""},
		{value.Date, "yyyyMMdd", ""},
		{value.Date, "dd.mm.yyyy", "the pattern dd.mm.yyyy leaves the month open. mm is minutes, MM is months. Did you mean dd.MM.yyyy?"},
		{value.Date, "dd.yyyy", "the pattern dd.yyyy leaves the month open"},
		{value.Date, "MM.yyyy", "the pattern MM.yyyy leaves the day open"},
		{value.Date, "dd.MM", "the pattern dd.MM leaves the year open"},
		{value.Date, "dd.MM.yyyy dd", "the pattern dd.MM.yyyy dd names the day twice"},
		{value.Date, "dd.MM.yyyy HH", "the pattern dd.MM.yyyy HH names the hour, which a date does not have"},
		{value.Date, "DD.MM.YYYY", `expected yyyy, MM, dd, HH, mm, ss and punctuation, found "DD.MM.YYYY". Did you mean dd.MM.yyyy?`},
		{value.Time, "HH:mm", ""},
		{value.Time, "HH", ""},
		{value.Time, "hh:mm", `expected yyyy, MM, dd, HH, mm, ss and punctuation, found "hh:mm". Did you mean HH:mm?`},
		{value.Time, "HH:MM", "the pattern HH:MM names the month, which a time does not have. mm is minutes, MM is months. Did you mean HH:mm?"},
		{value.Time, "mm:ss", "the pattern mm:ss leaves the hour open"},
		{value.Time, "HH.ss", "the pattern HH.ss leaves the minute open"},
		{value.Timestamp, "yyyyMMddHHmmss", ""},
		{value.Timestamp, "dd.MM.yyyy HH:mm", ""},
		{value.Timestamp, "dd.MM.yyyy", "the pattern dd.MM.yyyy leaves the hour open"},
		{value.Timestamp, "dd.mm.yyyy HH:mm", "the pattern dd.mm.yyyy HH:mm leaves the month open. mm is minutes, MM is months. Did you mean dd.MM.yyyy HH:mm?"},
		{value.Decimal, "yyyyMMdd", "a decimal has no pattern of date and time. Take the pattern out, or make the field a date, a time or a timestamp"},
	} {
		f := CheckPattern(c.kind, c.pattern)
		_, _, read := ReadPattern(c.kind, c.pattern, "x")
		d := partfile.Parse("s.yaml", []byte("schema: S\nnotation: csv\nfields:\n  - name: f\n    type: "+c.kind.String()+"\n    pattern: '"+c.pattern+"'\n"))
		Parse("s", d)
		if c.want == "" {
			require.Nil(t, f, c.pattern)
			require.Nil(t, read, c.pattern)
			require.Empty(t, d.Faults, c.pattern)
			continue
		}
		require.NotNil(t, f, c.pattern)
		require.Equal(t, c.want, f.What())
		require.NotNil(t, read, c.pattern)
		require.Len(t, d.Faults, 1, c.pattern)
	}
}

// TestImpossibleDates: no pattern reads a day that does not exist.
func TestImpossibleDates(t *testing.T) {
	for _, s := range []string{"31.02.2031", "30.02.2032", "31.04.2031", "00.01.2031", "01.00.2031", "01.13.2031", "01.01.0000", "1.1.2031", "01.01.31"} {
		_, ok, f := ReadPattern(value.Date, "dd.MM.yyyy", s)
		require.Nil(t, f)
		require.False(t, ok, s)
	}
	v, ok, f := ReadPattern(value.Date, "dd.MM.yyyy", "29.02.2032")
	require.Nil(t, f)
	require.True(t, ok)
	require.Equal(t, "2032-02-29", v.String())
	_, f = FormatPattern("dd.mm.yyyy", v)
	require.Equal(t, "the pattern dd.mm.yyyy names the minute, which a date does not have. mm is minutes, MM is months. Did you mean dd.MM.yyyy?", f.What())
	text, f := FormatPattern("MM/yyyy", v)
	require.Nil(t, f)
	require.Equal(t, "02/2032", text, "what is written may leave something out")
}
