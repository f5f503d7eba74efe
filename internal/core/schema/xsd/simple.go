package xsd

import (
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"math"
	"regexp"
	"strconv"
	"strings"
	"sync/atomic"
	"time"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Simple is a simple type: how its texts are read, and what they must be.
type Simple struct {
	Name      string
	primitive string  // of an atomic type: string, decimal, dateTime …
	item      *Simple // of a list
	members   []*Simple
	space     string // preserve, replace or collapse
	base      *Simple
	facets    facets
	made      atomic.Pointer[ready]
}

// facets of one derivation step; nil members constrain nothing.
type facets struct {
	length, minLength, maxLength *int
	totalDigits, fractionDigits  *int
	minIn, maxIn, minEx, maxEx   string
	hasMinIn, hasMaxIn           bool
	hasMinEx, hasMaxEx           bool
	patterns                     []*regexp.Regexp // one of them must match
	patternText                  []string
	enum                         []string
	place                        map[string]fault.Place // by facet, for the rule
}

// read normalizes and checks a text; the fault's rule is the facet's place. The text given back is
// the normalized one.
func (s *Simple) read(text string) (string, *fault.Fault) {
	text = s.normal(text)
	switch {
	case s.members != nil:
		return text, s.union(text)
	case s.item != nil:
		return text, s.list(text)
	}
	r := s.ready()
	if r.lexical != nil {
		if why := r.lexical(text); why != "" {
			return text, fault.Expect(fault.Type, why, fault.Quote(text))
		}
	}
	return text, s.check(text)
}

func (s *Simple) normal(text string) string {
	switch s.space {
	case "preserve":
		return text
	case "replace":
		return strings.Map(func(r rune) rune {
			if r == '\t' || r == '\n' || r == '\r' {
				return ' '
			}
			return r
		}, text)
	}
	if collapsed(text) {
		return text
	}
	return strings.Join(strings.FieldsFunc(text, func(r rune) bool { return r == ' ' || r == '\t' || r == '\n' || r == '\r' }), " ")
}

// collapsed says whether a text has no white space to take away.
func collapsed(s string) bool {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c == '\t' || c == '\n' || c == '\r' || c == ' ' && (i == 0 || i == len(s)-1 || s[i-1] == ' ') {
			return false
		}
	}
	return true
}

func (s *Simple) union(text string) *fault.Fault {
	for _, m := range s.members {
		if _, f := m.read(text); f == nil {
			return s.check(text)
		}
	}
	return fault.Expect(fault.Type, "a value of one of "+strconv.Itoa(len(s.members))+" types", fault.Quote(text))
}

func (s *Simple) list(text string) *fault.Fault {
	for _, item := range strings.Fields(text) {
		if _, f := s.item.read(item); f != nil {
			return f
		}
	}
	return s.check(text)
}

// check looks at the facets of the type and of all types that it is derived from.
func (s *Simple) check(text string) *fault.Fault {
	r := s.ready()
	for i := range r.steps {
		if f := r.steps[i].fault(s, text); f != nil {
			return f
		}
	}
	return nil
}

func (f *facets) at(name string, ft *fault.Fault) *fault.Fault {
	ft.Rule = f.place[name]
	return ft
}

func matchesAny(patterns []*regexp.Regexp, text string) bool {
	for _, p := range patterns {
		if p.MatchString(text) {
			return true
		}
	}
	return false
}

func (f *facets) sizes(s *Simple, text string) *fault.Fault {
	if f.length == nil && f.minLength == nil && f.maxLength == nil {
		return nil
	}
	n, unit := s.size(text)
	switch {
	case n < 0:
		return nil
	case f.length != nil && n != *f.length:
		return f.at("length", fault.Expect(fault.Length, fmt.Sprintf("%d %s", *f.length, unit), strconv.Itoa(n)))
	case f.minLength != nil && n < *f.minLength:
		return f.at("minLength", fault.Expect(fault.Length, fmt.Sprintf("at least %d %s", *f.minLength, unit), strconv.Itoa(n)))
	case f.maxLength != nil && n > *f.maxLength:
		return f.at("maxLength", fault.Expect(fault.Length, fmt.Sprintf("at most %d %s", *f.maxLength, unit), strconv.Itoa(n)))
	}
	return nil
}

