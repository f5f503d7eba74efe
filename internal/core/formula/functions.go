package formula

import (
	"fmt"
	"slices"
	"strconv"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Kinds that parameters take.
var (
	textKind = []value.Kind{value.Text}
	number   = []value.Kind{value.Decimal}
	whole    = []value.Kind{value.Integer}
	listKind = []value.Kind{value.ListKind}
	dateish  = []value.Kind{value.Date, value.Timestamp}
	timish   = []value.Kind{value.Time, value.Timestamp}
	temporal = []value.Kind{value.Date, value.Time, value.Timestamp}
	scalar   = []value.Kind{value.Text, value.Decimal, value.Boolean, value.Date, value.Time, value.Timestamp}
)

func p(name string, kinds []value.Kind) Param { return Param{Name: name, Kinds: kinds} }
func opt(name string, kinds []value.Kind) Param {
	return Param{Name: name, Kinds: kinds, Optional: true}
}

// Catalogue is the table of all functions.
var Catalogue = slices.Concat(basics, moreTexts, moreNumbers, moreDates, moreLists, moreLogic, encodings, identifiers)

// basics are the functions that most formulas use.
var basics = []Function{
	// Text
	text1("upper", "The text in capital letters.", strings.ToUpper, `upper("kelp")`, "KELP"),
	text1("lower", "The text in small letters.", strings.ToLower, `lower("KELP")`, "kelp"),
	text1("trim", "The text without white space at its ends.", strings.TrimSpace, `trim("  kelp ")`, "kelp"),
	{
		Name: "length", Family: "text", About: "How many characters a text has, or items a list.",
		Params: []Param{p("of", []value.Kind{value.Text, value.ListKind})}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			if a[0].Kind() == value.ListKind {
				return value.Int(int64(len(a[0].Items()))), nil
			}
			return value.Int(int64(utf8.RuneCountInString(a[0].Text()))), nil
		},
		Examples: []Example{{`length("Ænø")`, "3"}, {`length([1, 2])`, "2"}},
	},
	{
		Name: "substring", Family: "text", About: "A part of a text: from a character counted from 1, of a length or to the end.",
		Params: []Param{p("text", textKind), p("from", whole), opt("length", whole)}, Result: known(value.Text), Call: substring,
		Examples: []Example{{`substring("SK04", 1, 2)`, "SK"}, {`substring("SK04", 3)`, "04"}, {`substring("SK", 5)`, ""}},
	},
	{
		Name: "replace", Family: "text", About: "The text with every occurrence of one text replaced by another.",
		Params: []Param{p("text", textKind), p("old", textKind), p("new", textKind)}, Result: known(value.Text), Call: replace,
		Examples: []Example{{`replace("a-b-c", "-", "")`, "abc"}},
	},
	{
		Name: "repeat", Family: "text", About: "The text a number of times.",
		Params: []Param{p("text", textKind), p("times", whole)}, Result: known(value.Text), Call: repeat,
		Examples: []Example{{`repeat("ab", 2)`, "abab"}},
	},
	{
		Name: "padLeft", Family: "text", About: "The text made as long as stated by filling on its left.",
		Params: []Param{p("text", textKind), p("length", whole), p("fill", textKind)}, Result: known(value.Text), Call: pad(true),
		Examples: []Example{{`padLeft("7", 3, "0")`, "007"}},
	},
	{
		Name: "padRight", Family: "text", About: "The text made as long as stated by filling on its right.",
		Params: []Param{p("text", textKind), p("length", whole), p("fill", textKind)}, Result: known(value.Text), Call: pad(false),
		Examples: []Example{{`padRight("7", 3, ".")`, "7.."}},
	},
	{
		Name: "split", Family: "text", About: "The parts of a text between separators, as a list.",
		Params: []Param{p("text", textKind), p("separator", textKind)},
		Result: func([]Type) Type { return Type{Kind: value.ListKind, Item: &Type{Kind: value.Text}} }, Call: split,
		Examples: []Example{{`split("a;b", ";")[1]`, "b"}},
	},
	{
		Name: "join", Family: "text", About: "The texts of a list as one, with a separator between them.",
		Params: []Param{p("list", listKind), p("separator", textKind)}, Result: known(value.Text), Call: join,
		Examples: []Example{{`join(["a", "b"], ", ")`, "a, b"}},
	},
	{
		Name: "concat", Family: "text", About: "Several values as one text; absent and null ones count as empty.",
		Params: []Param{p("value", scalar)}, Variadic: true, Lenient: true, Result: known(value.Text), Call: concatAll,
		Examples: []Example{{`concat("SK", 4, nil)`, "SK4"}},
	},
	// Conversion
	{
		Name: "text", Family: "conversion", About: "A value as text in standard form.",
		Params: []Param{p("value", scalar)}, Result: known(value.Text),
		Call:     func(_ *Frame, a []value.Value) (value.Value, error) { return value.Str(a[0].String()), nil },
		Examples: []Example{{`text(4.50)`, "4.50"}},
	},
	convert("integer", value.Integer, "A text or a number without fraction as a whole number.", `integer("0042")`, "42"),
	convert("decimal", value.Decimal, "A text or number as a decimal; the number of places is kept.", `decimal("1.50")`, "1.50"),
	convert("boolean", value.Boolean, "The text true or false as a boolean.", `boolean("true")`, "true"),
	// Numbers
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
	extreme("min", "The least of several values.", -1, `min(3, 1, 2)`, "1"),
	extreme("max", "The greatest of several values.", 1, `max(3, 1, 2)`, "3"),
	// Dates and times
	fromText("date", value.Date, "A date from a text by a pattern (yyyyMMdd; ISO 8601 unless stated), or the date of a timestamp.", `date("09.03.2031", "dd.MM.yyyy")`, "2031-03-09"),
	fromText("time", value.Time, "A time of day from a text by a pattern (HHmmss), or that of a timestamp.", `time("061200", "HHmmss")`, "06:12:00"),
	{
		Name: "timestamp", Family: "dates", About: "A timestamp in UTC from a date and a time, or from a text with a pattern or as in RFC 3339.",
		Params: []Param{p("date", []value.Kind{value.Date, value.Text}), opt("time", []value.Kind{value.Time, value.Text})}, Result: known(value.Timestamp), Call: timestamp,
		Examples: []Example{{`timestamp(date("2031-03-09"), time("06:12:00"))`, "2031-03-09T06:12:00Z"}, {`timestamp("203103090612", "yyyyMMddHHmm")`, "2031-03-09T06:12:00Z"}},
	},
	{
		Name: "format", Family: "dates", About: "A date, time or timestamp as text by a pattern.",
		Params: []Param{p("value", temporal), p("pattern", textKind)}, Result: known(value.Text), Call: format,
		Examples: []Example{{`format(date("2031-03-09"), "dd/MM/yyyy")`, "09/03/2031"}},
	},
	datePart("year", 0, `year(date("2031-03-09"))`, "2031"),
	datePart("month", 1, `month(date("2031-03-09"))`, "3"),
	datePart("day", 2, `day(date("2031-03-09"))`, "9"),
	{
		Name: "hour", Family: "dates", About: "The hour of a time or timestamp.",
		Params: []Param{p("of", timish)}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			h, _, _, _ := a[0].Clock()
			return value.Int(int64(h)), nil
		},
		Examples: []Example{{`hour(time("06:12:00"))`, "6"}},
	},
	{
		Name: "addDays", Family: "dates", About: "The date or timestamp a number of days later.",
		Params: []Param{p("to", dateish), p("days", whole)}, Result: same, Call: addDays,
		Examples: []Example{{`addDays(date("2031-02-28"), 1)`, "2031-03-01"}},
	},
	// Lists
	{
		Name: "sum", Family: "lists", About: "The sum of a list's numbers, or of a formula over its items.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true, Optional: true}}, Result: sumType, Call: sum,
		Examples: []Example{{`sum([0.1, 0.2])`, "0.3"}, {`sum([1, 2], # * 10)`, "30"}},
	},
	{
		Name: "count", Family: "lists", About: "How many items a list has, or how many meet a condition.",
		Params: []Param{p("list", listKind), {Name: "condition", Each: true, Optional: true}}, Result: known(value.Integer), Call: countItems,
		Examples: []Example{{`count([1, 2, 3], # > 1)`, "2"}},
	},
	{
		Name: "filter", Family: "lists", About: "The items of a list that meet a condition.",
		Params: []Param{p("list", listKind), {Name: "condition", Each: true}}, Result: same, Call: filter,
		Examples: []Example{{`length(filter([1, 2, 3], # > 1))`, "2"}},
	},
	{
		Name: "map", Family: "lists", About: "A formula's result for every item of a list.",
		Params: []Param{p("list", listKind), {Name: "formula", Each: true}},
		Result: func(a []Type) Type { return Type{Kind: value.ListKind, Item: &a[1]} },
		Call:   func(_ *Frame, a []value.Value) (value.Value, error) { return a[1], nil }, Examples: []Example{{`map([1, 2], # * 2)[1]`, "4"}},
	},
	quantifier("any", "Whether at least one item meets a condition.", func(hits, n int) bool { return hits > 0 }, `any([1, 2], # > 1)`, "true"),
	quantifier("all", "Whether every item meets a condition.", func(hits, n int) bool { return hits == n }, `all([1, 2], # > 1)`, "false"),
	end("first", "The first item of a list; absent when it is empty.", func(n int) int { return 0 }, `first([7, 8])`, "7"),
	end("last", "The last item of a list; absent when it is empty.", func(n int) int { return n - 1 }, `last([7, 8])`, "8"),
	// Logic
	{
		Name: "coalesce", Family: "logic", About: "The first of several values that is neither absent nor null.",
		Params: []Param{p("value", nil)}, Variadic: true, Lenient: true, Result: coalesceType,
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			for _, v := range a {
				if !v.Missing() {
					return v, nil
				}
			}
			return value.Value{}, nil
		},
		Examples: []Example{{`coalesce(nil, 2, 3)`, "2"}},
	},
}

