package formula

import (
	"math/big"
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

var oneNumber = []Param{p("number", number)}

// numberFunctions are those on numbers.
var numberFunctions = []Function{
	{
		Name: "round", Family: "numbers", About: "A number rounded to decimal places (none unless stated), half to even unless a mode is named: half-even, half-up, half-down, up, down, ceiling, floor.",
		Params: []Param{p("number", number), opt("places", whole), opt("mode", textKind)}, Result: roundType, Call: round,
		Examples: []Example{{`round(2.5)`, "2"}, {`round(2.345, 2, "half-up")`, "2.35"}, {`round(7, 2)`, "7.00"}},
	},
	{
		Name: "abs", Family: "numbers", About: "A number without its sign.",
		Params: []Param{p("number", number)}, Result: same,
		Call:     func(_ *Frame, a []value.Value) (value.Value, error) { return value.Abs(a[0]) },
		Examples: []Example{{`abs(-3.5)`, "3.5"}},
	},
	extreme("min", "The least of several values, or of a list; absent for a list without items.", -1, ex(`min(3, 1, 2)`, "1"), ex(`min([3, 1, 2])`, "1")),
	extreme("max", "The greatest of several values, or of a list; absent for a list without items.", 1, ex(`max(3, 1, 2)`, "3"), ex(`max([3, 1, 2])`, "3")),
	rounding("ceiling", "The least whole number that is not below a number.", "ceiling", ex(`ceiling(2.1)`, "3"), ex(`ceiling(-2.1)`, "-2")),
	rounding("floor", "The greatest whole number that is not above a number.", "floor", ex(`floor(2.9)`, "2"), ex(`floor(-2.1)`, "-3")),
	rounding("trunc", "A number without its fraction.", "down", ex(`trunc(-2.9)`, "-2")),
	pure("sign", "numbers", "-1, 0 or 1, as a number is negative, zero or positive.", oneNumber, value.Integer, func(a []value.Value) (value.Value, error) {
		return value.Int(int64(value.Sign(a[0]))), nil
	}, ex(`sign(-3.5)`, "-1")),
	pure("power", "numbers", "A number to the power of a whole number from 0 to 1000.", []Param{p("number", number), p("exponent", whole)}, value.Decimal, power, ex(`power(1.1, 2)`, "1.21"), ex(`power(2, 10)`, "1024")),
	pure("mod", "numbers", "What a division leaves, with the sign of the dividend.", []Param{p("dividend", number), p("divisor", number)}, value.Decimal, func(a []value.Value) (value.Value, error) { return value.Mod(a[0], a[1]) }, ex(`mod(7.5, 2)`, "1.5"), ex(`mod(-7, 2)`, "-1")),
	pure("div", "numbers", "How often one number goes into another as a whole.", []Param{p("dividend", number), p("divisor", number)}, value.Integer, func(a []value.Value) (value.Value, error) {
		rest, err := value.Mod(a[0], a[1])
		if err != nil {
			return rest, err
		}
		even, err := value.Sub(a[0], rest)
		if err != nil {
			return even, err
		}
		q, err := value.Div(even, a[1])
		if err != nil {
			return q, err
		}
		n, ok := value.AsInteger(q)
		if !ok {
			return n, fault.Expect(fault.Arithmetic, "a quotient of at most 34 digits", q.String())
		}
		return n, nil
	}, ex(`div(7.5, 2)`, "3"), ex(`div(-7, 2)`, "-3")),
	pure("clamp", "numbers", "A number, but not below a least nor above a greatest one.", []Param{p("number", number), p("least", number), p("greatest", number)}, value.Decimal, func(a []value.Value) (value.Value, error) {
		if c, err := value.Compare(a[0], a[1]); err != nil || c < 0 {
			return a[1], err
		}
		if c, err := value.Compare(a[0], a[2]); err != nil || c > 0 {
			return a[2], err
		}
		return a[0], nil
	}, ex(`clamp(12, 0, 9.5)`, "9.5"), ex(`clamp(-1, 0, 9)`, "0")),
	pure("isEven", "numbers", "Whether a whole number is even.", []Param{p("number", whole)}, value.Boolean, func(a []value.Value) (value.Value, error) {
		rest, err := value.Mod(a[0], value.Int(2))
		return value.Bool(value.Sign(rest) == 0), err
	}, ex(`isEven(4)`, "true")),
	pure("isOdd", "numbers", "Whether a whole number is odd.", []Param{p("number", whole)}, value.Boolean, func(a []value.Value) (value.Value, error) {
		rest, err := value.Mod(a[0], value.Int(2))
		return value.Bool(value.Sign(rest) != 0), err
	}, ex(`isOdd(-3)`, "true")),
	pure("decimalPlaces", "numbers", "How many decimal places a number has.", oneNumber, value.Integer, func(a []value.Value) (value.Value, error) { return value.Int(int64(value.Scale(a[0]))), nil }, ex(`decimalPlaces(1.50)`, "2")),
	pure("gcd", "numbers", "The greatest whole number that divides two others.", []Param{p("a", whole), p("b", whole)}, value.Integer, func(a []value.Value) (value.Value, error) {
		x, okx := a[0].Int64()
		y, oky := a[1].Int64()
		if !okx || !oky {
			return value.Value{}, fault.New(fault.Range, "the numbers have more than 18 digits")
		}
		return value.Number(new(big.Int).GCD(nil, nil, new(big.Int).Abs(big.NewInt(x)), new(big.Int).Abs(big.NewInt(y))).String()), nil
	}, ex(`gcd(12, -18)`, "6")),
	pure("average", "numbers", "The mean of a list's numbers, exact to 34 digits; absent when there is none.", []Param{p("list", listKind)}, value.Decimal, average, ex(`average([1, 2, 4.5])`, "2.5")),
	pure("median", "numbers", "The number in the middle of a list's numbers; between two, their mean.", []Param{p("list", listKind)}, value.Decimal, median, ex(`median([9, 1, 5])`, "5"), ex(`median([1, 2])`, "1.5")),
	pure("product", "numbers", "The product of a list's numbers.", []Param{p("list", listKind)}, value.Decimal, func(a []value.Value) (value.Value, error) {
		total := value.Int(1)
		for _, v := range a[0].Items() {
			var err error
			if total, err = value.Mul(total, v); err != nil {
				return total, err
			}
		}
		return total, nil
	}, ex(`product([2, 3, 0.5])`, "3.0")),
	pure("formatNumber", "numbers", "A number as text with decimal places, a sign between groups of three digits and one before the places.", []Param{p("number", number), p("places", whole), opt("group", textKind), opt("point", textKind)}, value.Text, formatNumber, ex(`formatNumber(1234567.5, 2)`, "1,234,567.50"), ex(`formatNumber(-1234.5, 1, ".", ",")`, "-1.234,5"), ex(`formatNumber(12, 0)`, "12")),
	pure("parseNumber", "numbers", "A number from a text with signs between groups of digits and before the places.", []Param{p("text", textKind), opt("group", textKind), opt("point", textKind)}, value.Decimal, parseNumber, ex(`parseNumber("1.234,50", ".", ",")`, "1234.50"), ex(`parseNumber("1,234")`, "1234")),
	pure("toBase", "numbers", "A whole number as text in a base from 2 to 36.", []Param{p("number", whole), p("base", whole)}, value.Text, func(a []value.Value) (value.Value, error) {
		base, err := baseOf(a[1])
		n, ok := new(big.Int).SetString(a[0].String(), 10)
		if err != nil || !ok {
			return value.Value{}, err
		}
		return str(n.Text(base))
	}, ex(`toBase(255, 16)`, "ff")),
	pure("fromBase", "numbers", "A whole number from its text in a base from 2 to 36.", []Param{p("text", textKind), p("base", whole)}, value.Integer, func(a []value.Value) (value.Value, error) {
		base, err := baseOf(a[1])
		if err != nil {
			return value.Value{}, err
		}
		if len(a[0].Text()) > maxDigits {
			return value.Value{}, fault.New(fault.Limit, "the number has more than %d digits", maxDigits)
		}
		n, ok := new(big.Int).SetString(strings.TrimSpace(a[0].Text()), base)
		if !ok {
			return value.Value{}, fault.Expect(fault.Type, "digits of base "+a[1].String(), fault.Quote(a[0].Text()))
		}
		return value.Number(n.String()), nil
	}, ex(`fromBase("FF", 16)`, "255")),
}

// rounding makes a function that rounds to a whole number in one way.
func rounding(name, about string, mode value.Rounding, examples ...Example) Function {
	return pure(name, "numbers", about, oneNumber, value.Integer, func(a []value.Value) (value.Value, error) {
		v, err := value.Round(a[0], 0, mode)
		if err != nil {
			return v, err
		}
		n, ok := value.AsInteger(v)
		if !ok {
			return v, fault.Expect(fault.Arithmetic, "a whole number", v.String())
		}
		return n, nil
	}, examples...)
}

// maxDigits bounds a number that is read in another base.
const maxDigits = 1000

func baseOf(v value.Value) (int, error) {
	n, ok := v.Int64()
	if !ok || n < 2 || n > 36 {
		return 0, fault.Expect(fault.Range, "a base from 2 to 36", v.String())
	}
	return int(n), nil
}

func power(a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	if !ok || n < 0 || n > 1000 {
		return value.Value{}, fault.Expect(fault.Range, "an exponent from 0 to 1000", a[1].String())
	}
	total := value.Int(1)
	for range n {
		var err error
		if total, err = value.Mul(total, a[0]); err != nil {
			return total, err
		}
	}
	return total, nil
}

// numbers are the numbers of a list, without what is absent or null.
func numbers(list value.Value) ([]value.Value, error) {
	var out []value.Value
	for _, v := range list.Items() {
		switch {
		case v.IsMissing():
		case v.Kind().Numeric():
			out = append(out, v)
		default:
			return nil, fault.Expect(fault.Type, "a list of numbers", v.Kind().String())
		}
	}
	return out, nil
}

func average(a []value.Value) (value.Value, error) {
	list, err := numbers(a[0])
	if err != nil || len(list) == 0 {
		return value.Value{}, err
	}
	total := value.Int(0)
	for _, v := range list {
		if total, err = value.Add(total, v); err != nil {
			return total, err
		}
	}
	return value.Div(total, value.Int(int64(len(list))))
}

func median(a []value.Value) (value.Value, error) {
	list, err := numbers(a[0])
	if err != nil || len(list) == 0 {
		return value.Value{}, err
	}
	slices.SortFunc(list, func(x, y value.Value) int {
		c, _ := value.Compare(x, y) // numbers can be compared
		return c
	})
	middle := len(list) / 2
	if len(list)%2 == 1 {
		return list[middle], nil
	}
	return average([]value.Value{value.ListOf(list[middle-1 : middle+1]...)})
}

func formatNumber(a []value.Value) (value.Value, error) {
	group, point := ",", "."
	if len(a) > 2 {
		group = a[2].Text()
	}
	if len(a) > 3 {
		point = a[3].Text()
	}
	v, err := round(nil, a[:2])
	if err != nil {
		return v, err
	}
	text, sign := v.String(), ""
	if strings.HasPrefix(text, "-") {
		text, sign = text[1:], "-"
	}
	digits, fraction, some := strings.Cut(text, ".")
	var b strings.Builder
	for i, d := range digits {
		if i > 0 && (len(digits)-i)%3 == 0 {
			b.WriteString(group)
		}
		b.WriteRune(d)
	}
	if some {
		b.WriteString(point + fraction)
	}
	return str(sign + b.String())
}

func parseNumber(a []value.Value) (value.Value, error) {
	group, point := ",", "."
	if len(a) > 1 {
		group = a[1].Text()
	}
	if len(a) > 2 {
		point = a[2].Text()
	}
	text := strings.TrimSpace(a[0].Text())
	if group != "" {
		text = strings.ReplaceAll(text, group, "")
	}
	if point != "." && point != "" {
		text = strings.Replace(text, point, ".", 1)
	}
	v, ok := value.ParseDecimal(text)
	if !ok {
		return v, fault.Expect(fault.Type, "a number", fault.Quote(a[0].Text()))
	}
	return v, nil
}

func roundType(a []Type) Type {
	if len(a) == 1 {
		return Type{Kind: value.Integer}
	}
	return Type{Kind: value.Decimal}
}

func round(_ *Frame, a []value.Value) (value.Value, error) {
	places, mode := int64(0), value.HalfEven
	if len(a) > 1 {
		places, _ = a[1].Int64()
	}
	if len(a) > 2 {
		mode = value.Rounding(a[2].Text())
	}
	if !mode.Known() {
		return value.Value{}, fault.Expect(fault.Range, "half-even, half-up, half-down, up, down, ceiling or floor", fault.Quote(string(mode)))
	}
	if places < 0 || places > 100 {
		return value.Value{}, fault.Expect(fault.Range, "0 to 100 places", strconv.FormatInt(places, 10))
	}
	v, err := value.Round(a[0], int32(places), mode)
	if len(a) > 1 {
		v = value.AsDecimal(v)
	}
	return v, err
}

func extreme(name, about string, sign int, examples ...Example) Function {
	return Function{
		Name: name, Family: "numbers", About: about, Params: []Param{p("value", scalarOrList)}, Variadic: true,
		Result: func(a []Type) Type {
			if len(a) == 1 && a[0].is(value.ListKind) {
				return itemOf(a)
			}
			t := a[0]
			for _, b := range a[1:] {
				t, _ = union(t, b)
			}
			t.Maybe = false
			return t
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if len(a) == 1 && a[0].Kind() == value.ListKind {
				a = a[0].Items()
			}
			return extremeOf(a, sign)
		},
		Examples: examples,
	}
}

// extremeOf is the value that compares to all others with a sign; items of a list that are missing do not count.
func extremeOf(list []value.Value, sign int) (best value.Value, err error) {
	for _, v := range list {
		if v.IsMissing() {
			continue
		}
		if best.IsMissing() {
			best = v
			continue
		}
		c, err := value.Compare(v, best)
		if err != nil {
			return value.Value{}, err
		}
		if c == sign {
			best = v
		}
	}
	return best, nil
}