// size is the length in the unit of the type; -1 where lengths do not count.
func (s *Simple) size(text string) (n int, unit string) {
	switch {
	case s.item != nil:
		return len(strings.Fields(text)), "items"
	case s.primitive == "hexBinary":
		return len(text) / 2, "bytes"
	case s.primitive == "base64Binary":
		raw, _ := base64.StdEncoding.DecodeString(strings.ReplaceAll(text, " ", ""))
		return len(raw), "bytes"
	case s.primitive == "QName", s.primitive == "NOTATION":
		return -1, ""
	}
	return utf8.RuneCountInString(text), "characters"
}

func (f *facets) digits(text string) *fault.Fault {
	if f.totalDigits == nil && f.fractionDigits == nil {
		return nil
	}
	whole, frac, _ := strings.Cut(strings.TrimLeft(text, "+-"), ".")
	whole, frac = strings.TrimLeft(whole, "0"), strings.TrimRight(frac, "0")
	if f.totalDigits != nil && len(whole)+len(frac) > *f.totalDigits {
		return f.at("totalDigits", fault.Expect(fault.Length, fmt.Sprintf("at most %d digits", *f.totalDigits), text))
	}
	if f.fractionDigits != nil && len(frac) > *f.fractionDigits {
		return f.at("fractionDigits", fault.Expect(fault.Length, fmt.Sprintf("at most %d decimal places", *f.fractionDigits), text))
	}
	return nil
}

// among compares in the value space: 1.0 is 1.
func (s *Simple) among(text string, list []string) bool {
	for _, e := range list {
		if s.equal(text, e) {
			return true
		}
	}
	return false
}

func (s *Simple) equal(a, b string) bool {
	a, b = s.normal(a), s.normal(b)
	if a == b {
		return true
	}
	if s.item != nil {
		x, y := strings.Fields(a), strings.Fields(b)
		if len(x) != len(y) {
			return false
		}
		for i := range x {
			if !s.item.equal(x[i], y[i]) {
				return false
			}
		}
		return true
	}
	for _, m := range s.members {
		if _, f := m.read(a); f == nil {
			return m.equal(a, b)
		}
	}
	if ordered[s.primitive] || s.primitive == "boolean" {
		c, ok := compare(s.primitive, a, b)
		return ok && c == 0
	}
	return false
}

var ordered = map[string]bool{
	"decimal": true, "float": true, "double": true, "dateTime": true, "date": true, "time": true, "duration": true,
	"gYear": true, "gYearMonth": true, "gMonth": true, "gDay": true, "gMonthDay": true,
}

// compare orders two texts of a primitive type; ok is false where they have no order.
func compare(primitive, a, b string) (c int, ok bool) {
	switch primitive {
	case "decimal":
		x, okx := schema.ReadDecimal(a)
		y, oky := schema.ReadDecimal(b)
		if !okx || !oky {
			return 0, false
		}
		c, err := value.Compare(x, y)
		return c, err == nil
	case "float", "double":
		x, y := float(a), float(b)
		switch {
		case math.IsNaN(x) && math.IsNaN(y):
			return 0, true
		case math.IsNaN(x) || math.IsNaN(y):
			return 0, false
		case x < y:
			return -1, true
		case x > y:
			return 1, true
		}
		return 0, true
	case "boolean":
		if (a == "true" || a == "1") == (b == "true" || b == "1") {
			return 0, true
		}
		return 1, true
	case "duration":
		return compareDurations(a, b)
	}
	x, zx, okx := moment(primitive, a)
	y, zy, oky := moment(primitive, b)
	if !okx || !oky {
		return 0, false
	}
	d := x.Sub(y)
	if zx != zy && d.Abs() <= 14*time.Hour {
		return 0, false // without a zone the order is not known
	}
	switch {
	case d < 0:
		return -1, true
	case d > 0:
		return 1, true
	}
	return 0, true
}

func float(s string) float64 {
	switch s {
	case "INF":
		return math.Inf(1)
	case "-INF":
		return math.Inf(-1)
	case "NaN":
		return math.NaN()
	}
	f, _ := strconv.ParseFloat(s, 64)
	return f
}

// lexical says what a text of a primitive type must look like; empty when it does.
func lexical(primitive, s string) string {
	if primitive == "string" || primitive == "decimal" && plainDigits(s) {
		return ""
	}
	l, ok := lexicals[primitive]
	if !ok || (l.re == nil || l.re.MatchString(s)) && (l.more == nil || l.more(s)) {
		return ""
	}
	return l.words
}

