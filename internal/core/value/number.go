package value

import (
	"errors"
	"math"
	"math/bits"
	"regexp"
	"strconv"
	"strings"
	"unsafe"

	"github.com/cockroachdb/apd/v3"
)

// MaxDigits bounds the digits of any number that is computed. Literals that are only passed
// through are not bounded.
const MaxDigits = 1000

// DivisionDigits is the number of significant digits of a quotient that has no exact decimal
// form: the precision of decimal128 (IEEE 754-2019), rounded half to even.
const DivisionDigits = 34

// maxExponent bounds the powers of ten of results, both ways: twice what a number that is read may have.
const maxExponent = 2 * MaxDigits

// Errors of arithmetic.
var (
	ErrDivideByZero = errors.New("division by zero")
	ErrTooLarge     = errors.New("the number has more than 1000 digits, or too many zeros")
	ErrNotNumber    = errors.New("not a number")
)

var pow10 = func() (p [19]int64) {
	p[0] = 1
	for i := 1; i < len(p); i++ {
		p[i] = p[i-1] * 10
	}
	return
}()

// Number keeps a JSON number literal (RFC 8259, section 6) exactly as it is written. It is
// worked out only when it is computed with; valid syntax is the caller's promise.
func Number(text string) Value {
	if n, small := smallInt(text); small && (n != 0 || text[0] != '-') {
		return Int(n)
	}
	return textual(Decimal, literal, text)
}

// ParseInteger reads an optional sign and ASCII digits.
func ParseInteger(s string) (Value, bool) {
	if n, ok := smallInt(s); ok {
		return Int(n), true
	}
	if !plainInteger(s) || len(s) > MaxDigits {
		return Value{}, false
	}
	d, _, err := apd.NewFromString(s)
	if err != nil {
		return Value{}, false
	}
	return big(Integer, d), true
}

func plainInteger(s string) bool {
	s = strings.TrimPrefix(strings.TrimPrefix(s, "-"), "+")
	for i := 0; i < len(s); i++ {
		if s[i] < '0' || s[i] > '9' {
			return false
		}
	}
	return s != ""
}

func smallInt(s string) (int64, bool) {
	neg, i := false, 0
	if s != "" && (s[0] == '-' || s[0] == '+') {
		neg, i = s[0] == '-', 1
	}
	if i == len(s) || len(s)-i > 18 {
		return 0, false
	}
	var n int64
	for ; i < len(s); i++ {
		c := s[i] - '0'
		if c > 9 {
			return 0, false
		}
		n = n*10 + int64(c)
	}
	if neg {
		n = -n
	}
	return n, true
}

// ParseDecimal reads a number in plain or scientific notation; the scale (trailing zeros) is kept.
func ParseDecimal(s string) (Value, bool) {
	if v, ok := smallDecimal(s); ok {
		return v, true
	}
	if len(s) > MaxDigits || !decimalText.MatchString(s) {
		return Value{}, false
	}
	d, _, err := apd.NewFromString(s)
	if err != nil || d.Form != apd.Finite || d.Exponent > MaxDigits || d.Exponent < -MaxDigits {
		return Value{}, false
	}
	return big(Decimal, d), true
}

var decimalText = regexp.MustCompile(`^[+-]?[0-9]+(\.[0-9]+)?([eE][+-]?[0-9]{1,5})?$`)

func smallDecimal(s string) (Value, bool) {
	dot := strings.IndexByte(s, '.')
	if dot < 0 {
		n, ok := smallInt(s)
		return NewDecimal(n, 0), ok
	}
	frac := s[dot+1:]
	if frac == "" || len(s) > 18 {
		return Value{}, false
	}
	f, ok := digits18(frac)
	if !ok {
		return Value{}, false
	}
	head := s[:dot]
	if head == "" || head == "-" || head == "+" {
		return Value{}, false
	}
	n, ok := smallInt(head)
	if !ok {
		return Value{}, false
	}
	n *= pow10[len(frac)]
	if head[0] == '-' {
		n -= f
	} else {
		n += f
	}
	return NewDecimal(n, -int32(len(frac))), true
}

