package formula

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func order(t testing.TB) *schema.Schema {
	t.Helper()
	d := partfile.Parse("order", []byte(`
schema: Order
notation: json
fields:
  - {name: no, type: integer}
  - {name: name, type: text}
  - {name: mail, type: text, occurs: 0..1}
  - {name: price, type: decimal}
  - {name: discount, type: decimal}
  - {name: made_on, type: date}
  - {name: open, type: boolean}
  - {name: "odd name", type: text}
  - name: lines
    type: record
    occurs: 0..n
    fields:
      - {name: qty, type: integer}
      - {name: price, type: decimal}
`))
	s := schema.Parse("order", d)
	require.Empty(t, d.Faults)
	return s
}

func dec(s string) value.Value {
	v, _ := value.ParseDecimal(s)
	return v
}

// scope has an order, opened, with values in a frame.
func scope(t testing.TB) (*Scope, *Frame) {
	t.Helper()
	s := order(t)
	sc := NewScope()
	sc.Define("order", Type{Kind: value.RecordKind, Fields: s.Root})
	sc.Define("any", Type{})
	sc.Open("order")
	line := s.Root.Field("lines").Layout()
	rec := value.NewRecord(s.Root.Layout(), []value.Value{
		value.Int(7), value.NewText(" kelp "),
		{},
		dec("19.99"), dec("0.10"), value.DateOf(2031, 3, 9), value.Bool(true), value.NewText("odd"),
		value.ListOf(value.NewRecord(line, []value.Value{value.Int(2), dec("1.10")}), value.NewRecord(line, []value.Value{value.Int(3), dec("0.20")})),
	})
	return sc, &Frame{Slots: []value.Value{rec, value.Number("19.990")}}
}

func TestFormulas(t *testing.T) {
	sc, fr := scope(t)
	for source, want := range map[string]string{
		`price * (1 - discount)`:                     "17.9910",
		`0.1 + 0.2 == 0.3`:                           "true",
		`1234567890.1234567890123456789 + 0`:         "1234567890.1234567890123456789",
		`price == 19.99`:                             "true",
		`any == 19.99`:                               "true",
		`any - 0.99`:                                 "19.000",
		`upper(trim(name)) + "-" + text(no)`:         "KELP-7",
		`name | trim() | upper()`:                    "KELP",
		`sum(lines, .qty * .price)`:                  "2.80",
		`sum(map(lines, #.qty))`:                     "5",
		`count(lines, .qty > 2)`:                     "1",
		`filter(lines, .price > 1)[0].qty`:           "2",
		`lines[-1].qty`:                              "3",
		`map(lines, #index)[1]`:                      "1",
		`any(lines, .qty == no - 4)`:                 "true",
		`mail ?? "none"`:                             "none",
		`coalesce(mail, name)`:                       " kelp ",
		`mail == nil`:                                "true",
		`open ? "yes" : "no"`:                        "yes",
		`if price > 10 { "dear" } else { "cheap" }`:  "dear",
		`let net = price - 1; net * 2`:               "37.98",
		`order["odd name"] + order.name`:             "odd kelp ",
		`no in [1, 7]`:                               "true",
		`name contains "elp" and not (name == "x")`:  "true",
		`name matches "^ k.*"`:                       "true",
		`1 < 2 < 3`:                                  "true",
		`-price`:                                     "-19.99",
		`no / 2`:                                     "3.5",
		`no % 4`:                                     "3",
		`year(made_on) * 100 + month(made_on)`:       "203103",
		`made_on < date("2031-03-10")`:               "true",
		`format(addDays(made_on, 23), "dd.MM.yyyy")`: "01.04.2031",
		`false and 1 / 0 > 1`:                        "false",
		`true or 1 / 0 > 1`:                          "true",
	} {
		p, faults := Compile(source, sc)
		require.Empty(t, faults, source)
		fr.Reset()
		got, f := p.Eval(fr)
		require.Nil(t, f, source)
		require.Equal(t, want, got.String(), source)
	}
	p, _ := Compile("mail", sc)
	got, f := p.Eval(fr)
	require.Nil(t, f)
	require.Equal(t, value.Absent, got.Kind())
	p, _ = Compile("upper(mail) + name", sc)
	got, f = p.Eval(fr)
	require.Nil(t, f)
	require.Equal(t, value.Absent, got.Kind(), "what is made of something absent is absent")
}