// plainDigits is the quick way for the most frequent numbers.
func plainDigits(s string) bool {
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

type lexis struct {
	words string
	re    *regexp.Regexp
	more  func(string) bool
}

const zone = `(Z|[+-]((0[0-9]|1[0-3]):[0-5][0-9]|14:00))?`

var lexicals = map[string]lexis{
	"decimal":      {"a decimal number", regexp.MustCompile(`^[+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)$`), nil},
	"boolean":      {"true, false, 1 or 0", regexp.MustCompile(`^(true|false|1|0)$`), nil},
	"float":        {"a number, INF, -INF or NaN", regexp.MustCompile(`^([+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?|-?INF|NaN)$`), nil},
	"double":       {"a number, INF, -INF or NaN", regexp.MustCompile(`^([+-]?([0-9]+(\.[0-9]*)?|\.[0-9]+)([eE][+-]?[0-9]+)?|-?INF|NaN)$`), nil},
	"dateTime":     {"a date and time as 2031-03-09T06:12:00", regexp.MustCompile(`^-?([1-9][0-9]{3,}|0[0-9]{3})-[0-9]{2}-[0-9]{2}T[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?` + zone + `$`), isMoment("dateTime")},
	"date":         {"a date as 2031-03-09", regexp.MustCompile(`^-?([1-9][0-9]{3,}|0[0-9]{3})-[0-9]{2}-[0-9]{2}` + zone + `$`), isMoment("date")},
	"time":         {"a time as 06:12:00", regexp.MustCompile(`^[0-9]{2}:[0-9]{2}:[0-9]{2}(\.[0-9]+)?` + zone + `$`), isMoment("time")},
	"gYear":        {"a year as 2031", regexp.MustCompile(`^-?([1-9][0-9]{3,}|0[0-9]{3})` + zone + `$`), isMoment("gYear")},
	"gYearMonth":   {"a month as 2031-03", regexp.MustCompile(`^-?([1-9][0-9]{3,}|0[0-9]{3})-[0-9]{2}` + zone + `$`), isMoment("gYearMonth")},
	"gMonth":       {"a month as --03", regexp.MustCompile(`^--[0-9]{2}` + zone + `$`), isMoment("gMonth")},
	"gDay":         {"a day as ---09", regexp.MustCompile(`^---[0-9]{2}` + zone + `$`), isMoment("gDay")},
	"gMonthDay":    {"a day as --03-09", regexp.MustCompile(`^--[0-9]{2}-[0-9]{2}` + zone + `$`), isMoment("gMonthDay")},
	"duration":     {"a duration as P1DT2H", regexp.MustCompile(`^-?P([0-9]+Y)?([0-9]+M)?([0-9]+D)?(T([0-9]+H)?([0-9]+M)?([0-9]+(\.[0-9]+)?S)?)?$`), isDuration},
	"hexBinary":    {"pairs of hexadecimal digits", regexp.MustCompile(`^([0-9a-fA-F]{2})*$`), func(s string) bool { _, err := hex.DecodeString(s); return err == nil }},
	"base64Binary": {"base64", regexp.MustCompile(`^[A-Za-z0-9+/= ]*$`), isBase64},
	"QName":        {"a name, with a prefix or without", regexp.MustCompile(`^` + ncName + `(:` + ncName + `)?$`), nil},
	"NOTATION":     {"a name, with a prefix or without", regexp.MustCompile(`^` + ncName + `(:` + ncName + `)?$`), nil},
	"anyURI":       {"an address", nil, func(s string) bool { return schema.HasFormat("uri-reference", s) }},
}

func isBase64(s string) bool {
	s = strings.ReplaceAll(s, " ", "")
	_, err := base64.StdEncoding.Strict().DecodeString(s)
	return err == nil
}

func isDuration(s string) bool {
	return !strings.HasSuffix(s, "P") && !strings.HasSuffix(s, "T")
}

func isMoment(primitive string) func(string) bool {
	return func(s string) bool { _, _, ok := moment(primitive, s); return ok }
}

// moment reads a date or time as a point of time; zoned says whether it has a zone. Parts that the
// type lacks are those of 1972-12-31T00:00:00.
func moment(primitive, s string) (t time.Time, zoned, ok bool) {
	s, offset, zoned := cutZone(s)
	y, mo, d, h, mi, sec, nano := 1972, 12, 31, 0, 0, 0, 0
	neg := strings.HasPrefix(s, "-") && primitive != "gMonth" && primitive != "gDay" && primitive != "gMonthDay"
	if neg {
		s = s[1:]
	}
	var err error
	num := func(text string) int {
		n, e := strconv.Atoi(text)
		if e != nil {
			err = e
		}
		return n
	}
	clock := func(text string) {
		parts := strings.SplitN(text, ":", 3)
		if len(parts) != 3 {
			err = strconv.ErrSyntax
			return
		}
		whole, frac, _ := strings.Cut(parts[2], ".")
		h, mi, sec = num(parts[0]), num(parts[1]), num(whole)
		nano = num((frac + "000000000")[:9])
	}
	date := func(text string, into ...*int) {
		parts := strings.Split(text, "-")
		if len(parts) != len(into) {
			err = strconv.ErrSyntax
			return
		}
		for i, p := range parts {
			*into[i] = num(p)
		}
	}
	switch primitive {
	case "dateTime":
		day, tm, _ := strings.Cut(s, "T")
		date(day, &y, &mo, &d)
		clock(tm)
	case "date":
		date(s, &y, &mo, &d)
	case "time":
		clock(s)
	case "gYear":
		mo, d = 1, 1
		date(s, &y)
	case "gYearMonth":
		d = 1
		date(s, &y, &mo)
	case "gMonth":
		d = 1
		date(strings.TrimPrefix(s, "--"), &mo)
	case "gDay":
		date(strings.TrimPrefix(s, "---"), &d)
	case "gMonthDay":
		date(strings.TrimPrefix(s, "--"), &mo, &d)
	default:
		return t, false, false
	}
	midnight := h == 24 && mi == 0 && sec == 0 && nano == 0
	if err != nil || y == 0 || mo < 1 || mo > 12 || d < 1 || d > monthDays(y, mo) || h > 23 && !midnight || mi > 59 || sec > 59 {
		return t, zoned, false
	}
	if neg {
		y = -y
	}
	return time.Date(y, time.Month(mo), d, h, mi, sec, nano, time.UTC).Add(-offset), zoned, true
}

func monthDays(y, m int) int { return time.Date(y, time.Month(m)+1, 0, 0, 0, 0, 0, time.UTC).Day() }

func cutZone(s string) (rest string, offset time.Duration, zoned bool) {
	if rest, ok := strings.CutSuffix(s, "Z"); ok {
		return rest, 0, true
	}
	if len(s) < 6 || s[len(s)-3] != ':' || s[len(s)-6] != '+' && s[len(s)-6] != '-' {
		return s, 0, false
	}
	tail := s[len(s)-6:]
	h, err := strconv.Atoi(tail[1:3])
	m, err2 := strconv.Atoi(tail[4:])
	if err != nil || err2 != nil {
		return s, 0, false
	}
	offset = time.Duration(h)*time.Hour + time.Duration(m)*time.Minute
	if tail[0] == '-' {
		offset = -offset
	}
	return s[:len(s)-6], offset, true
}

var durationParts = regexp.MustCompile(`^(-?)P(?:([0-9]+)Y)?(?:([0-9]+)M)?(?:([0-9]+)D)?(?:T(?:([0-9]+)H)?(?:([0-9]+)M)?(?:([0-9]+(?:\.[0-9]+)?)S)?)?$`)

// compareDurations orders durations by adding them to four dates, as the standard does (3.2.6.2).
func compareDurations(a, b string) (int, bool) {
	am, as, oka := durationOf(a)
	bm, bs, okb := durationOf(b)
	if !oka || !okb {
		return 0, false
	}
	result, first := 0, true
	for _, start := range []time.Time{
		time.Date(1696, 9, 1, 0, 0, 0, 0, time.UTC), time.Date(1697, 2, 1, 0, 0, 0, 0, time.UTC),
		time.Date(1903, 3, 1, 0, 0, 0, 0, time.UTC), time.Date(1903, 7, 1, 0, 0, 0, 0, time.UTC),
	} {
		x := float64(start.AddDate(0, am, 0).Unix()) + as
		y := float64(start.AddDate(0, bm, 0).Unix()) + bs
		c := 0
		if x < y {
			c = -1
		} else if x > y {
			c = 1
		}
		if !first && c != result {
			return 0, false
		}
		result, first = c, false
	}
	return result, true
}

func durationOf(s string) (months int, seconds float64, ok bool) {
	m := durationParts.FindStringSubmatch(s)
	if m == nil {
		return 0, 0, false
	}
	n := make([]float64, 7)
	for i := 2; i < 8; i++ {
		if m[i] != "" {
			n[i-1], _ = strconv.ParseFloat(m[i], 64)
		}
	}
	months = int(n[1])*12 + int(n[2])
	seconds = n[3]*86400 + n[4]*3600 + n[5]*60 + n[6]
	if m[1] == "-" {
		return -months, -seconds, true
	}
	return months, seconds, true
}
