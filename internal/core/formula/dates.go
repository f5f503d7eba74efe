package formula

import (
	"fmt"
	"strconv"
	"time"
	_ "time/tzdata" // the time zones of IANA, where a machine has none

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

var oneDate = []Param{p("of", dateish)}

var (
	stamp    = []value.Kind{value.Timestamp}
	justDate = []value.Kind{value.Date}
)

// dateFunctions are those on dates and times.
var dateFunctions = []Function{
	fromText("date", value.Date, "A date from a text by a pattern (yyyyMMdd; ISO 8601 unless stated), or the date of a timestamp.", `date("09.03.2031", "dd.MM.yyyy")`, "2031-03-09"),
	fromText("time", value.Time, "A time of day from a text by a pattern (HHmmss), or that of a timestamp.", `time("061200", "HHmmss")`, "06:12:00"),
	{
		Name: "timestamp", Family: "dates", About: "A timestamp in UTC from a date and a time, or from a text with a pattern or as in RFC 3339.",
		Params: []Param{p("date", []value.Kind{value.Date, value.Text}), opt("time", []value.Kind{value.Time, value.Text})}, Result: known(value.Timestamp), Call: timestamp, Constant: timestampBy,
		Examples: []Example{{`timestamp(date("2031-03-09"), time("06:12:00"))`, "2031-03-09T06:12:00Z"}, {`timestamp("203103090612", "yyyyMMddHHmm")`, "2031-03-09T06:12:00Z"}},
	},
	{
		Name: "format", Family: "dates", About: "A date, time or timestamp as text by a pattern.",
		Params: []Param{p("value", temporal), p("pattern", textKind)}, Result: known(value.Text), Call: format, Constant: writesBy,
		Examples: []Example{{`format(date("2031-03-09"), "dd/MM/yyyy")`, "09/03/2031"}},
	},
	datePart("year", 0, `year(date("2031-03-09"))`, "2031"),
	datePart("month", 1, `month(date("2031-03-09"))`, "3"),
	datePart("day", 2, `day(date("2031-03-09"))`, "9"),
	{
		Name: "hour", Family: "dates", About: "The hour of a time or timestamp.",
		Params: []Param{p("of", timish)}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			h, _, _, _ := a[0].Clock()
			return value.Int(int64(h)), nil
		},
		Examples: []Example{{`hour(time("06:12:00"))`, "6"}},
	},
	{
		Name: "addDays", Family: "dates", About: "The date or timestamp a number of days later.",
		Params: []Param{p("to", dateish), p("days", whole)}, Result: same, Call: addDays,
		Examples: []Example{{`addDays(date("2031-02-28"), 1)`, "2031-03-01"}},
	},
	pure("minute", "dates", "The minute of a time or timestamp.", []Param{p("of", timish)}, value.Integer, func(a []value.Value) (value.Value, error) {
		_, m, _, _ := a[0].Clock()
		return value.Int(int64(m)), nil
	}, ex(`minute(time("06:12:30"))`, "12")),
	pure("second", "dates", "The second of a time or timestamp.", []Param{p("of", timish)}, value.Integer, func(a []value.Value) (value.Value, error) {
		_, _, s, _ := a[0].Clock()
		return value.Int(int64(s)), nil
	}, ex(`second(time("06:12:30"))`, "30")),
	ofDate("weekday", "The day of the week: 1 is Monday, 7 is Sunday (ISO 8601).", weekday, ex(`weekday(date("2031-03-09"))`, "7")),
	ofDate("week", "The number of the week (ISO 8601).", func(t time.Time) int { _, w := t.ISOWeek(); return w }, ex(`week(date("2031-01-01"))`, "1")),
	ofDate("weekYear", "The year that the week belongs to (ISO 8601).", func(t time.Time) int { y, _ := t.ISOWeek(); return y }, ex(`weekYear(date("2030-12-31"))`, "2031")),
	ofDate("dayOfYear", "The day of the year, from 1.", time.Time.YearDay, ex(`dayOfYear(date("2031-02-01"))`, "32")),
	ofDate("quarter", "The quarter of the year, from 1 to 4.", func(t time.Time) int { return (int(t.Month())-1)/3 + 1 }, ex(`quarter(date("2031-05-01"))`, "2")),
	ofDate("daysInMonth", "How many days the month has.", func(t time.Time) int { return time.Date(t.Year(), t.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day() }, ex(`daysInMonth(date("2032-02-01"))`, "29")),
	pure("isLeapYear", "dates", "Whether a year has 366 days.", []Param{p("year", whole)}, value.Boolean, func(a []value.Value) (value.Value, error) {
		y, _ := a[0].Int64()
		return value.Bool(y%4 == 0 && (y%100 != 0 || y%400 == 0)), nil
	}, ex(`isLeapYear(2032)`, "true"), ex(`isLeapYear(2100)`, "false")),
	pure("isWeekend", "dates", "Whether a day is a Saturday or a Sunday.", oneDate, value.Boolean, func(a []value.Value) (value.Value, error) {
		return value.Bool(weekday(a[0].GoTime()) > 5), nil
	}, ex(`isWeekend(date("2031-03-09"))`, "true")),
	pure("dateOf", "dates", "A date from a year, a month and a day.", []Param{p("year", whole), p("month", whole), p("day", whole)}, value.Date, func(a []value.Value) (value.Value, error) {
		y, _ := a[0].Int64()
		m, _ := a[1].Int64()
		d, _ := a[2].Int64()
		if y < 1 || y > 9999 || !value.ValidDate(int(y), int(m), int(d)) {
			return value.Value{}, fault.Expect(fault.Range, "a day of the calendar", a[0].String()+"-"+a[1].String()+"-"+a[2].String())
		}
		return value.DateOf(int(y), int(m), int(d)), nil
	}, ex(`dateOf(2031, 3, 9)`, "2031-03-09")),
	added("addMonths", "months", func(t time.Time, n int) time.Time { return monthsLater(t, n) }, ex(`addMonths(date("2031-01-31"), 1)`, "2031-02-28")),
	added("addYears", "years", func(t time.Time, n int) time.Time { return monthsLater(t, 12*n) }, ex(`addYears(date("2032-02-29"), 1)`, "2033-02-28")),
	later("addHours", "hours", time.Hour, ex(`addHours(timestamp("2031-03-09T23:30:00Z"), 1)`, "2031-03-10T00:30:00Z")),
	later("addMinutes", "minutes", time.Minute, ex(`addMinutes(timestamp("2031-03-09T23:30:00Z"), 45)`, "2031-03-10T00:15:00Z")),
	later("addSeconds", "seconds", time.Second, ex(`addSeconds(timestamp("2031-03-09T23:59:59Z"), 1)`, "2031-03-10T00:00:00Z")),
	pure("daysBetween", "dates", "How many days one date is behind another; negative when it is before.", []Param{p("from", dateish), p("to", dateish)}, value.Integer, func(a []value.Value) (value.Value, error) {
		return value.Int((midnight(a[1]) - midnight(a[0])) / 86400), nil
	}, ex(`daysBetween(date("2031-02-27"), date("2031-03-02"))`, "3")),
	pure("monthsBetween", "dates", "How many whole months one date is behind another.", []Param{p("from", dateish), p("to", dateish)}, value.Integer, func(a []value.Value) (value.Value, error) {
		return value.Int(int64(monthsBetween(a[0].GoTime(), a[1].GoTime()))), nil
	}, ex(`monthsBetween(date("2031-01-31"), date("2031-03-30"))`, "1")),
	pure("yearsBetween", "dates", "How many whole years one date is behind another, as an age is counted.", []Param{p("from", dateish), p("to", dateish)}, value.Integer, func(a []value.Value) (value.Value, error) {
		return value.Int(int64(monthsBetween(a[0].GoTime(), a[1].GoTime()) / 12)), nil
	}, ex(`yearsBetween(date("1987-11-02"), date("2031-11-01"))`, "43")),
	pure("secondsBetween", "dates", "How many seconds one timestamp is behind another, with their fraction.", []Param{p("from", stamp), p("to", stamp)}, value.Decimal, func(a []value.Value) (value.Value, error) {
		from, to := a[0].GoTime(), a[1].GoTime()
		return value.Add(value.Int(to.Unix()-from.Unix()), value.NewDecimal(int64(to.Nanosecond()-from.Nanosecond()), -9))
	}, ex(`round(secondsBetween(timestamp("2031-03-09T06:00:00Z"), timestamp("2031-03-09T06:01:30Z")))`, "90")),
	moved("startOfMonth", "The first day of the month.", func(y, m, _ int) (int, int, int) { return y, m, 1 }, ex(`startOfMonth(date("2031-03-09"))`, "2031-03-01")),
	moved("endOfMonth", "The last day of the month.", func(y, m, _ int) (int, int, int) { return y, m + 1, 0 }, ex(`endOfMonth(date("2032-02-09"))`, "2032-02-29")),
	moved("startOfYear", "The first day of the year.", func(y, _, _ int) (int, int, int) { return y, 1, 1 }, ex(`startOfYear(date("2031-03-09"))`, "2031-01-01")),
	moved("endOfYear", "The last day of the year.", func(y, _, _ int) (int, int, int) { return y, 12, 31 }, ex(`endOfYear(date("2031-03-09"))`, "2031-12-31")),
	moved("startOfWeek", "The Monday of the week.", func(y, m, d int) (int, int, int) {
		return y, m, d + 1 - weekday(time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC))
	}, ex(`startOfWeek(date("2031-03-09"))`, "2031-03-03")),
	pure("addBusinessDays", "dates", "The date a number of business days later: Saturdays, Sundays and the dates of a list of holidays do not count.", []Param{p("date", justDate), p("days", whole), opt("holidays", listKind)}, value.Date, addBusinessDays, ex(`addBusinessDays(date("2031-03-07"), 1)`, "2031-03-10"), ex(`addBusinessDays(date("2031-03-07"), 1, [date("2031-03-10")])`, "2031-03-11"), ex(`addBusinessDays(date("2031-03-10"), -1)`, "2031-03-07")),
	pure("businessDaysBetween", "dates", "How many business days there are from one date to another, the second not counted.", []Param{p("from", justDate), p("to", justDate), opt("holidays", listKind)}, value.Integer, businessDaysBetween, ex(`businessDaysBetween(date("2031-03-07"), date("2031-03-11"))`, "2")),
	pure("toZone", "dates", "A timestamp as it stands on the clocks of a time zone, as Europe/Oslo.", []Param{p("timestamp", stamp), p("zone", textKind)}, value.Timestamp, func(a []value.Value) (value.Value, error) {
		zone, err := location(a[1].Text())
		if err != nil {
			return value.Value{}, err
		}
		return value.Instant(a[0].GoTime().In(zone)), nil
	}, ex(`toZone(timestamp("2031-07-01T06:00:00Z"), "Europe/Oslo")`, "2031-07-01T08:00:00+02:00")),
	pure("zonedTimestamp", "dates", "The timestamp at which the clocks of a time zone show a date and a time; which of two is said by earlier or later.", []Param{p("date", justDate), p("time", []value.Kind{value.Time}), p("zone", textKind), opt("which", textKind)}, value.Timestamp, atZone, ex(`zonedTimestamp(date("2031-07-01"), time("08:00:00"), "Europe/Oslo")`, "2031-07-01T08:00:00+02:00"), ex(`zonedTimestamp(date("2031-10-26"), time("02:30:00"), "Europe/Oslo", "later")`, "2031-10-26T02:30:00+01:00")),
	pure("withZone", "dates", "The timestamp at which the clocks of a time zone show a local timestamp; which of two is said by earlier or later.", []Param{p("local", []value.Kind{value.LocalTimestamp}), p("zone", textKind), opt("which", textKind)}, value.Timestamp, func(a []value.Value) (value.Value, error) {
		return atZone(append([]value.Value{a[0].DatePart(), a[0].TimePart()}, a[1:]...))
	}, ex(`withZone(localTimestamp("2031-07-01T08:00:00"), "Europe/Oslo")`, "2031-07-01T08:00:00+02:00")),
	pure("localTimestamp", "dates", "A timestamp without a zone: from a text as in ISO 8601, of a date and a time, or what a timestamp's own clocks show.", []Param{p("value", []value.Kind{value.Text, value.Date, value.Timestamp, value.LocalTimestamp}), opt("time", []value.Kind{value.Time})}, value.LocalTimestamp, localTimestamp,
		ex(`localTimestamp("2031-03-09T06:12:00")`, "2031-03-09T06:12:00"), ex(`localTimestamp(date("2031-03-09"), time("06:12:00"))`, "2031-03-09T06:12:00"), ex(`localTimestamp(timestamp("2031-03-09T06:12:00+02:00"))`, "2031-03-09T06:12:00")),
	fromISO("duration", value.Duration, "A duration from a text as in ISO 8601, as P1DT2H.", ex(`duration("P1DT2H")`, "P1DT2H")),
	fromISO("yearMonth", value.YearMonth, "The month of a date or timestamp, or from a text as 2031-03.", ex(`yearMonth(date("2031-03-09"))`, "2031-03")),
	fromISO("zonedTime", value.ZonedTime, "A time of day with its distance from UTC, from a text as 06:12:00+02:00.", ex(`zonedTime("06:12:00Z")`, "06:12:00Z")),
	{
		Name: "addDuration", Family: "dates", About: "The date, timestamp or local timestamp a duration later; its months first, of which the last day is taken where there is no such day.",
		Params: []Param{p("to", dateish), p("duration", []value.Kind{value.Duration})}, Result: same,
		Examples: []Example{{`addDuration(date("2031-01-31"), duration("P1M"))`, "2031-02-28"}},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			v, ok := value.AddDuration(a[0], a[1])
			if !ok {
				return v, fault.Expect(fault.Range, "a "+a[0].Kind().String()+" within the years 1 to 9999, and whole days for a date", a[1].String())
			}
			return v, nil
		},
	},
	pure("epochSeconds", "dates", "A timestamp as seconds since the beginning of 1970 in UTC.", []Param{p("timestamp", stamp)}, value.Integer, func(a []value.Value) (value.Value, error) { return value.Int(a[0].GoTime().Unix()), nil }, ex(`epochSeconds(timestamp("1970-01-02T00:00:00Z"))`, "86400")),
	pure("fromEpoch", "dates", "The timestamp a number of seconds after the beginning of 1970 in UTC.", []Param{p("seconds", whole)}, value.Timestamp, func(a []value.Value) (value.Value, error) {
		n, ok := a[0].Int64()
		if !ok || n < -62135596800 || n > 253402300799 {
			return value.Value{}, fault.Expect(fault.Range, "seconds within the years 1 to 9999", a[0].String())
		}
		return value.Instant(time.Unix(n, 0).UTC()), nil
	}, ex(`fromEpoch(86400)`, "1970-01-02T00:00:00Z")),
}

