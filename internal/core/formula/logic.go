package formula

import (
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// conversions are the functions from one type to another.
var conversions = []Function{
	{
		Name: "text", Family: "conversion", About: "A value as text in standard form.",
		Params: []Param{p("value", scalar)}, Result: known(value.Text),
		Call:     func(_ *Frame, a []value.Value) (value.Value, error) { return value.NewText(a[0].String()), nil },
		Examples: []Example{{`text(4.50)`, "4.50"}},
	},
	convert("integer", value.Integer, "A text or a number without fraction as a whole number.", `integer("0042")`, "42"),
	convert("decimal", value.Decimal, "A text or number as a decimal; the number of places is kept.", `decimal("1.50")`, "1.50"),
	convert("boolean", value.Boolean, "The text true or false as a boolean.", `boolean("true")`, "true"),
}

// logicFunctions are those that decide, on any value.
var logicFunctions = []Function{
	{
		Name: "coalesce", Family: "logic", About: "The first of several values that is neither absent nor null.",
		Params: []Param{p("value", nil)}, Variadic: true, Lenient: true, Result: coalesceType,
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			for _, v := range a {
				if !v.IsMissing() {
					return v, nil
				}
			}
			return value.Value{}, nil
		},
		Examples: []Example{{`coalesce(nil, 2, 3)`, "2"}},
	},
	lenient("isMissing", "Whether a value is absent or null.", func(v value.Value) bool { return v.IsMissing() }, ex(`isMissing(nil)`, "true")),
	lenient("isNull", "Whether a value is null, which is not absent.", func(v value.Value) bool { return v.Kind() == value.Null }, ex(`isNull(nil)`, "true"), ex(`isNull(first([]))`, "false")),
	lenient("isAbsent", "Whether a value is absent, which is not null.", func(v value.Value) bool { return v.Kind() == value.Absent }, ex(`isAbsent(first([]))`, "true"), ex(`isAbsent(nil)`, "false")),
	lenient("isEmpty", "Whether a value is absent, null, an empty text or an empty list.", func(v value.Value) bool {
		return v.IsMissing() || v.Kind() == value.Text && v.Text() == "" || v.Kind() == value.ListKind && len(v.Items()) == 0
	}, ex(`isEmpty("")`, "true"), ex(`isEmpty(" ")`, "false")),
	{
		Name: "ifEmpty", Family: "logic", About: "A value, or another one where it is absent, null, an empty text or an empty list.",
		Params: []Param{p("value", nil), p("other", nil)}, Lenient: true, Examples: []Example{{`ifEmpty("", "none")`, "none"}, {`ifEmpty("a", "none")`, "a"}},
		Result: func(a []Type) Type { t, _ := union(a[0], a[1]); t.Maybe = a[1].Maybe; return t },
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if v := a[0]; v.IsMissing() || v.Kind() == value.Text && v.Text() == "" || v.Kind() == value.ListKind && len(v.Items()) == 0 {
				return a[1], nil
			}
			return a[0], nil
		},
	},
	{
		Name: "nullIf", Family: "logic", About: "Null where a value equals another, else the value.",
		Params: []Param{p("value", nil), p("other", nil)}, Examples: []Example{{`isNull(nullIf("n/a", "n/a"))`, "true"}, {`nullIf("a", "n/a")`, "a"}},
		Result: func(a []Type) Type { t := same(a); t.Maybe = true; return t },
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if value.Equal(a[0], a[1]) {
				return value.NullValue, nil
			}
			return a[0], nil
		},
	},
	{
		Name: "mapValue", Family: "logic", About: "The value that stands behind an equal one in a row of pairs; a last one by itself is for all others, else the result is absent.",
		Params: []Param{p("value", nil), p("from", nil), p("to", nil)}, Variadic: true, Lenient: true, Examples: []Example{{`mapValue("R", "R", "rising", "F", "falling")`, "rising"}, {`mapValue("X", "R", "rising", "other")`, "other"}},
		Result: func(a []Type) Type {
			t := a[2]
			for i := 4; i < len(a); i += 2 {
				t, _ = union(t, a[i])
			}
			t.Maybe = true
			return t
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			for i := 1; i+1 < len(a); i += 2 {
				if value.Equal(a[0], a[i]) {
					return a[i+1], nil
				}
			}
			if len(a)%2 == 0 {
				return a[len(a)-1], nil
			}
			return value.Value{}, nil
		},
	},
	{
		Name: "typeOf", Family: "conversion", About: "The name of a value's type.", Params: []Param{p("value", nil)}, Lenient: true, Result: known(value.Text),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) { return str(a[0].Kind().String()) }, Examples: []Example{{`typeOf(1.50)`, "decimal"}, {`typeOf(nil)`, "null"}},
	},
}

// lenient makes a function that decides on any value, absent and null among them.
func lenient(name, about string, is func(value.Value) bool, examples ...Example) Function {
	return Function{
		Name: name, Family: "logic", About: about, Params: []Param{p("value", nil)}, Lenient: true, Result: known(value.Boolean), Examples: examples,
		Call: func(_ *Frame, a []value.Value) (value.Value, error) { return value.Bool(is(a[0])), nil },
	}
}

func convert(name string, kind value.Kind, about, ex, result string) Function {
	return Function{
		Name: name, Family: "conversion", About: about,
		Params: []Param{p("value", []value.Kind{value.Text, value.Decimal, value.Boolean})}, Result: known(kind),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			v, ok := converted(kind, a[0])
			if !ok {
				return v, fault.Expect(fault.Type, "a "+kind.String(), fault.Quote(a[0].String()))
			}
			return v, nil
		},
		Examples: []Example{{ex, result}},
	}
}

func converted(kind value.Kind, v value.Value) (value.Value, bool) {
	switch {
	case v.Kind() == kind:
		return v, true
	case v.Kind() == value.Text:
		return schema.ParseScalar(kind, strings.TrimSpace(v.Text()))
	case kind == value.Integer && v.Kind() == value.Decimal:
		return value.AsInteger(v)
	case kind == value.Decimal && v.Kind() == value.Integer:
		return value.AsDecimal(v), true
	}
	return value.Value{}, false
}

func coalesceType(a []Type) Type {
	t, maybe := a[0], true
	for _, b := range a {
		t, _ = union(t, b)
		maybe = maybe && b.Maybe
	}
	t.Maybe = maybe
	return t
}
