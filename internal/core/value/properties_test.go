package value

import (
	"fmt"
	"math"
	mathbig "math/big"
	"math/rand/v2"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// anyNumber makes numbers of all forms: small, beyond 64 bits, and known by their text only.
func anyNumber(r *rand.Rand) Value {
	digits := make([]byte, 1+r.IntN(30))
	for i := range digits {
		digits[i] = byte('0' + r.IntN(10))
	}
	s := string(digits)
	if r.IntN(2) == 0 {
		at := r.IntN(len(s) + 1)
		s = s[:at] + "." + s[at:] + "0"
	}
	if strings.HasPrefix(s, ".") {
		s = "0" + s
	}
	if r.IntN(2) == 0 {
		s = "-" + s
	}
	if r.IntN(4) == 0 {
		return Number(s)
	}
	v, ok := ParseDecimal(s)
	if !ok {
		panic(s)
	}
	return v
}

// rat is a number as an exact fraction.
func rat(t *testing.T, v Value) *mathbig.Rat {
	t.Helper()
	x, ok := new(mathbig.Rat).SetString(v.String())
	require.True(t, ok, v.String())
	return x
}

// TestArithmeticAgreesWithFractions: whatever form a number has, sums, differences, products and remainders are exact, a
// quotient is within its digits, and order, sign and equality are those of the numbers.
func TestArithmeticAgreesWithFractions(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 3000 {
		a, b := anyNumber(r), anyNumber(r)
		x, y := rat(t, a), rat(t, b)
		about := fmt.Sprintf("%s and %s", a, b)
		for name, op := range map[string]struct {
			ours  func(a, b Value) (Value, error)
			exact *mathbig.Rat
		}{
			"sum": {Add, new(mathbig.Rat).Add(x, y)}, "difference": {Sub, new(mathbig.Rat).Sub(x, y)}, "product": {Mul, new(mathbig.Rat).Mul(x, y)},
		} {
			got, err := op.ours(a, b)
			require.NoError(t, err, about)
			require.Zero(t, rat(t, got).Cmp(op.exact), "%s of %s is %s", name, about, got)
		}
		c, err := Compare(a, b)
		require.NoError(t, err)
		require.Equal(t, x.Cmp(y), c, about)
		require.Equal(t, x.Cmp(y) == 0, Equal(a, b), about)
		require.Equal(t, x.Sign(), Sign(a), about)
		neg, err := Neg(a)
		require.NoError(t, err)
		require.Zero(t, rat(t, neg).Cmp(new(mathbig.Rat).Neg(x)), about)
		abs, err := Abs(a)
		require.NoError(t, err)
		require.Zero(t, rat(t, abs).Cmp(new(mathbig.Rat).Abs(x)), about)
		if y.Sign() == 0 {
			continue
		}
		q, err := Div(a, b)
		require.NoError(t, err, about)
		exact := new(mathbig.Rat).Quo(x, y)
		off := new(mathbig.Rat).Sub(rat(t, q), exact)
		most := new(mathbig.Rat).Abs(exact)
		most.Quo(most, new(mathbig.Rat).SetInt(new(mathbig.Int).Exp(mathbig.NewInt(10), mathbig.NewInt(DivisionDigits-1), nil)))
		require.True(t, new(mathbig.Rat).Abs(off).Cmp(most) <= 0, "%s is %s", about, q)
		m, err := Mod(a, b)
		require.NoError(t, err, about)
		whole := new(mathbig.Int).Quo(new(mathbig.Int).Mul(x.Num(), y.Denom()), new(mathbig.Int).Mul(x.Denom(), y.Num())) // towards zero
		rest := new(mathbig.Rat).Sub(x, new(mathbig.Rat).Mul(y, new(mathbig.Rat).SetInt(whole)))
		require.Zero(t, rat(t, m).Cmp(rest), "remainder of %s is %s", about, m)
	}
}

// TestRoundingAgreesWithFractions: to so many places, by each mode; what is left is less than a unit of the last place, and
// as text it has exactly those places.
func TestRoundingAgreesWithFractions(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 4))
	for range 1500 {
		a, places := anyNumber(r), int32(r.IntN(6))
		x := rat(t, a)
		unit := new(mathbig.Rat).SetFrac(mathbig.NewInt(1), new(mathbig.Int).Exp(mathbig.NewInt(10), mathbig.NewInt(int64(places)), nil))
		for mode := range roundings {
			require.True(t, mode.Known())
			got, err := Round(a, places, mode)
			require.NoError(t, err)
			if places == 0 {
				require.Equal(t, Integer, got.Kind())
				_, ok := AsInteger(got)
				require.True(t, ok)
			}
			_, after, _ := strings.Cut(got.String(), ".")
			require.Len(t, after, int(places), "%s to %d places is %s", a, places, got)
			require.LessOrEqual(t, Scale(got), int(places))
			off := new(mathbig.Rat).Sub(rat(t, got), x)
			require.Negative(t, new(mathbig.Rat).Abs(off).Cmp(unit), "%s of %s", mode, a)
			switch mode {
			case "ceiling":
				require.GreaterOrEqual(t, off.Sign(), 0, "%s", a)
			case "floor":
				require.LessOrEqual(t, off.Sign(), 0, "%s", a)
			case "up":
				require.GreaterOrEqual(t, off.Sign()*x.Sign(), 0, "%s", a)
			case "down":
				require.LessOrEqual(t, off.Sign()*x.Sign(), 0, "%s", a)
			default:
				twice := new(mathbig.Rat).Mul(new(mathbig.Rat).Abs(off), mathbig.NewRat(2, 1))
				require.LessOrEqual(t, twice.Cmp(unit), 0, "%s of %s", mode, a)
			}
		}
	}
	require.False(t, Rounding("sideways").Known())
	_, err := Round(NewText("1"), 0, HalfEven)
	require.ErrorIs(t, err, ErrNotNumber)
}