// ofDate makes a function of a date or timestamp that gives a whole number.
func ofDate(name, about string, fn func(t time.Time) int, examples ...Example) Function {
	return pure(name, "dates", about, oneDate, value.Integer, func(a []value.Value) (value.Value, error) {
		return value.Int(int64(fn(a[0].GoTime()))), nil
	}, examples...)
}

// moved makes a function that gives another day of a date's month, year or week.
func moved(name, about string, fn func(y, m, d int) (int, int, int), examples ...Example) Function {
	return pure(name, "dates", about, oneDate, value.Date, func(a []value.Value) (value.Value, error) {
		return dateOf(fn(a[0].Civil()))
	}, examples...)
}

// dateOf is a day, of which the month and the day may overflow.
func dateOf(y, m, d int) (value.Value, error) {
	t := time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC)
	if t.Year() < 1 || t.Year() > 9999 {
		return value.Value{}, fault.Expect(fault.Range, "a year from 1 to 9999", strconv.Itoa(t.Year()))
	}
	return value.DateOf(t.Year(), int(t.Month()), t.Day()), nil
}

func weekday(t time.Time) int { return (int(t.Weekday())+6)%7 + 1 }

// midnight is the day of a date or timestamp, as seconds since 1970 in UTC.
func midnight(v value.Value) int64 {
	y, m, d := v.Civil()
	return time.Date(y, time.Month(m), d, 0, 0, 0, 0, time.UTC).Unix()
}

