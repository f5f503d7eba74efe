package value

import (
	"math"
	"strings"
	"testing"
	"time"
	"unsafe"

	"github.com/stretchr/testify/require"
)

func dec(t testing.TB, s string) Value {
	t.Helper()
	v, ok := ParseDecimal(s)
	require.True(t, ok, s)
	return v
}

// TestPowersOfTenAreBounded: a number grows by multiplying until it is refused, both ways; it never turns into another.
func TestPowersOfTenAreBounded(t *testing.T) {
	for _, text := range []string{"1e300", "1e-300", "12345678901234567890e280", "-7e-250"} {
		v, ok := ParseDecimal(text)
		require.True(t, ok, text)
		var err error
		for n := 0; err == nil; n++ {
			require.Less(t, n, 5, text)
			require.LessOrEqual(t, len(v.String()), 4*MaxDigits, text)
			v, err = Mul(v, v)
		}
		require.ErrorIs(t, err, ErrTooLarge, text)
	}
	zero, err := Mul(NewDecimal(0, 900), NewDecimal(5, 900))
	for range 40 {
		require.NoError(t, err)
		require.Zero(t, Sign(zero))
		zero, err = Mul(zero, zero)
	}
	require.NoError(t, err)
	_, err = Shift(NewDecimal(1, MaxDigits), 2*MaxDigits)
	require.ErrorIs(t, err, ErrTooLarge)
}

func TestArithmeticIsExact(t *testing.T) {
	for _, c := range []struct {
		op         func(a, b Value) (Value, error)
		a, b, want string
	}{
		{Add, "0.1", "0.2", "0.3"},
		{Add, "9223372036854775807", "1", "9223372036854775808"},
		{Add, "-9223372036854775808", "-1", "-9223372036854775809"},
		{Add, "1e20", "0.00000000000000000001", "100000000000000000000.00000000000000000001"},
		{Sub, "412.5", "-31.0", "443.5"},
		{Sub, "0.3", "0.1", "0.2"},
		{Mul, "24.50", "12", "294.00"},
		{Mul, "123456789012345678", "987654321098765432", "121932631137021794322511812221002896"},
		{Mul, "-0.5", "0.5", "-0.25"},
		{Div, "1", "8", "0.125"},
		{Div, "1", "3", "0.3333333333333333333333333333333333"},
		{Div, "2", "3", "0.6666666666666666666666666666666667"},
		{Div, "100", "10", "10"},
		{Mod, "7", "-3", "1"},
		{Mod, "7.5", "2", "1.5"},
	} {
		got, err := c.op(dec(t, c.a), dec(t, c.b))
		require.NoError(t, err)
		require.Equal(t, c.want, got.String(), "%s, %s", c.a, c.b)
	}
	_, err := Div(Int(1), NewDecimal(0, -2))
	require.ErrorIs(t, err, ErrDivideByZero)
	_, err = Add(NewText("1"), Int(1))
	require.ErrorIs(t, err, ErrNotNumber)
	huge := dec(t, strings.Repeat("9", 900))
	_, err = Mul(huge, huge)
	require.ErrorIs(t, err, ErrTooLarge)
	_, err = Add(Number("1e999999999"), Int(1))
	require.ErrorIs(t, err, ErrTooLarge, "a literal that is only passed through is computed with")
	min, err := Neg(Int(math.MinInt64))
	require.NoError(t, err)
	require.Equal(t, "9223372036854775808", min.String())
}

func TestIntegersStayIntegers(t *testing.T) {
	sum, err := Add(Int(2), Int(3))
	require.NoError(t, err)
	require.Equal(t, Integer, sum.Kind())
	q, err := Div(Int(4), Int(2))
	require.NoError(t, err)
	require.Equal(t, Decimal, q.Kind())
	whole, ok := AsInteger(dec(t, "3.00"))
	require.True(t, ok)
	require.Equal(t, "3", whole.String())
	_, ok = AsInteger(dec(t, "3.01"))
	require.False(t, ok)
}

func TestLiteralsStayAsTheyAreWritten(t *testing.T) {
	for _, s := range []string{"0", "-0", "1.0", "1e3", "1E+2", "-12.500", "123456789012345678901234567890", "1e400", "0.1e-999999"} {
		require.Equal(t, s, Number(s).String())
	}
	require.True(t, Equal(Number("1.0"), Int(1)))
	require.True(t, Equal(Number("1e3"), Int(1000)))
}

func TestPlainDecimalText(t *testing.T) {
	for text, want := range map[string]string{
		"0.05": "0.05", "-0.5": "-0.5", "5": "5", "1e3": "1000", "1e-3": "0.001", "0.00": "0.00", "+7.10": "7.10", "-0.007": "-0.007",
	} {
		require.Equal(t, want, dec(t, text).String())
	}
	for _, bad := range []string{"", "-", ".", "1.", "1.x", "NaN", "Infinity", "1_000", "0x10", " 1", "1e99999"} {
		_, ok := ParseDecimal(bad)
		require.False(t, ok, bad)
	}
	for _, bad := range []string{"", "+", "1.0", "1e3", "٣"} {
		_, ok := ParseInteger(bad)
		require.False(t, ok, bad)
	}
	big, ok := ParseInteger("123456789012345678901234567890")
	require.True(t, ok)
	require.Equal(t, "123456789012345678901234567890", big.String())
}