// TestKeysAreEqualWhereValuesAre: two scalars have one key just when they are equal.
func TestKeysAreEqualWhereValuesAre(t *testing.T) {
	oslo := time.FixedZone("", 3600)
	at := time.Date(2031, 3, 9, 7, 0, 0, 5, time.UTC)
	list := []Value{
		{},
		NullValue, Bool(true), Bool(false), Int(1), NewDecimal(10, -1), NewDecimal(1000, -3), Number("1.0"), Number("01"), Int(0), NewDecimal(0, -4), Number("-0"), Int(-1), NewText("1"), NewText(""), NewText("true"), Bytes("1"), Bytes(""),
		DateOf(2031, 3, 9), TimeOf(7, 0, 0, 0), Instant(at), Instant(at.In(oslo)), Instant(at.Add(1)), NewDecimal(123, 2), Int(12300), Number("1e2"), Int(100),
	}
	for i, a := range list {
		ka, ok := Key(a)
		require.True(t, ok)
		for _, b := range list[i:] {
			kb, _ := Key(b)
			require.Equal(t, Equal(a, b), ka == kb, "%s %s and %s %s: %q, %q", a.Kind(), a, b.Kind(), b, ka, kb)
		}
	}
	for _, v := range []Value{ListOf(), NewRecord(NewLayout(), nil)} {
		_, ok := Key(v)
		require.False(t, ok)
	}
	for text, want := range map[string]string{"1.50": "1.5", "1.00": "1", "100": "100", "0.0": "0", "10.010": "10.01"} {
		require.Equal(t, want, plainNumber(text))
	}
}

