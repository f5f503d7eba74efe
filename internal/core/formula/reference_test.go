package formula

import (
	"os"
	"regexp"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/value"
)

// TestTheReferenceIsThatOfTheCatalogue: with UPDATE set it is written anew.
func TestTheReferenceIsThatOfTheCatalogue(t *testing.T) {
	const path = "../../../docs/formulas.md"
	if os.Getenv("UPDATE") != "" {
		require.NoError(t, os.WriteFile(path, []byte(Reference()), 0o644))
	}
	text, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, Reference(), string(text), "UPDATE=1 go test ./internal/core/formula writes it")
	seen := map[string]bool{}
	for _, fn := range Catalogue {
		require.False(t, seen[fn.Name], "%s stands twice", fn.Name)
		seen[fn.Name] = true
		require.NotEmpty(t, fn.Params, fn.Name)
	}
	require.GreaterOrEqual(t, len(seen), 120)
}

// TestTheExamplesOfSigns run as those of functions do, and every operator that compiles stands among them.
func TestTheExamplesOfSigns(t *testing.T) {
	var all string
	for _, sign := range Signs {
		require.NotEmpty(t, sign.Examples, sign.Form)
		all += " " + sign.Form + " "
		for _, ex := range sign.Examples {
			p, faults := Compile(ex.Formula, NewScope())
			require.Empty(t, faults, ex.Formula)
			v, f := p.Eval(&Frame{})
			require.Nil(t, f, ex.Formula)
			require.Equal(t, ex.Result, v.String(), ex.Formula)
		}
	}
	for _, table := range [][]string{keysOf(comparison), keysOf(textTests), keysOf(arithmetic), {"==", "!=", "??", "in", "matches", "and", "or", "not", "?"}} {
		for _, sign := range table {
			require.Contains(t, all, " "+sign+" ", sign)
		}
	}
}

// TestWhatFunctionsRefuse: values that make no sense are faults that say what was expected.
func TestWhatFunctionsRefuse(t *testing.T) {
	for source, want := range map[string]string{
		`left("a", -1)`:                         "a count of at least 0",
		`insert("abc", 9, "x")`:                 "a character from 1 to the end",
		`character(-1)`:                         "the number of a character",
		`extract("a", "(")`:                     "the pattern cannot be read",
		`power(2, 5000)`:                        "an exponent from 0 to 1000",
		`quotient(1, 0)`:                        "division by zero",
		`toBase(1, 99)`:                         "a base from 2 to 36",
		`fromBase("xyz", 10)`:                   "digits of base 10",
		`parseNumber("12a")`:                    "a number",
		`dateOf(2031, 2, 31)`:                   "a day of the calendar",
		`date("2031-02-31")`:                    "a date in ISO 8601 form",
		`addMonths(date("2031-01-31"), 999999)`: "at most 120,000 months",
		`inZone(timestamp("2031-07-01T06:00:00Z"), "Mars/Base")`:        "a time zone",
		`inZone(timestamp("2031-07-01T06:00:00Z"), "../../etc/passwd")`: "a time zone",
		`atZone(date("2031-03-30"), time("02:30:00"), "Europe/Oslo")`:   "never show",
		`atZone(date("2031-10-26"), time("02:30:00"), "Europe/Oslo")`:   "twice",
		`numbersFrom(-9000000000000000000, 9000000000000000000)`:        "at most 100,000 numbers",
		`fromBase(repeat("1", 2000), 10)`:                               "more than 1000 digits",
		`replacePattern(repeat("a", 60000), "a", repeat("b", 60000))`:   "more than 64 MiB of text",
		`replacePattern(repeat("a", 60000), "a*", repeat("$0", 60000))`: "more than 64 MiB of text",
		`extract(repeat("a", 1000000), "(a?){500}b")`:                   "matches patterns with more text than is allowed",
		`repeat("a", 1000000) matches "(a?){500}b"`:                     "matches patterns with more text than is allowed",
		`extractAll(repeat("a", 1000000), "([a-z]{1,30}x){9}")`:         "matches patterns with more text than is allowed",
		`numbersFrom(1, 10000000)`:                                      "at most 100,000 numbers",
		`chunk([1], 0)`:                                                 "a length of at least 1",
		`sort([1, "a"])`:                                                "not comparable",
		`groupBy([[1]], #)`:                                             "a single value to group by",
		`fromBase64("%%")`:                                              "base64",
		`fromHex("ff")`:                                                 "text in UTF-8",
		`urlDecode("%zz")`:                                              "two hexadecimal digits",
		`uuidOf("x", "y")`:                                              "a UUID as namespace",
		`checkDigit("12a")`:                                             "digits",
		`average(["a"])`:                                                "a list of numbers",
		`fromEpoch(999999999999999)`:                                    "years 1 to 9999",
		`repeat("x", 100000000000)`:                                     "64 MiB",
	} {
		p, faults := Compile(source, NewScope())
		if len(faults) > 0 {
			require.Contains(t, faults.Error(), want, source)
			continue
		}
		_, f := p.Eval(&Frame{})
		require.NotNil(t, f, source)
		require.Contains(t, f.What(), want, source)
	}
}