func TestTypesAndReads(t *testing.T) {
	sc, _ := scope(t)
	for source, want := range map[string]string{
		"no + 1": "integer", "no * 1.5": "decimal", "no / 1": "decimal", "mail": "text, may be absent", `mail ?? ""`: "text",
		"lines": "list of record, may be absent", "lines[0].qty": "integer, may be absent", "any": "anything", "sum(lines, .qty)": "integer, may be absent",
		"round(price)": "integer", "open ? 1 : 2.5": "decimal", "mail == name": "boolean",
	} {
		p, faults := Compile(source, sc)
		require.Empty(t, faults, source)
		require.Equal(t, want, p.Type.String(), source)
	}
	p, _ := Compile("order.price + no", sc)
	require.Equal(t, [][]string{{"order", "price"}, {"order", "no"}}, p.Reads)
	require.False(t, p.Reference())
	p, _ = Compile("order.price", sc)
	require.True(t, p.Reference())
}

func TestFaultsHaveAColumn(t *testing.T) {
	sc, fr := scope(t)
	for source, want := range map[string]string{
		``:                      `the formula is empty`,
		`price +`:               `the formula ends too early`,
		`price * ) 2`:           `unexpected token (")")`,
		`pric * 2`:              `1: there is no "pric" here. Did you mean price?`,
		`order.nam`:             `7: order has no field "nam". Did you mean name?`,
		`order[""]`:             `order has no field ""`,
		`1 + name`:              `5: expected a number beside +, found text. Write text(1) + name`,
		`name > 1`:              `6: expected two values of one type around >, found text and integer`,
		`price == "x"`:          `7: expected two values of one type around ==, found decimal and text`,
		`upprr(name)`:           `1: there is no function "upprr". Did you mean upper?`,
		`upper(no)`:             `7: upper: expected text as text, found integer`,
		`upper()`:               `1: upper: expected upper(text), found 0 arguments`,
		`not name`:              `5: expected true or false, found text`,
		`open ? 1 : "x"`:        `12: expected integer in both branches, found text`,
		`sum(name, 1)`:          `5: sum: expected a list, found text`,
		`123456789012345678901`: `a whole number of more than 18 digits`,
		`1..5`:                  `2: the operator .. is not part of the formula language`,
		`{"a": 1}`:              `1: this form is not part of the formula language`,
		`name matches "("`:      `14: the pattern cannot be read`,
		`name matches name`:     `14: the pattern after matches must be a constant text`,
		`name.upper()`:          `this form is not part of the formula language`,
		`#.x`:                   `unexpected token`,
	} {
		p, faults := Compile(source, sc)
		require.Nil(t, p, source)
		require.Contains(t, told(faults[0]), want, source)
	}
	for source, want := range map[string]string{
		`1 / (no - 7)`:            `3: division by zero`,
		`integer(name)`:           `1: integer: expected a integer, found " kelp "`,
		`date("x")`:               `1: date: expected a date in ISO 8601 form, found "x"`,
		`any > "x"`:               `5: not comparable: decimal with text`,
		`repeat("ab", 999999999)`: `1: repeat: the formula builds more than 64 MiB of text`,
		`substring(name, 0)`:      `1: substring: expected a first character of at least 1, found 0`,
		`round(price, 1, "best")`: `1: round: expected half-even, half-up, half-down, up, down, ceiling or floor, found "best"`,
		`open and mail == "x" ? 1 : (mail > "x" ? 2 : 3)`: `expected true or false, found absent`,
	} {
		p, faults := Compile(source, sc)
		require.Empty(t, faults, source)
		fr.Reset()
		_, f := p.Eval(fr)
		require.NotNil(t, f, source)
		require.Contains(t, told(f), want, source)
	}
}

func told(f *fault.Fault) string {
	if f.Place.Column == 0 {
		return f.What()
	}
	return strings.TrimPrefix(f.Where()+":", ":") + columnOf(f) + f.What()
}