func text1(name, about string, fn func(string) string, ex, result string) Function {
	return Function{
		Name: name, Family: "text", About: about, Params: []Param{p("text", textKind)}, Result: known(value.Text),
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			s := fn(a[0].Text())
			return value.Str(s), fr.grow(len(s))
		},
		Examples: []Example{{ex, result}},
	}
}

func same(a []Type) Type { return Type{Kind: a[0].Kind, Fields: a[0].Fields, Item: a[0].Item} }

func substring(_ *Frame, a []value.Value) (value.Value, error) {
	from, ok := a[1].Int64()
	if !ok || from < 1 {
		return value.Value{}, fault.Expect(fault.Range, "a first character of at least 1", a[1].String())
	}
	r := []rune(a[0].Text())
	start := min(from-1, int64(len(r)))
	end := int64(len(r))
	if len(a) > 2 {
		n, ok := a[2].Int64()
		if !ok || n < 0 {
			return value.Value{}, fault.Expect(fault.Range, "a length of at least 0", a[2].String())
		}
		end = min(end, start+min(n, end))
	}
	return value.Str(string(r[start:end])), nil
}

func replace(fr *Frame, a []value.Value) (value.Value, error) {
	text, old, with := a[0].Text(), a[1].Text(), a[2].Text()
	if old == "" {
		return a[0], nil
	}
	if err := fr.grow(len(text) + strings.Count(text, old)*len(with)); err != nil {
		return value.Value{}, err
	}
	return value.Str(strings.ReplaceAll(text, old, with)), nil
}