func digits18(s string) (n int64, ok bool) {
	for i := 0; i < len(s); i++ {
		c := s[i] - '0'
		if c > 9 {
			return 0, false
		}
		n = n*10 + int64(c)
	}
	return n, true
}

// big makes a number of an apd decimal, small again when it fits.
func big(kind Kind, d *apd.Decimal) Value {
	if d.Coeff.IsInt64() && (kind == Decimal || d.Exponent == 0) {
		n := d.Coeff.Int64()
		if d.Negative {
			n = -n
		}
		return Value{kind: kind, num: n, exp: d.Exponent}
	}
	return Value{kind: kind, form: large, ref: unsafe.Pointer(d)}
}

// resolved works out a kept literal.
func (v Value) resolved() (Value, error) {
	if v.form != literal {
		return v, nil
	}
	d, ok := ParseDecimal(v.str())
	if !ok {
		return Value{}, ErrTooLarge
	}
	return d, nil
}

// apd gives the number as an apd decimal; v must be resolved.
func (v Value) apd() *apd.Decimal {
	if v.form == large {
		return v.big()
	}
	return apd.New(v.num, v.exp)
}

var exact = func() *apd.Context {
	c := apd.BaseContext.WithPrecision(MaxDigits)
	c.Traps = apd.DefaultTraps | apd.Inexact
	c.Rounding = apd.RoundHalfEven
	return c
}()

var dividing = func() *apd.Context {
	c := apd.BaseContext.WithPrecision(DivisionDigits)
	c.Rounding = apd.RoundHalfEven
	return c
}()

func sumKind(a, b Value) Kind {
	if a.kind == Integer && b.kind == Integer {
		return Integer
	}
	return Decimal
}

func operands(a, b Value) (Value, Value, error) {
	if !a.kind.Numeric() || !b.kind.Numeric() {
		return a, b, ErrNotNumber
	}
	if a.form|b.form == small {
		return a, b, nil
	}
	a, err := a.resolved()
	if err != nil {
		return a, b, err
	}
	b, err = b.resolved()
	return a, b, err
}

// aligned brings two small numbers to one exponent; ok is false when that needs more than int64.
func aligned(a, b Value) (x, y int64, exp int32, ok bool) {
	if a.form != small || b.form != small {
		return 0, 0, 0, false
	}
	return alignedTo(a.num, a.exp, b.num, b.exp)
}

// alignedTo are the digits of two numbers behind one exponent; false where they do not fit a machine word.
func alignedTo(a int64, aexp int32, b int64, bexp int32) (x, y int64, exp int32, ok bool) {
	switch d := int64(aexp) - int64(bexp); {
	case d == 0:
		return a, b, aexp, true
	case d > 0 && d <= 18:
		x, ok = mul64(a, pow10[d])
		return x, b, bexp, ok
	case d < 0 && d >= -18:
		y, ok = mul64(b, pow10[-d])
		return a, y, aexp, ok
	}
	return 0, 0, 0, false
}

func mul64(a, b int64) (int64, bool) {
	if a == math.MinInt64 || b == math.MinInt64 {
		return 0, false
	}
	hi, lo := bits.Mul64(abs64(a), abs64(b))
	if hi != 0 || lo > math.MaxInt64 {
		return 0, false
	}
	if (a < 0) != (b < 0) {
		return -int64(lo), true
	}
	return int64(lo), true
}

func abs64(n int64) uint64 {
	if n < 0 {
		return uint64(-n)
	}
	return uint64(n)
}

// Add is a + b, exact.
func Add(a, b Value) (Value, error) {
	a, b, err := operands(a, b)
	if err != nil {
		return Value{}, err
	}
	if x, y, exp, ok := aligned(a, b); ok {
		if s := x + y; (s > x) == (y > 0) {
			return Value{kind: sumKind(a, b), num: s, exp: exp}, nil
		}
	}
	return exactly(sumKind(a, b), exact.Add, a, b)
}

// Sub is a - b, exact.
func Sub(a, b Value) (Value, error) {
	b, err := Neg(b)
	if err != nil {
		return Value{}, err
	}
	return Add(a, b)
}

