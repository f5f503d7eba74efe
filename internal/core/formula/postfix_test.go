package formula

import (
	"math"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// TestPlainArithmeticIsExact, on numbers of all sizes and scales: the values and their scale are those of the operations one by one.
func TestPlainArithmeticIsExact(t *testing.T) {
	random := rand.New(rand.NewPCG(9, 10))
	number := func(whole bool) value.Value {
		n := []int64{0, 1, -1, 7, -250, 1_000_000_007, math.MaxInt64, math.MinInt64, math.MinInt64 + 1}[random.IntN(9)]
		switch {
		case whole:
			return value.Int(n)
		case random.IntN(10) == 0:
			return value.Number("12345678901234567890.5")
		}
		return value.NewDecimal(n, int32(random.IntN(40)-20))
	}
	do := func(op func(a, b value.Value) (value.Value, error)) func(a, b value.Value) value.Value {
		return func(a, b value.Value) value.Value {
			v, err := op(a, b)
			require.NoError(t, err)
			return v
		}
	}
	add, sub, mul := do(value.Add), do(value.Sub), do(value.Mul)
	two, half := value.Int(2), value.NewDecimal(150, -2)
	for source, want := range map[string]func(a, b, c value.Value) value.Value{
		"a + b":                       add3(add),
		"a * b - c":                   func(a, b, c value.Value) value.Value { return sub(mul(a, b), c) },
		"b * b - b":                   func(_, b, _ value.Value) value.Value { return sub(mul(b, b), b) },
		"a * (1 - c)":                 func(a, _, c value.Value) value.Value { return mul(a, sub(value.Int(1), c)) },
		"(a - b) * (b - c) * (c - a)": func(a, b, c value.Value) value.Value { return mul(mul(sub(a, b), sub(b, c)), sub(c, a)) },
		"1.50 * a + b * 2 - c":        func(a, b, c value.Value) value.Value { return sub(add(mul(half, a), mul(b, two)), c) },
		"0 - b":                       func(_, b, _ value.Value) value.Value { return sub(value.Int(0), b) },
	} {
		scope, fr := abc()
		p, faults := Compile(source, scope)
		require.Empty(t, faults, source)
		for range 2_000 {
			a, b, c := number(false), number(true), number(false)
			fr.Slots[0] = value.NewRecord(fr.Slots[0].Record().Layout, []value.Value{a, b, c, {}})
			got, ft := p.Eval(fr)
			require.Nil(t, ft, source)
			w := want(a, b, c)
			require.Equal(t, w.Kind(), got.Kind(), "%s of %s, %s, %s", source, a, b, c)
			require.Equal(t, w.String(), got.String(), "%s of %s, %s, %s", source, a, b, c)
		}
		fr.Slots[0] = value.NewRecord(fr.Slots[0].Record().Layout, []value.Value{number(false), {}, {}, {}})
		got, ft := p.Eval(fr)
		require.Nil(t, ft, source)
		require.True(t, got.IsMissing(), "%s with nothing there", source)
	}
}

// abc is the fields a, b and c of a record that is open, and a frame for it.
func abc() (*Scope, *Frame) {
	f := schema.Record("r", schema.Scalar("a", value.Decimal), schema.Scalar("b", value.Integer), schema.Scalar("c", value.Decimal), schema.Scalar("d", value.Text)).Compiled()
	sc := NewScope()
	sc.Define("r", Type{Kind: value.RecordKind, Fields: f})
	sc.Open("r")
	return sc, &Frame{Slots: []value.Value{value.NewRecord(f.Layout(), make([]value.Value, 4))}}
}

func add3(add func(a, b value.Value) value.Value) func(a, b, c value.Value) value.Value {
	return func(a, b, _ value.Value) value.Value { return add(a, b) }
}
