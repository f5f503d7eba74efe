package value

import (
	"strconv"
	"time"
)

// daysFromCivil counts days since 1970-01-01 in the proleptic Gregorian calendar
// (Howard Hinnant, "chrono-compatible low-level date algorithms").
func daysFromCivil(y, m, d int64) int64 {
	if m <= 2 {
		y--
	}
	era := floorDiv(y, 400)
	yoe := y - era*400
	mp := (m + 9) % 12
	doy := (153*mp+2)/5 + d - 1
	return era*146097 + yoe*365 + yoe/4 - yoe/100 + doy - 719468
}

func civilFromDays(z int64) (y, m, d int64) {
	z += 719468
	era := floorDiv(z, 146097)
	doe := z - era*146097
	yoe := (doe - doe/1460 + doe/36524 - doe/146096) / 365
	doy := doe - (365*yoe + yoe/4 - yoe/100)
	mp := (5*doy + 2) / 153
	d = doy - (153*mp+2)/5 + 1
	m = mp + 3
	if m > 12 {
		m -= 12
	}
	y = yoe + era*400
	if m <= 2 {
		y++
	}
	return y, m, d
}

func floorDiv(a, b int64) int64 {
	q := a / b
	if a%b < 0 {
		q--
	}
	return q
}

// Civil is a Date's, or a Timestamp's in its zone, year, month and day.
func (v Value) Civil() (year, month, day int) {
	if v.kind == Timestamp || v.kind == LocalTimestamp {
		t := v.GoTime()
		return t.Year(), int(t.Month()), t.Day()
	}
	y, m, d := civilFromDays(v.num)
	return int(y), int(m), int(d)
}

// Clock is a Time's, or a Timestamp's in its zone, hour, minute, second and nanosecond.
func (v Value) Clock() (hour, minute, second, nano int) {
	n := v.num
	if v.kind == Timestamp || v.kind == LocalTimestamp {
		t := v.GoTime()
		return t.Hour(), t.Minute(), t.Second(), t.Nanosecond()
	}
	return int(n / 3600e9), int(n / 60e9 % 60), int(n / 1e9 % 60), int(n % 1e9)
}

// DatePart is the date of a Timestamp, in its zone.
func (v Value) DatePart() Value { return DateOf(v.Civil()) }

// TimePart is the time of day of a Timestamp, in its zone.
func (v Value) TimePart() Value { return TimeOf(v.Clock()) }

// ValidDate says whether a day exists; years 1 to 9999.
func ValidDate(y, m, d int) bool {
	return y >= 1 && y <= 9999 && m >= 1 && m <= 12 && d >= 1 && d <= daysIn(y, m)
}

func daysIn(y, m int) int {
	switch m {
	case 2:
		if y%4 == 0 && (y%100 != 0 || y%400 == 0) {
			return 29
		}
		return 28
	case 4, 6, 9, 11:
		return 30
	}
	return 31
}

func appendDate(b []byte, y, m, d int64) []byte {
	if y < 0 || y > 9999 {
		b = strconv.AppendInt(b, y, 10)
	} else {
		b = append(b, byte('0'+y/1000), byte('0'+y/100%10), byte('0'+y/10%10), byte('0'+y%10))
	}
	return append(b, '-', byte('0'+m/10), byte('0'+m%10), '-', byte('0'+d/10), byte('0'+d%10))
}

func appendClock(b []byte, nanos int64) []byte {
	s := nanos / 1e9
	b = append2(b, s/3600)
	b = append2(append(b, ':'), s/60%60)
	b = append2(append(b, ':'), s%60)
	return appendFraction(b, nanos%1e9)
}

func append2(b []byte, n int64) []byte { return append(b, byte('0'+n/10), byte('0'+n%10)) }

// appendFraction writes nanoseconds as a fraction of a second without trailing zeros.
func appendFraction(b []byte, nanos int64) []byte {
	if nanos == 0 {
		return b
	}
	b = append(b, '.')
	for div := int64(1e8); nanos > 0; div /= 10 {
		b = append(b, byte('0'+nanos/div))
		nanos %= div
	}
	return b
}

func (v Value) appendInstant(b []byte) []byte {
	if v.ref != nil {
		return v.GoTime().AppendFormat(b, time.RFC3339Nano)
	}
	days := floorDiv(v.num, 86400)
	y, m, d := civilFromDays(days)
	b = append(appendDate(b, y, m, d), 'T')
	return append(appendClock(b, (v.num-days*86400)*1e9+int64(v.exp)), 'Z')
}

// ParseDate reads YYYY-MM-DD (ISO 8601 extended form).
func ParseDate(s string) (Value, bool) {
	if len(s) != 10 || s[4] != '-' || s[7] != '-' {
		return Value{}, false
	}
	y, ok1 := digits(s[:4])
	m, ok2 := digits(s[5:7])
	d, ok3 := digits(s[8:])
	if !ok1 || !ok2 || !ok3 || !ValidDate(y, m, d) {
		return Value{}, false
	}
	return DateOf(y, m, d), true
}

// ParseTime reads hh:mm:ss with an optional fraction of up to nine digits (ISO 8601).
func ParseTime(s string) (Value, bool) {
	if len(s) < 8 || s[2] != ':' || s[5] != ':' {
		return Value{}, false
	}
	h, ok1 := digits(s[:2])
	m, ok2 := digits(s[3:5])
	sec, ok3 := digits(s[6:8])
	nano, ok4 := fraction(s[8:])
	if !ok1 || !ok2 || !ok3 || !ok4 || h > 23 || m > 59 || sec > 59 {
		return Value{}, false
	}
	return TimeOf(h, m, sec, nano), true
}

func fraction(s string) (nanos int, ok bool) {
	if s == "" {
		return 0, true
	}
	if s[0] != '.' || len(s) < 2 || len(s) > 10 {
		return 0, false
	}
	n, ok := digits(s[1:])
	for i := len(s); i < 10; i++ {
		n *= 10
	}
	return n, ok
}

// ParseTimestamp reads an RFC 3339 timestamp; its offset is kept.
func ParseTimestamp(s string) (Value, bool) {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return Value{}, false
	}
	if _, offset := t.Zone(); offset == 0 {
		t = t.UTC()
	}
	return Instant(t), true
}

// digits reads an unsigned number of one to nine ASCII digits.
func digits(s string) (int, bool) {
	if s == "" || len(s) > 9 {
		return 0, false
	}
	n := 0
	for i := 0; i < len(s); i++ {
		c := s[i] - '0'
		if c > 9 {
			return 0, false
		}
		n = n*10 + int(c)
	}
	return n, true
}