// Mul is a × b, exact.
func Mul(a, b Value) (Value, error) {
	a, b, err := operands(a, b)
	if err != nil {
		return Value{}, err
	}
	if a.form|b.form == small {
		if p, ok := mul64(a.num, b.num); ok {
			return scaled(sumKind(a, b), p, int64(a.exp)+int64(b.exp))
		}
	}
	return exactly(sumKind(a, b), exact.Mul, a, b)
}

// Shift is the Decimal a × 10^exp: the same digits with the point elsewhere.
func Shift(a Value, exp int32) (Value, error) {
	if a.kind.Numeric() && a.form == small {
		return scaled(Decimal, a.num, int64(a.exp)+int64(exp))
	}
	return Mul(a, NewDecimal(1, exp))
}

// scaled is num × 10^exp. Zero has no more places than other numbers.
func scaled(kind Kind, num, exp int64) (Value, error) {
	if exp > maxExponent || exp < -maxExponent {
		if num != 0 {
			return Value{}, ErrTooLarge
		}
		exp = min(max(exp, -maxExponent), maxExponent)
	}
	return Value{kind: kind, num: num, exp: int32(exp)}, nil
}

// Neg is -a.
func Neg(a Value) (Value, error) {
	if !a.kind.Numeric() {
		return Value{}, ErrNotNumber
	}
	a, err := a.resolved()
	if err != nil {
		return a, err
	}
	if a.form == small && a.num != math.MinInt64 {
		return Value{kind: a.kind, num: -a.num, exp: a.exp}, nil
	}
	return big(a.kind, new(apd.Decimal).Neg(a.apd())), nil
}

// Abs is the absolute value.
func Abs(a Value) (Value, error) {
	if Sign(a) < 0 {
		return Neg(a)
	}
	return a, nil
}

// Div is a ÷ b: exact where the quotient has at most DivisionDigits digits, else rounded half
// to even to that many.
func Div(a, b Value) (Value, error) {
	a, b, err := operands(a, b)
	if err != nil {
		return Value{}, err
	}
	if Sign(b) == 0 {
		return Value{}, ErrDivideByZero
	}
	q := new(apd.Decimal)
	if _, err := dividing.Quo(q, a.apd(), b.apd()); err != nil {
		return Value{}, ErrTooLarge
	}
	q.Reduce(q)
	if q.Exponent > 0 {
		if _, err := exact.Quantize(q, q, 0); err != nil {
			return Value{}, ErrTooLarge
		}
	}
	return big(Decimal, q), nil
}

// Mod is the remainder of a ÷ b with the sign of a.
func Mod(a, b Value) (Value, error) {
	a, b, err := operands(a, b)
	if err != nil {
		return Value{}, err
	}
	if Sign(b) == 0 {
		return Value{}, ErrDivideByZero
	}
	if x, y, exp, ok := aligned(a, b); ok {
		return Value{kind: sumKind(a, b), num: x % y, exp: exp}, nil
	}
	return exactly(sumKind(a, b), exact.Rem, a, b)
}

func exactly(kind Kind, op func(d, x, y *apd.Decimal) (apd.Condition, error), a, b Value) (Value, error) {
	d := new(apd.Decimal)
	if _, err := op(d, a.apd(), b.apd()); err != nil || !d.IsZero() && (d.Exponent > maxExponent || d.Exponent < -maxExponent) {
		return Value{}, ErrTooLarge
	}
	return big(kind, d), nil
}

// Sign is -1, 0 or 1.
func Sign(a Value) int {
	known, err := a.resolved()
	if err != nil {
		if strings.HasPrefix(a.str(), "-") {
			return -1
		}
		return 1
	}
	if a = known; a.form == large {
		return a.big().Sign()
	}
	switch {
	case a.num < 0:
		return -1
	case a.num > 0:
		return 1
	}
	return 0
}

// Rounding is a rounding mode by name: half-even, half-up, half-down, up, down, ceiling, floor.
type Rounding string

// HalfEven is the mode that holds where none is named.
const HalfEven Rounding = "half-even"