func columnOf(f *fault.Fault) string {
	if f.Place.Line > 0 {
		return " "
	}
	return string(appendInt(nil, f.Place.Column)) + ": "
}

func appendInt(b []byte, n int) []byte { return value.Int(int64(n)).AppendText(b) }

func TestEveryExampleOfTheCatalogueHolds(t *testing.T) {
	for _, fn := range Catalogue {
		require.True(t, len(fn.Examples) > 0 || fn.Name == "branch", "%s: only branch needs a schema", fn.Name)
		require.NotEmpty(t, fn.About, fn.Name)
		for _, ex := range fn.Examples {
			p, faults := Compile(ex.Formula, exampleEnv(t).Scope())
			require.Empty(t, faults, ex.Formula)
			got, f := p.Eval(&Frame{})
			require.Nil(t, f, ex.Formula)
			require.Equal(t, ex.Result, got.String(), ex.Formula)
		}
	}
}

func TestEvaluationIsBounded(t *testing.T) {
	sc := NewScope()
	sc.Define("list", Type{Kind: value.ListKind, Item: &Type{Kind: value.Integer}})
	items := make([]value.Value, 2000)
	for i := range items {
		items[i] = value.Int(int64(i))
	}
	p, faults := Compile("sum(list, sum(list, 1))", sc)
	require.Empty(t, faults)
	_, f := p.Eval(&Frame{Slots: []value.Value{value.ListOf(items...)}})
	require.Equal(t, fault.Limit, f.Code)
	_, faults = Compile(strings.Repeat("(", 4000)+"1"+strings.Repeat(")", 4000), sc)
	require.Empty(t, faults)
	_, faults = Compile(strings.Repeat("1+", 6000)+"1", sc)
	require.Equal(t, fault.Limit, faults[0].Code)
	_, faults = Compile(strings.Repeat("-", 9000)+"1", sc)
	require.NotEmpty(t, faults)
}

// TestEvaluationEndsInTime: what takes longer than it may is a fault at the next look at the clock; a message that grows is
// allowed more.
func TestEvaluationEndsInTime(t *testing.T) {
	sc := NewScope()
	sc.Define("list", Type{Kind: value.ListKind, Item: &Type{Kind: value.Integer}})
	p, faults := Compile("sum(list, 1)", sc)
	require.Empty(t, faults)
	fr := &Frame{Slots: []value.Value{value.ListOf(make([]value.Value, 2*look)...)}}
	_, f := p.Eval(fr)
	require.Nil(t, f)
	fr.began = time.Now().Add(-MaxTime)
	_, f = p.Eval(fr)
	require.NotNil(t, f)
	require.Equal(t, fault.Limit, f.Code)
	require.Contains(t, f.What(), "more than 10 s")
	fr.AddBudget(MaxSteps)
	_, f = p.Eval(fr)
	require.Nil(t, f)
	fr.Reset()
	_, f = p.Eval(fr)
	require.Nil(t, f)
}

// FuzzCompile compiles and evaluates foreign text: it never panics, and it ends.
func FuzzCompile(f *testing.F) {
	f.Add(`price * (1 - discount)`)
	f.Add(`sum(lines, .qty * .price) > 1 ? "a" : lines[-1].qty`)
	f.Add(`let x = order["odd name"]; x | upper()`)
	sc, _ := scope(f)
	f.Fuzz(func(t *testing.T, source string) {
		p, faults := Compile(source, sc)
		if p == nil {
			require.NotEmpty(t, faults)
			return
		}
		_, fr := scope(t)
		p.Eval(fr)
	})
}

func BenchmarkProduct(b *testing.B) {
	sc, fr := scope(b)
	p, _ := Compile("no * price * (1 - discount)", sc)
	for b.Loop() {
		fr.Reset()
		if _, f := p.Eval(fr); f != nil {
			b.Fatal(f)
		}
	}
}

func BenchmarkText(b *testing.B) {
	sc, fr := scope(b)
	p, _ := Compile(`upper(trim(name)) + "-" + text(no)`, sc)
	for b.Loop() {
		fr.Reset()
		if _, f := p.Eval(fr); f != nil {
			b.Fatal(f)
		}
	}
}
