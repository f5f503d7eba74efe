package formula

import (
	"slices"
	"strconv"

	"hollowreed/internal/core/value"
)

// Kinds that parameters take.
var (
	textKind = []value.Kind{value.Text}
	number   = []value.Kind{value.Decimal}
	whole    = []value.Kind{value.Integer}
	listKind = []value.Kind{value.ListKind}
	dateish  = []value.Kind{value.Date, value.Timestamp, value.LocalTimestamp}
	timish   = []value.Kind{value.Time, value.Timestamp, value.LocalTimestamp, value.ZonedTime}
	temporal = []value.Kind{value.Date, value.Time, value.Timestamp, value.LocalTimestamp}
	scalar   = []value.Kind{
		value.Text, value.Decimal, value.Boolean, value.Date, value.Time, value.Timestamp,
		value.LocalTimestamp, value.ZonedTime, value.Duration, value.YearMonth,
	}

	scalarOrList = slices.Concat(scalar, listKind)
)

func p(name string, kinds []value.Kind) Param { return Param{Name: name, Kinds: kinds} }

func opt(name string, kinds []value.Kind) Param {
	return Param{Name: name, Kinds: kinds, Optional: true}
}

// Catalogue is the table of all functions, family by family.
var Catalogue = slices.Concat(textFunctions, conversions, numberFunctions, dateFunctions, listFunctions, logicFunctions, encodings, identifiers, recordFunctions, messageFunctions, tableFunctions)

func same(a []Type) Type { return Type{Kind: a[0].Kind, Fields: a[0].Fields, Item: a[0].Item} }

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// pure makes a function that needs nothing but its arguments.
func pure(name, family, about string, params []Param, result value.Kind, call func(a []value.Value) (value.Value, error), examples ...Example) Function {
	return Function{
		Name: name, Family: family, About: about, Params: params, Result: known(result), Examples: examples,
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			v, err := call(a)
			if err == nil {
				err = fr.grow(len(v.Text()) + 16*len(v.Items()))
			}
			return v, err
		},
	}
}

// listOf makes the result of a function a list of a kind.
func (fn Function) listOf(item value.Kind) Function {
	fn.Result = func([]Type) Type { return Type{Kind: value.ListKind, Item: &Type{Kind: item}} }
	return fn
}

func ex(formula, result string) Example { return Example{formula, result} }

func str(s string) (value.Value, error) { return value.NewText(s), nil }