// monthsLater moves by months; a day that the month does not have is its last.
func monthsLater(t time.Time, n int) time.Time {
	first := time.Date(t.Year(), t.Month()+time.Month(n), 1, t.Hour(), t.Minute(), t.Second(), t.Nanosecond(), t.Location())
	last := time.Date(first.Year(), first.Month()+1, 0, 0, 0, 0, 0, time.UTC).Day()
	return first.AddDate(0, 0, min(t.Day(), last)-1)
}

func monthsBetween(from, to time.Time) int {
	n := (to.Year()-from.Year())*12 + int(to.Month()) - int(from.Month())
	switch {
	case n > 0 && monthsLater(from, n).After(to):
		n--
	case n < 0 && monthsLater(from, n).Before(to):
		n++
	}
	return n
}

const mostMoved = 4_000_000

// added makes a function that moves a date or timestamp by units of the calendar.
func added(name, unit string, move func(time.Time, int) time.Time, examples ...Example) Function {
	return Function{
		Name: name, Family: "dates", About: "The date or timestamp a number of " + unit + " later; where the month has no such day, its last.",
		Params: []Param{p("to", dateish), p(unit, whole)}, Result: same, Examples: examples,
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			n, ok := a[1].Int64()
			if !ok || n > 120_000 || n < -120_000 {
				return value.Value{}, fault.Expect(fault.Range, "at most 120,000 "+unit, a[1].String())
			}
			return within(move(a[0].GoTime(), int(n)), a[0].Kind())
		},
	}
}