// TestOrderIsTotalWithinAKind: antisymmetric, transitive, and none between kinds.
func TestOrderIsTotalWithinAKind(t *testing.T) {
	for _, sorted := range [][]Value{
		{Bool(false), Bool(true)},
		{NewText(""), NewText("A"), NewText("B"), NewText("a"), NewText("ab"), NewText("ß"), NewText("世")},
		{Bytes("\x00"), Bytes("\x00\x01"), Bytes("\xff")},
		{Number("-1e30"), Int(math.MinInt64), Int(-1), NewDecimal(-5, -1), Int(0), NewDecimal(1, -30), NewDecimal(5, -1), Int(1), Number("9223372036854775808")},
		{DateOf(-44, 3, 15), DateOf(1969, 12, 31), DateOf(1970, 1, 1), DateOf(2031, 2, 28), DateOf(9999, 12, 31)},
		{TimeOf(0, 0, 0, 0), TimeOf(0, 0, 0, 1), TimeOf(23, 59, 59, 999999999)},
		{Instant(time.Unix(-1, 999)), Instant(time.Unix(0, 0)), Instant(time.Unix(0, 1)), Instant(time.Unix(1, 0))},
	} {
		for i, a := range sorted {
			for j, b := range sorted {
				c, err := Compare(a, b)
				require.NoError(t, err)
				require.Equal(t, order(int64(i), int64(j)), c, "%s and %s", a, b)
			}
		}
	}
	for _, pair := range [][2]Value{{NewText("1"), Int(1)}, {NullValue, NullValue}, {ListOf(), ListOf()}, {NewText("x"), Bytes("x")}, {DateOf(2031, 1, 1), Instant(time.Unix(0, 0))}} {
		_, err := Compare(pair[0], pair[1])
		require.ErrorIs(t, err, ErrNotComparable)
	}
}

// TestRecordsAndListsAreEqualByWhatTheyHold: absent fields do not count, null ones do, and the order of fields does not matter.
func TestRecordsAndListsAreEqualByWhatTheyHold(t *testing.T) {
	ab, ba, long := NewLayout("a", "b"), NewLayout("b", "a", "c"), NewLayout("h", "g", "f", "e", "d", "c", "b", "a", "i")
	one := NewRecord(ab, []Value{Int(1), ListOf(NewText("x"), NewRecord(ab, []Value{Int(2), {}}))})
	two := NewRecord(ba, []Value{ListOf(NewText("x"), NewRecord(ba, []Value{{}, NewDecimal(20, -1), {}})), Int(1), {}})
	require.True(t, Equal(one, two))
	require.True(t, Equal(two, one))
	require.False(t, Equal(one, NewRecord(ba, []Value{two.Slot(0), Int(1), NullValue})), "null is something")
	require.False(t, Equal(one, NewRecord(ab, []Value{Int(1), {}})))
	require.False(t, Equal(one, ListOf(one)))
	require.False(t, Equal(ListOf(Int(1), Int(2)), ListOf(Int(2), Int(1))))
	require.False(t, Equal(ListOf(Int(1)), ListOf(Int(1), Int(1))))
	require.True(t, SameList(one.Field("b"), one.Field("b")))
	require.False(t, SameList(one.Field("b"), two.Field("b")))

	values := make([]Value, 9)
	for i := range values {
		values[i] = Int(int64(i))
	}
	wide := NewRecord(long, values)
	for i, name := range long.Names {
		require.Equal(t, i, long.Slot(name))
		require.True(t, Equal(Int(int64(i)), wide.Field(name)))
		require.True(t, Equal(wide.Field(name), wide.Slot(i)))
	}
	require.Equal(t, -1, long.Slot("z"))
	require.Equal(t, -1, ab.Slot("z"))
	for _, none := range []Value{wide.Field("z"), wide.Slot(9), Int(1).Field("a"), Int(1).Slot(0)} {
		require.Equal(t, Absent, none.Kind())
	}
	require.Nil(t, Int(1).Items())
	require.Nil(t, Int(1).Record())
	require.Empty(t, Int(1).Text())
	require.True(t, Equal(wide, RecordOf(wide.Record())))
}

// TestKindsHaveNames: all that parts can name are found by their name, absent is none that a field can have.
func TestKindsHaveNames(t *testing.T) {
	for k := Null; k <= AnyKind; k++ {
		found, ok := KindNamed(k.String())
		require.True(t, ok, k)
		require.Equal(t, k, found)
		require.Equal(t, k == Integer || k == Decimal, k.Numeric())
	}
	for _, name := range []string{"absent", "", "Integer"} {
		_, ok := KindNamed(name)
		require.False(t, ok, name)
	}
	for v, want := range map[*Value]int64{ptr(Int(-7)): -7, ptr(Bool(true)): 1, ptr(DateOf(1970, 1, 2)): 1, ptr(TimeOf(0, 0, 1, 0)): 1e9} {
		n, ok := v.Int64()
		require.True(t, ok)
		require.Equal(t, want, n)
	}
	large, _ := ParseInteger("9223372036854775808")
	for _, v := range []Value{large, NewText("1"), NewDecimal(1, 0), {}} {
		_, ok := v.Int64()
		require.False(t, ok, v.Kind())
	}
	require.False(t, Int(1).IsTrue(), "a number is not true")
	require.True(t, Bool(true).IsTrue())
}

