package infer

import (
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// candidates are the types that every text seen so far can be read as, one bit each.
type candidates uint32

// form is one type that a text may have.
type form struct {
	kind    value.Kind
	pattern string // of dates and times; empty for standard form
}

// forms are in the order of preference: the first that is left is the field's type. Two that
// differ in the order of day and month are preferred by what is written more widely.
var forms = []form{
	{value.Timestamp, ""},
	{value.Date, ""},
	{value.Time, ""},
	{value.Timestamp, "yyyy-MM-dd HH:mm:ss"},
	{value.Timestamp, "yyyy-MM-ddTHH:mm:ss"},
	{value.Timestamp, "yyyyMMddHHmmss"},
	{value.Date, "yyyyMMdd"},
	{value.Date, "dd.MM.yyyy"},
	{value.Date, "dd/MM/yyyy"},
	{value.Date, "MM/dd/yyyy"},
	{value.Date, "yyyy/MM/dd"},
	{value.Integer, ""},
	{value.Decimal, ""},
	{value.Boolean, ""},
}

const anything candidates = 1<<14 - 1

// narrowed keeps the types that one more text fits.
func (c candidates) narrowed(s string) candidates {
	for i := range forms {
		if bit := candidates(1) << i; c&bit != 0 && !forms[i].fits(s) {
			c &^= bit
		}
	}
	return c
}

func (c candidates) kind() (value.Kind, string) {
	for i, f := range forms {
		if c&(1<<i) != 0 {
			return f.kind, f.pattern
		}
	}
	return value.Text, ""
}

func (f form) fits(s string) bool {
	if f.pattern != "" {
		v, ok, _ := schema.ReadPattern(f.kind, f.pattern, s)
		return ok && likely(v)
	}
	switch f.kind {
	case value.Boolean:
		return s == "true" || s == "false"
	case value.Integer, value.Decimal:
		return plainNumber(s) && numeric(f.kind, s)
	}
	_, ok := schema.ParseScalar(f.kind, s)
	return ok
}

func numeric(kind value.Kind, s string) bool {
	_, ok := schema.ParseScalar(kind, s)
	return ok
}

// likely says whether eight digits are more likely a date than a number.
func likely(v value.Value) bool {
	y, _, _ := v.Civil()
	return y >= 1800 && y < 2200
}

// plainNumber refuses what would be changed by being read as a number: a plus sign, leading zeros
// (article numbers, postal codes) and exponents, and digits beyond what amounts have.
func plainNumber(s string) bool {
	digits := s
	if digits[0] == '-' {
		digits = digits[1:]
	}
	if digits == "" || len(digits) > 18 || digits[0] < '0' || digits[0] > '9' {
		return false
	}
	if len(digits) > 1 && digits[0] == '0' && digits[1] != '.' {
		return false
	}
	for i := 0; i < len(digits); i++ {
		if c := digits[i]; (c < '0' || c > '9') && c != '.' {
			return false
		}
	}
	return true
}