// TestMissingArguments: what is absent or null makes a result absent or null, but where a function says
// that it takes it.
func TestMissingArguments(t *testing.T) {
	for _, fn := range Catalogue {
		if fn.Lenient || fn.Params[0].Each || len(fn.Params) > 1 && fn.Params[1].Each {
			continue
		}
		args := "nil"
		for range fn.Params[1:] {
			args += ", nil"
		}
		if fn.bind != nil {
			args = `"islands", nil`
		}
		p, faults := Compile(fn.Name+"("+args+")", exampleEnv(t).Scope())
		require.Empty(t, faults, fn.Name)
		v, f := p.Eval(&Frame{})
		require.Nil(t, f, fn.Name)
		require.True(t, v.IsMissing(), "%s of null is %s", fn.Name, v)
	}
}

// TestCalendar checks days against those of the standard library over some centuries.
func TestCalendar(t *testing.T) {
	sc := NewScope()
	slot := sc.Define("d", Type{Kind: value.Date})
	programs := map[string]*Program{}
	for _, source := range []string{`weekday(d)`, `dayOfYear(d)`, `week(d)`, `daysBetween(startOfYear(d), d) + 1`, `day(endOfMonth(d))`, `daysInMonth(d)`, `weekday(startOfWeek(d))`} {
		p, faults := Compile(source, sc)
		require.Empty(t, faults)
		programs[source] = p
	}
	for n := int64(-40_000); n < 60_000; n += 37 {
		d, err := value.Add(value.Int(n), value.Int(0))
		require.NoError(t, err)
		days, _ := d.Int64()
		date, err := dateOf(1970, 1, 1+int(days))
		require.NoError(t, err)
		fr := &Frame{Slots: make([]value.Value, slot+1)}
		fr.Slots[slot] = date
		get := func(source string) string {
			v, f := programs[source].Eval(fr)
			require.Nil(t, f)
			return v.String()
		}
		goTime := date.GoTime()
		require.Equal(t, value.Int(int64((int(goTime.Weekday())+6)%7+1)).String(), get(`weekday(d)`))
		require.Equal(t, value.Int(int64(goTime.YearDay())).String(), get(`dayOfYear(d)`))
		require.Equal(t, get(`dayOfYear(d)`), get(`daysBetween(startOfYear(d), d) + 1`))
		require.Equal(t, get(`daysInMonth(d)`), get(`day(endOfMonth(d))`))
		require.Equal(t, "1", get(`weekday(startOfWeek(d))`))
	}
}