func within(t time.Time, kind value.Kind) (value.Value, error) {
	if t.Year() < 1 || t.Year() > 9999 {
		return value.Value{}, fault.Expect(fault.Range, "a year from 1 to 9999", strconv.Itoa(t.Year()))
	}
	return ofKind(t, kind), nil
}

// ofKind is a time as a date, a timestamp or a local timestamp.
func ofKind(t time.Time, kind value.Kind) value.Value {
	switch kind {
	case value.Date:
		return value.DateOf(t.Year(), int(t.Month()), t.Day())
	case value.LocalTimestamp:
		return value.Local(value.DateOf(t.Year(), int(t.Month()), t.Day()), value.TimeOf(t.Hour(), t.Minute(), t.Second(), t.Nanosecond()))
	}
	return value.Instant(t)
}

// later makes a function that moves a timestamp by a length of time.
func later(name, unit string, length time.Duration, examples ...Example) Function {
	return pure(name, "dates", "The timestamp a number of "+unit+" later.", []Param{p("to", stamp), p(unit, whole)}, value.Timestamp, func(a []value.Value) (value.Value, error) {
		n, ok := a[1].Int64()
		if !ok || n > int64(1<<62)/int64(length) || n < -int64(1<<62)/int64(length) {
			return value.Value{}, fault.Expect(fault.Range, "fewer "+unit, a[1].String())
		}
		return within(a[0].GoTime().Add(time.Duration(n)*length), value.Timestamp)
	}, examples...)
}

