package value

import (
	"math"
	"strings"
	"time"
)

// Local is a timestamp of no time zone: what the clocks show, wherever they are.
func Local(date, clock Value) Value {
	v := At(date, clock)
	v.kind = LocalTimestamp
	return v
}

// InZone is the instant at which the clocks of a zone show a local timestamp.
func (v Value) InZone(zone *time.Location) Value {
	y, m, d := v.Civil()
	hour, minute, second, nano := v.Clock()
	return Instant(time.Date(y, time.Month(m), d, hour, minute, second, nano, zone))
}

// ParseLocalTimestamp reads YYYY-MM-DDThh:mm:ss with an optional fraction (ISO 8601), without a zone.
func ParseLocalTimestamp(s string) (Value, bool) {
	if len(s) < 19 || s[10] != 'T' {
		return Value{}, false
	}
	date, ok1 := ParseDate(s[:10])
	clock, ok2 := ParseTime(s[11:])
	return Local(date, clock), ok1 && ok2
}

// ParseZonedTime reads hh:mm:ss with an optional fraction and a distance from UTC, as 06:12:00+02:00 or 06:12:00Z (RFC 3339,
// full-time).
func ParseZonedTime(s string) (Value, bool) {
	at := strings.LastIndexAny(s, "Zz+-")
	if at < 8 {
		return Value{}, false
	}
	clock, ok := ParseTime(s[:at])
	offset, known := parseOffset(s[at:])
	if !ok || !known {
		return Value{}, false
	}
	return Value{kind: ZonedTime, num: clock.num, exp: int32(offset)}, true
}

// maxOffset is the greatest distance from UTC in minutes (XML Schema 1.0, part 2, section 3.2.7.3).
const maxOffset = 14 * 60

// parseOffset reads a distance from UTC as minutes.
func parseOffset(s string) (minutes int, ok bool) {
	if s == "Z" || s == "z" {
		return 0, true
	}
	if len(s) != 6 || s[3] != ':' {
		return 0, false
	}
	h, ok1 := digits(s[1:3])
	m, ok2 := digits(s[4:])
	minutes = 60*h + m
	if !ok1 || !ok2 || m > 59 || minutes > maxOffset {
		return 0, false
	}
	if s[0] == '-' {
		minutes = -minutes
	}
	return minutes, true
}

func appendOffset(b []byte, minutes int) []byte {
	if minutes == 0 {
		return append(b, 'Z')
	}
	sign := byte('+')
	if minutes < 0 {
		sign, minutes = '-', -minutes
	}
	b = append2(append(b, sign), int64(minutes/60))
	return append2(append(b, ':'), int64(minutes%60))
}

// ParseYearMonth reads YYYY-MM.
func ParseYearMonth(s string) (Value, bool) {
	if len(s) != 7 || s[4] != '-' {
		return Value{}, false
	}
	y, ok1 := digits(s[:4])
	m, ok2 := digits(s[5:])
	return Value{kind: YearMonth, num: int64(12*y + m - 1)}, ok1 && ok2 && y >= 1 && m >= 1 && m <= 12
}

// ParseDuration reads a duration as ISO 8601 and XML Schema have it: P1Y2M3DT4H5M6.7S, with a minus sign before it or not, or in
// weeks, as P2W. It is kept as it is written.
func ParseDuration(s string) (Value, bool) {
	_, _, ok := durationParts(s)
	return textual(Duration, small, s), ok
}

// Months and nanoseconds of a duration: neither can be told from the other without a date.
func (v Value) durationParts() (months, nanos int64) {
	months, nanos, _ = durationParts(v.str())
	return months, nanos
}

// durationUnits are the units of a duration by their sign, before and behind the T: how many months or nanoseconds each has.
var durationUnits = [2]map[byte]struct{ rank, months, nanos int64 }{
	{'Y': {0, 12, 0}, 'M': {1, 1, 0}, 'W': {2, 0, 7 * 86400e9}, 'D': {3, 0, 86400e9}},
	{'H': {4, 0, 3600e9}, 'M': {5, 0, 60e9}, 'S': {6, 0, 1e9}},
}

func durationParts(s string) (months, nanos int64, ok bool) {
	rest, negative := strings.CutPrefix(s, "-")
	rest, ok = strings.CutPrefix(rest, "P")
	if !ok || rest == "" || strings.HasSuffix(rest, "T") {
		return 0, 0, false
	}
	clock, last := 0, int64(-1)
	for rest != "" {
		if rest[0] == 'T' && clock == 0 {
			clock, rest = 1, rest[1:]
			continue
		}
		end := strings.IndexFunc(rest, func(r rune) bool { return (r < '0' || r > '9') && r != '.' })
		if end <= 0 {
			return 0, 0, false
		}
		whole, part, fraction := strings.Cut(rest[:end], ".")
		unit, known := durationUnits[clock][rest[end]]
		n, number := digits(whole)
		if !known || !number || unit.rank <= last || fraction && (rest[end] != 'S' || len(part) == 0 || len(part) > 9) {
			return 0, 0, false
		}
		if unit.nanos > 0 && int64(n) > math.MaxInt64/4/unit.nanos {
			return 0, 0, false
		}
		months, nanos = months+int64(n)*unit.months, nanos+int64(n)*unit.nanos
		if fraction {
			f, isNumber := digits((part + "000000000")[:9])
			if !isNumber {
				return 0, 0, false
			}
			nanos += int64(f)
		}
		last, rest = unit.rank, rest[end+1:]
	}
	if negative {
		months, nanos = -months, -nanos
	}
	return months, nanos, nanos >= math.MinInt64/2 && nanos <= math.MaxInt64/2
}

// AddDuration is a date, a timestamp or a local timestamp a duration later: its months first, of which the day is the last where the
// month has no such day, then the rest (XML Schema 1.0, part 2, appendix E). ok is false beyond the years 1 to 9999, and for a date
// and a duration of less than days.
func AddDuration(v, duration Value) (sum Value, ok bool) {
	months, nanos := duration.durationParts()
	t := v.GoTime()
	if months != 0 {
		first := time.Date(t.Year(), t.Month()+time.Month(months), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
		day := min(t.Day(), daysIn(first.Year(), int(first.Month())))
		t = first.AddDate(0, 0, day-1)
	}
	t = t.Add(time.Duration(nanos))
	if t.Year() < 1 || t.Year() > 9999 {
		return Value{}, false
	}
	switch v.kind {
	case Date:
		return DateOf(t.Year(), int(t.Month()), t.Day()), nanos%86400e9 == 0
	case LocalTimestamp:
		sum = Instant(t)
		sum.kind = LocalTimestamp
		return sum, true
	}
	return Instant(t), true
}
