package infer

import (
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// form is one type that a text may have, as it is written.
type form struct {
	kind     value.Kind
	pattern  string // of dates and times; empty for standard form
	mark     string // of numbers: the decimal mark where it is no point
	grouping string // and the sign between groups of three digits
}

// forms are in the order of preference: of those that fit as many texts the first is the field's type. Two that differ in the
// order of day and month are preferred by what is written more widely.
var forms = []form{
	{kind: value.Timestamp},
	{kind: value.Date},
	{kind: value.Time},
	{kind: value.Timestamp, pattern: "yyyy-MM-dd HH:mm:ss"},
	{kind: value.Timestamp, pattern: "yyyy-MM-ddTHH:mm:ss"},
	{kind: value.Timestamp, pattern: "yyyy-MM-dd HH:mm"},
	{kind: value.Timestamp, pattern: "dd.MM.yyyy HH:mm:ss"},
	{kind: value.Timestamp, pattern: "dd.MM.yyyy HH:mm"},
	{kind: value.Timestamp, pattern: "yyyyMMddHHmmss"},
	{kind: value.Time, pattern: "HH:mm"},
	{kind: value.Date, pattern: "yyyyMMdd"},
	{kind: value.Date, pattern: "dd.MM.yyyy"},
	{kind: value.Date, pattern: "dd/MM/yyyy"},
	{kind: value.Date, pattern: "MM/dd/yyyy"},
	{kind: value.Date, pattern: "yyyy/MM/dd"},
	{kind: value.Integer},
	{kind: value.Decimal},
	{kind: value.Decimal, mark: ","},
	{kind: value.Decimal, mark: ",", grouping: "."},
	{kind: value.Decimal, grouping: ","},
	{kind: value.Boolean},
}

// fitting counts, for each form, the texts that do not fit it, and keeps the record in which the first of them stood.
type fitting struct {
	misses [24]int // by the position of the form
	first  [24]int // from 1
	texts  int
	json   bool // texts that look like numbers or booleans are texts: others are written otherwise there
}

// add notes one more text.
func (c *fitting) add(s string, record int) {
	c.texts++
	for i := range forms {
		if c.misses[i] > tolerated(c.texts)+most && c.misses[i] > most { // it cannot come back
			continue
		}
		if forms[i].fits(s) {
			continue
		}
		if c.misses[i]++; c.misses[i] == 1 {
			c.first[i] = record
		}
	}
}

// most bounds the texts of a field that do not fit its type, and leastTexts is how many there must be for some not to.
const (
	most       = 20
	leastTexts = 8
)

// tolerated is how many of a number of texts may be none of the type that is proposed: one in ten, and one of eight.
func tolerated(texts int) int {
	if texts < leastTexts {
		return 0
	}
	return max(1, min(most, texts/10))
}

// best is the form that fits most texts, when it fits enough of them; ok is false where there is none.
func (c *fitting) best() (at int, ok bool) {
	at = -1
	for i, f := range forms {
		if c.json && f.kind != value.Date && f.kind != value.Time && f.kind != value.Timestamp || c.json && f.pattern != "" && digitsOnly(f.pattern) {
			continue
		}
		if c.texts > 0 && c.misses[i] <= tolerated(c.texts) && (at < 0 || c.misses[i] < c.misses[at]) {
			at = i
		}
	}
	return at, at >= 0
}

// digitsOnly says whether a pattern is written with digits only, as a number is.
func digitsOnly(pattern string) bool { return !strings.ContainsAny(pattern, "-./: T") }

func (f form) fits(s string) bool {
	if f.pattern != "" {
		v, ok, _ := schema.ReadPattern(f.kind, f.pattern, s)
		return ok && (f.kind == value.Time || likely(v))
	}
	switch f.kind {
	case value.Boolean:
		return s == "true" || s == "false"
	case value.Integer, value.Decimal:
		return f.number(s)
	}
	_, ok := schema.ParseScalar(f.kind, s)
	return ok
}

// number says whether a text is a number as the form writes it, and would be written as it stands.
func (f form) number(s string) bool {
	if f.mark == "" && f.grouping == "" {
		return plainNumber(s) && numeric(f.kind, s)
	}
	field := &schema.Field{Name: "f", Kind: f.kind, WireFormat: schema.WireFormat{Mark: f.mark, Grouping: f.grouping}}
	v, ok := field.Read(s)
	if !ok || !plainNumber(v.String()) {
		return false
	}
	back, fault := field.AppendWire(nil, v) // zeros in front, a plus sign or missing groups would be lost
	return fault == nil && (string(back) == s || string(back) == strings.ReplaceAll(s, f.grouping, ""))
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
	if digits == "" {
		return false
	}
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