var roundings = map[Rounding]apd.Rounder{
	HalfEven: apd.RoundHalfEven, "half-up": apd.RoundHalfUp, "half-down": apd.RoundHalfDown,
	"up": apd.RoundUp, "down": apd.RoundDown, "ceiling": apd.RoundCeiling, "floor": apd.RoundFloor,
}

// Known says whether the mode exists.
func (r Rounding) Known() bool { _, ok := roundings[r]; return ok }

// Round gives a number exactly places decimal places; with no places it becomes an Integer.
func Round(a Value, places int32, mode Rounding) (Value, error) {
	if !a.kind.Numeric() {
		return Value{}, ErrNotNumber
	}
	a, err := a.resolved()
	if err != nil {
		return Value{}, err
	}
	kind := Decimal
	if places == 0 {
		kind = Integer
	}
	if a.form == small && a.exp <= 0 && a.exp == -places {
		return Value{kind: kind, num: a.num, exp: a.exp}, nil
	}
	if x := a.apd(); x.NumDigits()+int64(x.Exponent)+int64(places) < 0 {
		return big(kind, apd.New(tiny(Sign(a), mode), -places)), nil
	}
	c := *exact
	c.Traps = apd.DefaultTraps
	c.Rounding = roundings[mode]
	d := new(apd.Decimal)
	if _, err := c.Quantize(d, a.apd(), -places); err != nil {
		return Value{}, ErrTooLarge
	}
	return big(kind, d), nil
}

// tiny rounds a number that is less than a tenth of the last place to units of it: apd makes it nothing, whatever the mode.
func tiny(sign int, mode Rounding) int64 {
	if mode == "up" || mode == "ceiling" && sign > 0 || mode == "floor" && sign < 0 {
		return int64(sign)
	}
	return 0
}

// AsInteger converts a number without loss; ok is false when it has a fraction.
func AsInteger(a Value) (Value, bool) {
	if a.kind == Integer {
		return a, true
	}
	r, err := Round(a, 0, HalfEven)
	if err != nil {
		return Value{}, false
	}
	c, err := Compare(a, r)
	return r, err == nil && c == 0
}

// AsDecimal views a number as a Decimal.
func AsDecimal(a Value) Value {
	a.kind = Decimal
	return a
}

// Scale is the number of decimal places; Digits the significant digits before and after.
func Scale(a Value) int {
	a, err := a.resolved()
	if err != nil {
		return math.MaxInt32
	}
	if e := a.apd().Exponent; e < 0 {
		return -int(e)
	}
	return 0
}

// Digits is the number of digits, leading zeros not counted.
func Digits(a Value) int {
	a, err := a.resolved()
	if err != nil {
		return math.MaxInt32
	}
	return int(a.apd().NumDigits())
}

// Reduced is a number without the zeros behind its last decimal place: 1.5 of 1.50.
func Reduced(v Value) Value {
	for n := Scale(v); n > 0; n-- {
		less, err := Round(v, int32(n-1), HalfEven)
		if err != nil {
			return v
		}
		if c, err := Compare(less, v); err != nil || c != 0 {
			return v
		}
		v = less
	}
	return v
}

// Plain is the text of a number in decimal notation, without an exponent.
func Plain(v Value) (string, error) {
	r, err := v.resolved()
	if err != nil {
		return "", err
	}
	return r.String(), nil
}

func (v Value) appendNumber(b []byte) []byte {
	switch v.form {
	case literal:
		return append(b, v.str()...)
	case large:
		return append(b, v.big().Text('f')...)
	}
	if v.exp >= 0 {
		b = strconv.AppendInt(b, v.num, 10)
		for i := int32(0); i < v.exp && v.num != 0; i++ {
			b = append(b, '0')
		}
		return b
	}
	n := abs64(v.num)
	if v.num < 0 {
		b = append(b, '-')
	}
	if -v.exp <= 18 {
		p := uint64(pow10[-v.exp])
		b = strconv.AppendUint(b, n/p, 10)
		b = append(b, '.')
		frac := n % p
		for d := p / 10; d > frac && d > 1; d /= 10 {
			b = append(b, '0')
		}
		return strconv.AppendUint(b, frac, 10)
	}
	return append(b, strings.TrimPrefix(v.apd().Text('f'), "-")...)
}