func ptr(v Value) *Value { return &v }

// TestNumbersAreMeasured: digits and places, also of those that are only known by their text; what is no number is refused.
func TestNumbersAreMeasured(t *testing.T) {
	for text, want := range map[string][2]int{"0": {1, 0}, "1.50": {3, 2}, "-12345678901234567890.5": {21, 1}, "0.001": {1, 3}, "1e3": {1, 0}} {
		v := Number(text)
		require.Equal(t, want[0], Digits(v), text)
		require.Equal(t, want[1], Scale(v), text)
	}
	require.Equal(t, math.MaxInt32, Digits(Number("1e999999999")))
	require.Equal(t, math.MaxInt32, Scale(Number("1e999999999")))
	require.Equal(t, 1, Sign(Number("1e999999999")))
	require.Equal(t, -1, Sign(Number("-1e999999999")))
	for _, bad := range []string{"", "+", "-", ".", "1.", "1.2.3", "1,5", "0x10", " 1", "1 ", "١", "NaN", "Infinity", "1_000"} {
		_, ok := ParseDecimal(bad)
		require.False(t, ok, bad)
		_, ok = ParseInteger(bad)
		require.False(t, ok, bad)
	}
	for _, bad := range []string{"1.0", "1e2"} {
		_, ok := ParseInteger(bad)
		require.False(t, ok, bad)
	}
	shifted, err := Shift(Int(1234), -2)
	require.NoError(t, err)
	require.Equal(t, "12.34", shifted.String())
	large, _ := ParseInteger("123456789012345678901234567890")
	shifted, err = Shift(large, -10)
	require.NoError(t, err)
	require.Equal(t, "12345678901234567890.1234567890", shifted.String())
	_, err = Neg(NewText("x"))
	require.ErrorIs(t, err, ErrNotNumber)
	whole, ok := AsInteger(NewDecimal(700, -2))
	require.True(t, ok)
	require.Equal(t, Integer, whole.Kind())
	require.Equal(t, "7", whole.String())
	_, ok = AsInteger(NewDecimal(705, -2))
	require.False(t, ok)
	require.Equal(t, Decimal, AsDecimal(Int(1)).Kind())
}

// TestTextIsReadBackAsTheSame: dates, times and timestamps of any year and zone.
func TestTextIsReadBackAsTheSame(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	for range 2000 {
		at := time.Unix(r.Int64N(250_000_000_000)-60_000_000_000, r.Int64N(1e9)).UTC()
		if r.IntN(2) == 0 {
			at = at.In(time.FixedZone("", (r.IntN(27)-13)*3600+r.IntN(4)*900))
		}
		v := Instant(at)
		again, ok := ParseTimestamp(v.String())
		require.True(t, ok, v.String())
		require.True(t, Equal(v, again), v.String())
		require.True(t, at.Equal(again.GoTime()))
		date := DateOf(at.Year(), int(at.Month()), at.Day())
		back, ok := ParseDate(date.String())
		require.True(t, ok, date.String())
		require.True(t, Equal(date, back))
		require.Equal(t, at.Format(time.DateOnly), date.GoTime().Format(time.DateOnly))
		clock := TimeOf(at.Hour(), at.Minute(), at.Second(), at.Nanosecond())
		tick, ok := ParseTime(clock.String())
		require.True(t, ok, clock.String())
		require.True(t, Equal(clock, tick))
		joined := At(date, clock).GoTime()
		require.Equal(t, at.Format("2006-01-02T15:04:05.999999999"), joined.Format("2006-01-02T15:04:05.999999999"))
	}
	n, err := strconv.Atoi(DateOf(2031, 3, 9).String()[:4])
	require.NoError(t, err)
	require.Equal(t, 2031, n)
}