func TestRounding(t *testing.T) {
	for mode, want := range map[Rounding][4]string{
		HalfEven: {"2", "4", "-2", "3"}, "half-up": {"3", "4", "-3", "3"}, "half-down": {"2", "3", "-2", "3"}, "up": {"3", "4", "-3", "3"},
		"down": {"2", "3", "-2", "2"}, "ceiling": {"3", "4", "-2", "3"}, "floor": {"2", "3", "-3", "2"},
	} {
		for i, in := range []string{"2.5", "3.5", "-2.5", "2.51"} {
			got, err := Round(dec(t, in), 0, mode)
			require.NoError(t, err)
			require.Equal(t, want[i], got.String(), "%s %s", mode, in)
		}
	}
	two, err := Round(Int(7), 2, HalfEven)
	require.NoError(t, err)
	require.Equal(t, "7.00", two.String())
}

// FuzzNumbers holds our small fast path against the large exact one.
func FuzzNumbers(f *testing.F) {
	f.Add(int64(412), int32(-1), int64(-31), int32(0))
	f.Add(int64(math.MaxInt64), int32(-18), int64(math.MinInt64), int32(3))
	f.Fuzz(func(t *testing.T, a int64, ea int32, b int64, eb int32) {
		x, y := NewDecimal(a, ea%20), NewDecimal(b, eb%20)
		bigX, bigY := Value{kind: Decimal, form: large, ref: unsafe.Pointer(x.apd())}, Value{kind: Decimal, form: large, ref: unsafe.Pointer(y.apd())}
		for _, op := range []func(a, b Value) (Value, error){Add, Sub, Mul} {
			small, err := op(x, y)
			require.NoError(t, err)
			large, err := op(bigX, bigY)
			require.NoError(t, err)
			require.True(t, Equal(small, large), "%s and %s", small, large)
			again, ok := ParseDecimal(small.String())
			require.True(t, ok, small.String())
			require.True(t, Equal(small, again))
		}
	})
}

func TestDatesAgreeWithTheStandardLibrary(t *testing.T) {
	day := time.Date(1, 1, 1, 0, 0, 0, 0, time.UTC)
	for day.Year() < 2500 {
		v := DateOf(day.Year(), int(day.Month()), day.Day())
		require.Equal(t, day.Format("2006-01-02"), v.String())
		require.Equal(t, day.Unix(), v.GoTime().Unix())
		y, m, d := v.Civil()
		require.Equal(t, []int{day.Year(), int(day.Month()), day.Day()}, []int{y, m, d})
		day = day.AddDate(0, 0, 97)
	}
}

func TestTemporalText(t *testing.T) {
	for _, s := range []string{"06:12:00", "23:59:59.5", "00:00:00.000000001"} {
		v, ok := ParseTime(s)
		require.True(t, ok)
		require.Equal(t, s, v.String())
	}
	for _, s := range []string{"2031-03-09T06:12:00Z", "2031-03-09T06:12:00.25+02:00", "0001-01-01T00:00:00Z", "1969-12-31T23:59:59.75Z"} {
		v, ok := ParseTimestamp(s)
		require.True(t, ok, s)
		require.Equal(t, s, v.String())
	}
	for _, bad := range []string{"2031-02-29", "2031-13-01", "31-01-01", "2031/01/01", "0000-01-01"} {
		_, ok := ParseDate(bad)
		require.False(t, ok, bad)
	}
	a, _ := ParseTimestamp("2031-03-09T06:12:00Z")
	b, _ := ParseTimestamp("2031-03-09T08:12:00+02:00")
	require.True(t, Equal(a, b), "one instant in two zones")
}

func TestAbsentIsNotNullIsNotEmpty(t *testing.T) {
	shape := NewLayout("a", "b")
	require.False(t, Equal(Value{}, NullValue))
	require.False(t, Equal(NullValue, NewText("")))
	require.True(t, Equal(NewRecord(shape, []Value{Int(1), {}}), NewRecord(NewLayout("a"), []Value{Int(1)})))
	require.False(t, Equal(NewRecord(shape, []Value{Int(1), NullValue}), NewRecord(NewLayout("a"), []Value{Int(1)})))
	require.True(t, Equal(ListOf(Int(1), NewDecimal(20, -1)), ListOf(NewDecimal(10, -1), Int(2))))
	_, err := Compare(NewText("1"), Int(1))
	require.ErrorIs(t, err, ErrNotComparable)
}