func location(name string) (*time.Location, error) {
	if name == "" || name == "Local" {
		return nil, fault.Expect(fault.Unknown, "a time zone as Europe/Oslo", fault.Quote(name))
	}
	zone, err := time.LoadLocation(name)
	if err != nil {
		return nil, fault.Expect(fault.Unknown, "a time zone as Europe/Oslo", fault.Quote(name))
	}
	return zone, nil
}

// atZone finds the instants at which the clocks of a zone show a time: one, none when they are put
// forward over it, two when they are put back.
func atZone(a []value.Value) (value.Value, error) {
	zone, err := location(a[2].Text())
	if err != nil {
		return value.Value{}, err
	}
	wall := value.At(a[0], a[1]).GoTime()
	var found []time.Time
	for _, around := range []time.Duration{-24 * time.Hour, 24 * time.Hour} {
		_, offset := wall.Add(around).In(zone).Zone()
		t := wall.Add(-time.Duration(offset) * time.Second).In(zone)
		_, is := t.Zone()
		if is == offset && (len(found) == 0 || !found[0].Equal(t)) {
			found = append(found, t)
		}
	}
	which := ""
	if len(a) > 3 {
		which = a[3].Text()
	}
	shown := a[0].String() + " " + a[1].String()
	switch {
	case len(found) == 0:
		return value.Value{}, fault.New(fault.Range, "the clocks of %s never show %s: they are put forward then", a[2].Text(), shown)
	case len(found) == 2 && which == "later":
		return value.Instant(found[1]), nil
	case len(found) == 2 && which != "earlier":
		return value.Value{}, fault.New(fault.Range, "the clocks of %s show %s twice", a[2].Text(), shown).WithFix(`Say "earlier" or "later" as the last argument`)
	}
	return value.Instant(found[0]), nil
}

