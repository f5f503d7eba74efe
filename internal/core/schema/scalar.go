package schema

import (
	"bytes"
	"encoding/base64"
	"encoding/hex"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// ParseScalar reads a value from its standard text: numbers in decimal notation, dates and times
// as in ISO 8601, true or false, base64 (RFC 4648) for binary.
func ParseScalar(kind value.Kind, s string) (value.Value, bool) {
	switch kind {
	case value.Text:
		return value.NewText(s), true
	case value.Integer:
		return value.ParseInteger(s)
	case value.Decimal:
		return value.ParseDecimal(s)
	case value.Boolean:
		return value.Bool(s == "true" || s == "1"), s == "true" || s == "false" || s == "1" || s == "0"
	case value.Date:
		return value.ParseDate(s)
	case value.Time:
		return value.ParseTime(s)
	case value.Timestamp:
		return value.ParseTimestamp(s)
	case value.LocalTimestamp:
		return value.ParseLocalTimestamp(s)
	case value.ZonedTime:
		return value.ParseZonedTime(s)
	case value.Duration:
		return value.ParseDuration(s)
	case value.YearMonth:
		return value.ParseYearMonth(s)
	case value.Binary:
		raw, err := base64.StdEncoding.DecodeString(s)
		return value.Bytes(string(raw)), err == nil
	}
	return value.Value{}, false
}

// ScalarText is the standard text of a scalar; the inverse of ParseScalar.
func ScalarText(v value.Value) string {
	if v.Kind() == value.Binary {
		return base64.StdEncoding.EncodeToString([]byte(v.Text()))
	}
	return v.String()
}

// Read reads a field's text as it is written in its notation: with its pattern, its implied
// decimal point, or else in standard form. Padding must be gone already.
func (f *Field) Read(s string) (value.Value, bool) {
	w := &f.WireFormat
	if w.pattern == nil && !w.Hex && !w.ZoneOptional && w.ImpliedDecimals == 0 && !w.marked() && f.Kind != value.Decimal {
		return ParseScalar(f.Kind, s)
	}
	return f.Reader()(s)
}

// Reader is Read made ready for many texts of one field.
func (f *Field) Reader() func(s string) (value.Value, bool) {
	w, kind := &f.WireFormat, f.Kind
	switch {
	case w.pattern != nil:
		return func(s string) (value.Value, bool) { return readPattern(kind, w.pattern, s) }
	case w.Hex && kind == value.Binary:
		return readHex
	case w.ZoneOptional:
		return func(s string) (value.Value, bool) { return readEither(kind, s) }
	case w.ImpliedDecimals > 0 && kind == value.Decimal:
		return impliedReader(-int32(w.ImpliedDecimals))
	case w.marked():
		return func(s string) (value.Value, bool) {
			plain, ok := w.plainNumber(s)
			if !ok {
				return value.Value{}, false
			}
			return ParseScalar(kind, plain)
		}
	case kind == value.Text:
		return func(s string) (value.Value, bool) { return value.NewText(s), true }
	case kind == value.Integer:
		return value.ParseInteger
	case kind == value.Decimal:
		return ReadDecimal
	}
	return func(s string) (value.Value, bool) { return ParseScalar(kind, s) }
}

// ReadDecimal reads a decimal number, of which the digits before or behind the point may be missing, as XML Schema has it
// (part 2, 3.2.3.1).
func ReadDecimal(s string) (value.Value, bool) {
	if v, ok := value.ParseDecimal(s); ok {
		return v, true
	}
	sign := ""
	if s != "" && (s[0] == '-' || s[0] == '+') {
		sign, s = s[:1], s[1:]
	}
	switch whole, part, point := strings.Cut(s, "."); {
	case !point || whole == "" && !startsWithDigit(part):
		return value.Value{}, false
	case whole == "":
		return value.ParseDecimal(sign + "0" + s)
	case part == "":
		return value.ParseDecimal(sign + whole)
	}
	return value.Value{}, false
}

func startsWithDigit(s string) bool { return s != "" && s[0] >= '0' && s[0] <= '9' }

func readHex(s string) (value.Value, bool) {
	raw, err := hex.DecodeString(s)
	return value.Bytes(string(raw)), err == nil
}

// unzoned is the type of the values of a type whose texts have no zone, or the other way round.
var unzoned = map[value.Kind]value.Kind{value.Timestamp: value.LocalTimestamp, value.Time: value.ZonedTime}

// readEither reads a timestamp or a time of which the zone may be there or not.
func readEither(kind value.Kind, s string) (value.Value, bool) {
	if v, ok := ParseScalar(kind, s); ok {
		return v, true
	}
	return ParseScalar(unzoned[kind], s)
}

func impliedReader(exp int32) func(string) (value.Value, bool) {
	return func(s string) (value.Value, bool) {
		n, ok := value.ParseInteger(s)
		if !ok {
			return n, false
		}
		d, err := value.Shift(n, exp)
		return d, err == nil
	}
}

// AppendWire appends a value as the field writes it; the inverse of Read.
func (f *Field) AppendWire(b []byte, v value.Value) ([]byte, *fault.Fault) {
	w := &f.WireFormat
	switch {
	case w.pattern != nil:
		return appendPattern(b, w.pattern, v), nil
	case w.ImpliedDecimals > 0 && f.Kind == value.Decimal:
		return f.appendImplied(b, v)
	case w.marked():
		return append(b, w.localNumber(v.String())...), nil
	case v.Kind() == value.Binary && w.Hex:
		return append(b, strings.ToUpper(hex.EncodeToString([]byte(v.Text())))...), nil
	case v.Kind() == value.Binary:
		return base64.StdEncoding.AppendEncode(b, []byte(v.Text())), nil
	}
	return v.AppendText(b), nil
}

// AppendXML is AppendWire for XML: a number has an exponent only where the field may have one.
func (f *Field) AppendXML(b []byte, v value.Value) ([]byte, *fault.Fault) {
	from := len(b)
	b, ft := f.AppendWire(b, v)
	if ft != nil || !v.Kind().Numeric() || f.WireFormat.Exponent || bytes.IndexByte(b[from:], 'e') < 0 && bytes.IndexByte(b[from:], 'E') < 0 {
		return b, ft
	}
	plain, err := value.Plain(v)
	if err != nil {
		return b, fault.New(fault.Arithmetic, "%s", err).InField(f.Name)
	}
	return append(b[:from], plain...), nil
}

func (f *Field) appendImplied(b []byte, v value.Value) ([]byte, *fault.Fault) {
	r, err := value.Round(v, int32(f.WireFormat.ImpliedDecimals), value.HalfEven)
	if err != nil {
		return b, fault.New(fault.Arithmetic, "%s", err).InField(f.Name)
	}
	if c, err := value.Compare(r, v); err != nil || c != 0 {
		return b, fault.Expect(fault.Length, "at most "+count(f.WireFormat.ImpliedDecimals, "decimal place"), v.String()).InField(f.Name)
	}
	return append(b, strings.Replace(r.String(), ".", "", 1)...), nil
}

// DescribeWireFormat describes for a person what text the field expects.
func (f *Field) DescribeWireFormat() string {
	switch {
	case f.WireFormat.Pattern != "":
		return "a " + f.Kind.String() + " as " + f.WireFormat.Pattern
	case f.WireFormat.ImpliedDecimals > 0:
		return "digits with " + count(f.WireFormat.ImpliedDecimals, "implied decimal place")
	case f.WireFormat.marked():
		return "a number as " + f.WireFormat.localNumber("1234567") + map[bool]string{true: f.WireFormat.decimalMark() + "89"}[f.Kind == value.Decimal]
	case f.Kind == value.Integer:
		return "a whole number"
	case f.Kind == value.Decimal:
		return "a decimal number"
	case f.Kind == value.Boolean:
		return "true or false"
	case f.Kind == value.Date:
		return "a date as YYYY-MM-DD"
	case f.Kind == value.Time:
		return "a time as hh:mm:ss"
	case f.Kind == value.Timestamp:
		return "a timestamp as YYYY-MM-DDThh:mm:ssZ"
	case f.Kind == value.Binary && f.WireFormat.Hex:
		return "hexadecimal digits, two for each byte"
	case f.Kind == value.Binary:
		return "base64"
	case f.Kind == value.LocalTimestamp:
		return "a timestamp as YYYY-MM-DDThh:mm:ss, without a zone"
	case f.Kind == value.ZonedTime:
		return "a time as hh:mm:ssZ or hh:mm:ss+02:00"
	case f.Kind == value.Duration:
		return "a duration as P1DT2H"
	case f.Kind == value.YearMonth:
		return "a month as YYYY-MM"
	}
	return f.Kind.String()
}