func repeat(fr *Frame, a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	if !ok || n < 0 {
		return value.Value{}, fault.Expect(fault.Range, "a count of at least 0", a[1].String())
	}
	if size := len(a[0].Text()); size > 0 && n > MaxBytes/int64(size) {
		return value.Value{}, errBytes
	}
	if err := fr.grow(int(n) * len(a[0].Text())); err != nil {
		return value.Value{}, err
	}
	return value.Str(strings.Repeat(a[0].Text(), int(n))), nil
}

func pad(left bool) func(*Frame, []value.Value) (value.Value, error) {
	return func(fr *Frame, a []value.Value) (value.Value, error) {
		if utf8.RuneCountInString(a[2].Text()) != 1 {
			return value.Value{}, fault.Expect(fault.Range, "one character to fill with", fault.Quote(a[2].Text()))
		}
		want, _ := a[1].Int64()
		missing := want - int64(utf8.RuneCountInString(a[0].Text()))
		if missing <= 0 {
			return a[0], nil
		}
		fill, err := repeat(fr, []value.Value{a[2], value.Int(missing)})
		if left {
			return value.Str(fill.Text() + a[0].Text()), err
		}
		return value.Str(a[0].Text() + fill.Text()), err
	}
}

func split(fr *Frame, a []value.Value) (value.Value, error) {
	if a[1].Text() == "" {
		return value.Value{}, fault.Expect(fault.Range, "a separator", "an empty text")
	}
	parts := strings.Split(a[0].Text(), a[1].Text())
	items := make([]value.Value, len(parts))
	for i, s := range parts {
		items[i] = value.Str(s)
	}
	return value.ListOf(items...), fr.grow(len(parts) * 16)
}