// holidays are the days of a list.
func holidays(a []value.Value, i int) (map[int64]bool, error) {
	days := map[int64]bool{}
	if len(a) <= i {
		return days, nil
	}
	for _, v := range a[i].Items() {
		if v.Kind() != value.Date {
			return nil, fault.Expect(fault.Type, "a list of dates", v.Kind().String())
		}
		days[midnight(v)] = true
	}
	return days, nil
}

func business(day int64, off map[int64]bool) bool {
	return weekday(time.Unix(day, 0).UTC()) < 6 && !off[day]
}

const day = int64(86400)

func addBusinessDays(a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	off, err := holidays(a, 2)
	if err != nil || !ok || n > 100_000 || n < -100_000 {
		if err == nil {
			err = fault.Expect(fault.Range, "at most 100,000 days", a[1].String())
		}
		return value.Value{}, err
	}
	at, step := midnight(a[0]), day
	if n < 0 {
		n, step = -n, -day
	}
	for n > 0 {
		if at += step; business(at, off) {
			n--
		}
	}
	return within(time.Unix(at, 0).UTC(), value.Date)
}

func businessDaysBetween(a []value.Value) (value.Value, error) {
	off, err := holidays(a, 2)
	from, to, sign := midnight(a[0]), midnight(a[1]), int64(1)
	if from > to {
		from, to, sign = to, from, -1
	}
	if err == nil && (to-from)/day > mostMoved {
		err = fault.Expect(fault.Range, "at most 4,000,000 days between", strconv.FormatInt((to-from)/day, 10))
	}
	if err != nil {
		return value.Value{}, err
	}
	n := int64(0)
	for at := from; at < to; at += day {
		if business(at, off) {
			n++
		}
	}
	return value.Int(sign * n), nil
}

func fromText(name string, kind value.Kind, about, ex, result string) Function {
	return Function{
		Name: name, Family: "dates", About: about, Result: known(kind),
		Params: []Param{p("value", []value.Kind{value.Text, value.Timestamp, value.LocalTimestamp, kind}), opt("pattern", textKind)},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			switch {
			case a[0].Kind() == kind:
				return a[0], nil
			case a[0].Kind() != value.Text && kind == value.Date:
				return a[0].DatePart(), nil
			case a[0].Kind() != value.Text:
				return a[0].TimePart(), nil
			}
			return readTemporal(kind, a)
		},
		Constant: readsBy(kind),
		Examples: []Example{{ex, result}},
	}
}

// readsBy checks a pattern by which values of a type are read.
func readsBy(kind value.Kind) func(int, string, []Type) *fault.Fault {
	return func(arg int, text string, _ []Type) *fault.Fault {
		if arg != 1 {
			return nil
		}
		return schema.CheckPattern(kind, text)
	}
}

