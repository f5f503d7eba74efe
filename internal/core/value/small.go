package value

// Small is a number whose digits fit a machine word: num × 10^exp. With it arithmetic goes on without making a value of each result;
// what does not fit is told, and left to Add and Mul.
type Small struct {
	num     int64
	exp     int32
	decimal bool
}

// Small is the number as one of few digits; false for those of more, for numbers that are kept as text, and for what is no number.
func (v Value) Small() (Small, bool) {
	return Small{v.num, v.exp, v.kind == Decimal}, v.kind.Numeric() && v.form == small
}

// Value is the number: an Integer where it came of integers alone.
func (s Small) Value() Value {
	if s.decimal {
		return Value{kind: Decimal, num: s.num, exp: s.exp}
	}
	return Value{kind: Integer, num: s.num}
}

// Add adds another number; false where the sum does not fit, and is not made.
func (s *Small) Add(o Small) bool {
	a, b, exp, ok := alignedTo(s.num, s.exp, o.num, o.exp)
	if !ok {
		return false
	}
	sum := a + b
	if (sum > a) != (b > 0) {
		return false
	}
	s.num, s.exp, s.decimal = sum, exp, s.decimal || o.decimal
	return true
}

// Multiply multiplies with another number; false where the product does not fit, and is not made.
func (s *Small) Multiply(o Small) bool {
	product, ok := mul64(s.num, o.num)
	exp := int64(s.exp) + int64(o.exp)
	if !ok || exp > maxExponent || exp < -maxExponent {
		return false
	}
	s.num, s.exp, s.decimal = product, int32(exp), s.decimal || o.decimal
	return true
}

// Negate makes it its negative; false where that does not fit.
func (s *Small) Negate() bool {
	if s.num == -s.num && s.num != 0 {
		return false
	}
	s.num = -s.num
	return true
}