func join(fr *Frame, a []value.Value) (value.Value, error) {
	var b []byte
	for i, v := range a[0].Items() {
		if v.Kind() >= value.RecordKind {
			return value.Value{}, fault.Expect(fault.Type, "a list of texts", "a "+v.Kind().String())
		}
		if i > 0 {
			b = append(b, a[1].Text()...)
		}
		b = v.AppendText(b)
		if len(b) > MaxBytes {
			return value.Value{}, errBytes
		}
	}
	return value.Str(string(b)), fr.grow(len(b))
}

func concatAll(fr *Frame, a []value.Value) (value.Value, error) {
	var b []byte
	for _, v := range a {
		b = v.AppendText(b)
	}
	return value.Str(string(b)), fr.grow(len(b))
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

func extreme(name, about string, sign int, ex, result string) Function {
	return Function{
		Name: name, Family: "numbers", About: about, Params: []Param{p("value", scalar)}, Variadic: true,
		Result: func(a []Type) Type {
			t := a[0]
			for _, b := range a[1:] {
				t, _ = union(t, b)
			}
			t.Maybe = false
			return t
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			best := a[0]
			for _, v := range a[1:] {
				c, err := value.Compare(v, best)
				if err != nil {
					return value.Value{}, err
				}
				if c == sign {
					best = v
				}
			}
			return best, nil
		},
		Examples: []Example{{ex, result}},
	}
}

func fromText(name string, kind value.Kind, about, ex, result string) Function {
	return Function{
		Name: name, Family: "dates", About: about, Result: known(kind),
		Params: []Param{p("value", []value.Kind{value.Text, value.Timestamp, kind}), opt("pattern", textKind)},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			switch {
			case a[0].Kind() == kind:
				return a[0], nil
			case a[0].Kind() == value.Timestamp && kind == value.Date:
				return a[0].DatePart(), nil
			case a[0].Kind() == value.Timestamp:
				return a[0].TimePart(), nil
			}
			return readTemporal(kind, a)
		},
		Examples: []Example{{ex, result}},
	}
}

func readTemporal(kind value.Kind, a []value.Value) (value.Value, error) {
	if len(a) > 1 {
		v, ok := schema.ReadPattern(kind, a[1].Text(), a[0].Text())
		if !ok {
			return v, fault.Expect(fault.Type, fmt.Sprintf("a %s as %s", kind, a[1].Text()), fault.Quote(a[0].Text()))
		}
		return v, nil
	}
	v, ok := schema.ParseScalar(kind, a[0].Text())
	if !ok {
		return v, fault.Expect(fault.Type, "a "+kind.String()+" in ISO 8601 form", fault.Quote(a[0].Text()))
	}
	return v, nil
}

func timestamp(_ *Frame, a []value.Value) (value.Value, error) {
	if a[0].Kind() == value.Text {
		return readTemporal(value.Timestamp, a)
	}
	if len(a) < 2 || a[1].Kind() != value.Time {
		return value.Value{}, fault.Expect(fault.Type, "a time beside the date", "none")
	}
	return value.At(a[0], a[1]), nil
}