// timestampBy checks the pattern by which a text is read.
func timestampBy(arg int, text string, types []Type) *fault.Fault {
	if arg != 1 || !types[0].is(value.Text) {
		return nil
	}
	return schema.CheckPattern(value.Timestamp, text)
}

// writesBy checks a pattern by which values of a known type are written.
func writesBy(arg int, text string, types []Type) *fault.Fault {
	if arg != 1 || types[0].unknown() {
		return nil
	}
	return schema.CheckFormat(types[0].Kind, text)
}

func readTemporal(kind value.Kind, a []value.Value) (value.Value, error) {
	if len(a) > 1 {
		v, ok, f := schema.ReadPattern(kind, a[1].Text(), a[0].Text())
		if f != nil {
			return v, f
		}
		if !ok {
			return v, fault.Expect(fault.Type, fmt.Sprintf("a %s as %s", kind, a[1].Text()), fault.Quote(a[0].Text()))
		}
		return v, nil
	}
	v, ok := schema.ParseScalar(kind, a[0].Text())
	if !ok {
		return v, fault.Expect(fault.Type, "a "+kind.String()+" in ISO 8601 form", fault.Quote(a[0].Text()))
	}
	return v, nil
}

// fromISO makes a function that reads a text of a type, or takes the month of a date.
func fromISO(name string, kind value.Kind, about string, examples ...Example) Function {
	kinds := []value.Kind{value.Text, kind}
	if kind == value.YearMonth {
		kinds = append(kinds, dateish...)
	}
	return pure(name, "dates", about, []Param{p("value", kinds)}, kind, func(a []value.Value) (value.Value, error) {
		switch {
		case a[0].Kind() == kind:
			return a[0], nil
		case a[0].Kind() == value.Text:
			return readTemporal(kind, a)
		}
		v, _ := value.ParseYearMonth(a[0].DatePart().String()[:7])
		return v, nil
	}, examples...)
}

func localTimestamp(a []value.Value) (value.Value, error) {
	switch {
	case a[0].Kind() == value.LocalTimestamp:
		return a[0], nil
	case a[0].Kind() == value.Timestamp:
		return value.Local(a[0].DatePart(), a[0].TimePart()), nil
	case a[0].Kind() == value.Text:
		return readTemporal(value.LocalTimestamp, a[:1])
	case len(a) < 2:
		return value.Value{}, fault.Expect(fault.Type, "a time beside the date", "none")
	}
	return value.Local(a[0], a[1]), nil
}

func timestamp(_ *Frame, a []value.Value) (value.Value, error) {
	if a[0].Kind() == value.Text {
		return readTemporal(value.Timestamp, a)
	}
	if len(a) < 2 || a[1].Kind() != value.Time {
		return value.Value{}, fault.Expect(fault.Type, "a time beside the date", "none")
	}
	return value.At(a[0], a[1]), nil
}

func format(_ *Frame, a []value.Value) (value.Value, error) {
	s, f := schema.FormatPattern(a[1].Text(), a[0])
	if f != nil {
		return value.Value{}, f
	}
	return value.NewText(s), nil
}

func datePart(name string, i int, ex, result string) Function {
	return Function{
		Name: name, Family: "dates", About: "The " + name + " of a date or timestamp.",
		Params: []Param{p("of", dateish)}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			y, m, d := a[0].Civil()
			return value.Int(int64([]int{y, m, d}[i])), nil
		},
		Examples: []Example{{ex, result}},
	}
}

func addDays(_ *Frame, a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	if !ok || n > 4_000_000 || n < -4_000_000 {
		return value.Value{}, fault.Expect(fault.Range, "at most 4,000,000 days", a[1].String())
	}
	t := a[0].GoTime().AddDate(0, 0, int(n))
	if t.Year() < 1 || t.Year() > 9999 {
		return value.Value{}, fault.Expect(fault.Range, "a year from 1 to 9999", strconv.Itoa(t.Year()))
	}
	return ofKind(t, a[0].Kind()), nil
}