// TestListsAreLinear: lists of many items are told apart without comparing each with each.
func TestListsAreLinear(t *testing.T) {
	sc := NewScope()
	slot := sc.Define("list", Type{Kind: value.ListKind, Item: &Type{Kind: value.Integer}})
	items := make([]value.Value, 200_000)
	for i := range items {
		items[i] = value.Int(int64(i % 150_000))
	}
	fr := &Frame{Slots: make([]value.Value, slot+1)}
	fr.Slots[slot] = value.ListOf(items...)
	for source, want := range map[string]string{`length(distinct(list))`: "150000", `length(groupBy(list, # % 7))`: "7", `length(except(list, [0]))`: "149999", `length(sort(list))`: "200000"} {
		p, faults := Compile(source, sc)
		require.Empty(t, faults, source)
		fr.Reset()
		v, f := p.Eval(fr)
		require.Nil(t, f, source)
		require.Equal(t, want, v.String(), source)
	}
	require.Equal(t, "1 x", join2(t, `join(distinct([1, 1.0, "x", 1.00]), " ")`), "numbers are compared by value")
}

func join2(t *testing.T, source string) string {
	p, faults := Compile(source, NewScope())
	require.Empty(t, faults)
	v, f := p.Eval(&Frame{})
	require.Nil(t, f)
	return v.String()
}

func TestRecordsAndMessages(t *testing.T) {
	for source, want := range map[string]string{
		`fromJSON("[1, 2]")[1]`: "2", `fromJSON(" \"a\" ")`: "a", `fromJSON(toJSON(record("a", 0.10))).a`: "0.10",
		`at(fromJSON("{\"a/b\": {\"~\": [5]}}"), "/a~1b/~0/0")`: "5", `at(1, "")`: "1", `isAbsent(at([1], "/7"))`: "true",
		`length(fieldNames(merge(record("a", 1), record("b", nil, "a", 2))))`: "2",
	} {
		p, faults := Compile(source, NewScope())
		require.Empty(t, faults, source)
		v, f := p.Eval(&Frame{})
		require.Nil(t, f, source)
		require.Equal(t, want, v.String(), source)
	}
	for source, want := range map[string]string{
		`fromJSON("{\"a\": ")`: "this is not JSON", `fromJSON("1 2")`: "JSON", `fromJSON("")`: "an empty text", `fromJSON("1,2")`: "one JSON value",
		`record("a")`: "record", `record("a", 1, "a", 2)`: "a name that stands once", `at([1], "a")`: "begins with /",
	} {
		p, faults := Compile(source, NewScope())
		if faults != nil {
			require.Contains(t, faults.Error(), want, source)
			continue
		}
		_, f := p.Eval(&Frame{})
		require.NotNil(t, f, source)
		require.Contains(t, f.Error(), want, source)
	}
}

// TestFormerNamesAreStillRead: a formula with a function's former name comes to what one with the present name does.
func TestFormerNamesAreStillRead(t *testing.T) {
	present := map[string]*Function{}
	for i := range Catalogue {
		present[Catalogue[i].Name] = &Catalogue[i]
	}
	sc := exampleEnv(t).Scope()
	for old, now := range FormerNames {
		require.Nil(t, present[old], "%s is in the catalogue", old)
		fn := present[now]
		require.NotNil(t, fn, "%s is now %s, which there is not", old, now)
		require.NotEmpty(t, fn.Examples, now)
		for _, x := range fn.Examples {
			former := regexp.MustCompile(`\b`+now+`\(`).ReplaceAllString(x.Formula, old+"(")
			require.NotEqual(t, x.Formula, former)
			p, faults := Compile(former, sc)
			require.Empty(t, faults, former)
			v, f := p.Eval(&Frame{})
			require.Nil(t, f, former)
			require.Equal(t, x.Result, v.String(), former)
		}
	}
	_, faults := Compile("quotien(7, 2)", sc)
	require.Contains(t, faults[0].Fix, "div", "the present name is proposed")
}