func format(_ *Frame, a []value.Value) (value.Value, error) {
	s, f := schema.FormatPattern(a[1].Text(), a[0])
	if f != nil {
		return value.Value{}, f
	}
	return value.Str(s), nil
}

func datePart(name string, i int, ex, result string) Function {
	return Function{
		Name: name, Family: "dates", About: "The " + name + " of a date or timestamp.",
		Params: []Param{p("of", dateish)}, Result: known(value.Integer),
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			y, m, d := a[0].Civil()
			return value.Int(int64([]int{y, m, d}[i])), nil
		},
		Examples: []Example{{ex, result}},
	}
}

func addDays(_ *Frame, a []value.Value) (value.Value, error) {
	n, ok := a[1].Int64()
	if !ok || n > 4_000_000 || n < -4_000_000 {
		return value.Value{}, fault.Expect(fault.Range, "at most 4,000,000 days", a[1].String())
	}
	t := a[0].GoTime().AddDate(0, 0, int(n))
	if t.Year() < 1 || t.Year() > 9999 {
		return value.Value{}, fault.Expect(fault.Range, "a year from 1 to 9999", strconv.Itoa(t.Year()))
	}
	if a[0].Kind() == value.Date {
		return value.DateOf(t.Year(), int(t.Month()), t.Day()), nil
	}
	return value.Instant(t), nil
}

func sumType(a []Type) Type {
	item := Type{}
	switch {
	case len(a) > 1:
		item = a[1]
	case a[0].Item != nil:
		item = *a[0].Item
	}
	if item.is(value.Integer) {
		return Type{Kind: value.Integer}
	}
	return Type{Kind: value.Decimal}
}

func sum(_ *Frame, a []value.Value) (value.Value, error) {
	total := value.Int(0)
	for _, v := range a[len(a)-1].Items() {
		if v.Missing() {
			continue
		}
		var err error
		if total, err = value.Add(total, v); err != nil {
			return value.Value{}, err
		}
	}
	return total, nil
}

func hits(conditions []value.Value) (int, error) {
	n := 0
	for _, v := range conditions {
		if v.Kind() != value.Boolean {
			return 0, fault.Expect(fault.Type, "true or false for every item", v.Kind().String())
		}
		if v.IsTrue() {
			n++
		}
	}
	return n, nil
}

func countItems(_ *Frame, a []value.Value) (value.Value, error) {
	if len(a) == 1 {
		return value.Int(int64(len(a[0].Items()))), nil
	}
	n, err := hits(a[1].Items())
	return value.Int(int64(n)), err
}

func filter(_ *Frame, a []value.Value) (value.Value, error) {
	if _, err := hits(a[1].Items()); err != nil {
		return value.Value{}, err
	}
	var kept []value.Value
	for i, v := range a[1].Items() {
		if v.IsTrue() {
			kept = append(kept, a[0].Items()[i])
		}
	}
	return value.ListOf(kept...), nil
}

func quantifier(name, about string, decide func(hits, n int) bool, ex, result string) Function {
	return Function{
		Name: name, Family: "lists", About: about, Result: known(value.Boolean),
		Params: []Param{p("list", listKind), {Name: "condition", Each: true}},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			n, err := hits(a[1].Items())
			return value.Bool(decide(n, len(a[1].Items()))), err
		},
		Examples: []Example{{ex, result}},
	}
}

func end(name, about string, at func(n int) int, ex, result string) Function {
	return Function{
		Name: name, Family: "lists", About: about, Params: []Param{p("list", listKind)},
		Result: func(a []Type) Type {
			t := Type{}
			if a[0].Item != nil {
				t = *a[0].Item
			}
			t.Maybe = true
			return t
		},
		Call: func(_ *Frame, a []value.Value) (value.Value, error) {
			items := a[0].Items()
			if len(items) == 0 {
				return value.Value{}, nil
			}
			return items[at(len(items))], nil
		},
		Examples: []Example{{ex, result}},
	}
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

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}
