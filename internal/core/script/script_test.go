package script

import (
	"crypto/sha256"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

func compiled(t testing.TB, body string, result *schema.Field, params ...string) *Function {
	t.Helper()
	f, ft := New(body, params, result)
	require.Nil(t, ft)
	return f
}

func field(kind value.Kind) *schema.Field { return schema.Scalar("result", kind) }

func parsed(kind value.Kind, text string) value.Value {
	v, ok := schema.ParseScalar(kind, text)
	if !ok {
		panic(text)
	}
	return v
}

func TestValuesPassBothWays(t *testing.T) {
	for _, c := range []struct {
		kind value.Kind
		text string
	}{
		{value.Text, "Ænø"},
		{value.Integer, "42"},
		{value.Integer, "-9007199254740991"},
		{value.Integer, "90071992547409931234"},
		{value.Decimal, "0.1"},
		{value.Decimal, "-412.25"},
		{value.Boolean, "true"},
		{value.Date, "2031-03-09"},
		{value.Timestamp, "2031-03-09T07:30:00.125Z"},
		{value.Time, "07:30:00"},
	} {
		v := parsed(c.kind, c.text)
		got, ft := compiled(t, "return x", field(c.kind), "x").Call([]value.Value{v})
		require.Nil(t, ft, c.text)
		require.Equal(t, c.kind, got.Kind())
		require.True(t, value.Equal(v, got), "%s became %s", c.text, got)
	}
	bytes := value.Bytes("\x00\xffk")
	got, ft := compiled(t, "return x.reverse()", field(value.Binary), "x").Call([]value.Value{bytes})
	require.Nil(t, ft)
	require.Equal(t, "k\xff\x00", got.Text())
	got, ft = compiled(t, "return x === undefined ? null : 'there'", nil, "x").Call([]value.Value{{}})
	require.Nil(t, ft)
	require.Equal(t, value.Null, got.Kind())
	in := value.NewRecord(value.NewLayout("a", "b"), []value.Value{value.Int(1), value.ListOf(value.NewText("x"), value.NullValue)})
	got, ft = compiled(t, "return {list: x.b, sum: x.a + 0.5, gone: undefined}", nil, "x").Call([]value.Value{in})
	require.Nil(t, ft)
	require.Equal(t, "1.5", got.Field("sum").String())
	require.Len(t, got.Field("list").Items(), 2)
	require.Equal(t, value.Absent, got.Field("gone").Kind())
}

func TestWhatCannotBeRepresentedIsAFault(t *testing.T) {
	any := []value.Value{{}}
	for body, c := range map[string]struct {
		result *schema.Field
		args   []value.Value
		want   string
	}{
		"return x":                      {nil, []value.Value{parsed(value.Decimal, "1234567890.12345678901")}, "the decimal 1234567890.12345678901 cannot be held exactly"},
		"return [x]":                    {nil, []value.Value{parsed(value.Timestamp, "2031-03-09T07:30:00.0000001Z")}, "is finer than a Date"},
		"return 0/0":                    {nil, any, "expected a value that can stand in a message, found NaN"},
		"return 1.5":                    {field(value.Integer), any, "expected integer, found 1.5"},
		"return 2**60":                  {field(value.Integer), any, "expected integer, found 1152921504606847"},
		"return '7'":                    {field(value.Integer), any, "expected integer, found 7"},
		"return () => 1":                {nil, any, "a Function"},
		"return new Date(NaN)":          {nil, any, "invalid Date"},
		"return Symbol('a')":            {nil, any, "a Symbol (a) cannot be a value"},
		"return {a: {b: [1n, 0/0]}}":    {nil, any, "found NaN"},
		"return [300]":                  {field(value.Binary), any, "expected bytes from 0 to 255, found 300"},
		"return {a: 1}":                 {field(value.Text), any, "expected text, found a record"},
		"let a = {}; a.a = a; return a": {nil, any, "more than 64 deep"},
	} {
		_, ft := compiled(t, body, c.result, "x").Call(c.args)
		require.NotNil(t, ft, body)
		require.Contains(t, ft.Error(), c.want, body)
	}
}

func TestFaultsOfScriptsHaveLines(t *testing.T) {
	_, ft := New("let a = 1\nreturn a +* 2", nil, nil)
	require.NotNil(t, ft)
	require.Equal(t, fault.Syntax, ft.Code)
	require.Equal(t, 2, ft.Place.Line)
	_, ft = compiled(t, "let a = null\n\nreturn a.b", nil).Call(nil)
	require.NotNil(t, ft)
	require.Equal(t, 3, ft.Place.Line)
	require.Contains(t, ft.What(), "(line 3)")
	_, ft = compiled(t, "throw new Error('the plate is not of the islands')", nil).Call(nil)
	require.Contains(t, ft.What(), "the plate is not of the islands")
	_, ft = New(strings.Repeat(" ", MaxSource+1), nil, nil)
	require.Equal(t, fault.Limit, ft.Code)
}

// TestAScriptIsKeptWithinBounds: what would take for ever, or all memory, is a fault within moments, and
// what a script must not have is not there. Another script is not touched by it.
func TestAScriptIsKeptWithinBounds(t *testing.T) {
	const limits = "the script takes more than"
	other := compiled(t, "return x + 1", field(value.Integer), "x")
	for body, want := range map[string]string{
		"while (true) {}":                 "takes more than 1s",
		"const f = () => f(); return f()": "deep",
		"const a = []; while (true) a.push('x'.repeat(100000) + a.length)": limits,
		"return 'x'.repeat(2**30)":                                            limits,
		"return new Array(1e9).fill(0)":                                       limits,
		"const a = []; a.length = Number(x); return a":                        "more than",
		"return Math.max.apply(null, {length: 4294967295})":                   limits,
		"return 1n << 40000000000n":                                           "",
		"return String.fromCharCode.apply(null, {length: 5e8})":               limits,
		"return (3n ** BigInt(x)) % 10n":                                      limits,
		"return /^(a+)+$(?=b)/.test('a'.repeat(40) + '!')":                    limits,
		"let a = []; for (let i = 0; i < 1e6; i++) a = [a]; return String(a)": "",
		"let a = {}; for (let i = 0; i < 60; i++) a = {l: a, r: a}; return a": "more than",
		"return JSON.parse('['.repeat(1e6) + ']'.repeat(1e6))":                "",
		"return 'x'.repeat(8e7)":                                              "more than",
		"const o = {get a() { while (true) {} }}; return o":                   limits,
		"throw {toString() { while (true) {} }}":                              limits,
		"return Date.now()":                                                   "no clock",
		"return new Date()":                                                   "no clock",
		"return Math.random()":                                                "no random values",
		"return require('fs')":                                                "require is not defined",
		"return fetch('http://x')":                                            "fetch is not defined",
		"return eval('1')":                                                    "eval is not defined",
		"return (() => 1).constructor('return 1')()":                          "is not an object: undefined",
		"globalThis.kept = 1":                                                 "not extensible",
		"Array.prototype.kept = 1":                                            "not extensible",
		"kept = 1":                                                            "kept is not defined",
	} {
		f, ft := New(body, []string{"x"}, nil)
		if ft == nil { // some are so at once
			_, ft = f.Call([]value.Value{value.Int(4294967295)})
		}
		require.NotNil(t, ft, body)
		require.Contains(t, ft.Error(), want, body)
		v, ft := other.Call([]value.Value{value.Int(1)})
		require.Nil(t, ft, body)
		require.Equal(t, "2", v.String())
	}
}

// TestAScriptIsOneFunction: a text that closes the function which it is the body of, or that is made to
// hold up or to end who reads it, is a fault in moments, and is not read again for every page.
func TestAScriptIsOneFunction(t *testing.T) {
	for body, want := range map[string]string{
		"return 1})\nfor(;;){}\n(function(){":                     "closes the function",
		"return 1}, function() {":                                 "closes the function",
		"return 1} + function() {":                                "closes the function",
		"return 1})(function() {":                                 "closes the function",
		"return 1}) /*":                                           "",
		"return (3n**400000000n)%10n":                             "",
		strings.Repeat("{", 50_000):                               "",
		strings.Repeat("{", 49_000) + strings.Repeat("}", 49_000): "",
		"return " + strings.Repeat("(", 49_000) + "1" + strings.Repeat(")", 49_000): "",
		"return " + strings.Repeat("[", 99_000):                                     "",
	} {
		f, ft := New(body, nil, nil)
		if want != "" || f == nil {
			require.NotNil(t, ft, body)
			require.Contains(t, ft.Error(), want)
		}
		known := verdicts[sha256.Sum256([]byte("(function() {\n"+body+"\n})"))]
		script := known.script
		require.NotNil(t, script)
		New(body, nil, nil)
		require.Same(t, script, known.script, "it was read once")
	}
	// What a comment names is no file to read.
	f, ft := New("return 1\n//# sourceMappingURL=file:///etc/passwd", nil, nil)
	require.Nil(t, ft)
	_, ft = f.Call(nil)
	require.Nil(t, ft)
	_, ft = New("return 1", nil, nil)
	require.Nil(t, ft)
	// A fault belongs to who asked.
	_, one := New("return (", nil, nil)
	one.InField("changed")
	_, two := New("return (", nil, nil)
	require.Empty(t, two.Field)
}

func TestManyUseOneScript(t *testing.T) {
	f := compiled(t, "return x * 2", field(value.Integer), "x")
	done := make(chan string)
	for i := range 8 {
		go func() {
			for n := range 200 {
				v, ft := f.Call([]value.Value{value.Int(int64(i*1000 + n))})
				if want := value.Int(int64(2 * (i*1000 + n))); ft != nil || !value.Equal(v, want) {
					done <- v.String()
					return
				}
			}
			done <- ""
		}()
	}
	for range 8 {
		require.Empty(t, <-done)
	}
}

func BenchmarkCall(b *testing.B) {
	f := compiled(b, "return x * 2", field(value.Integer), "x")
	args := []value.Value{value.Int(4)}
	for b.Loop() {
		if _, ft := f.Call(args); ft != nil {
			b.Fatal(ft)
		}
	}
}
