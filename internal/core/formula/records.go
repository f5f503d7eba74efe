package formula

import (
	"io"
	"slices"
	"strconv"
	"strings"

	"github.com/expr-lang/expr/ast"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

var (
	recordKind = []value.Kind{value.RecordKind}
	oneRecord  = []Param{p("record", recordKind)}
)

// recordFunctions are those on records of any shape.
var recordFunctions = []Function{
	recordFn("fieldNames", "The names of a record's fields that are there, in their order.", oneRecord, Type{Kind: value.ListKind, Item: &Type{Kind: value.Text}}, func(a []value.Value) (value.Value, error) {
		var names []value.Value
		for i, v := range a[0].Record().Fields {
			if v.Kind() != value.Absent {
				names = append(names, value.NewText(a[0].Record().Layout.Names[i]))
			}
		}
		return value.ListOf(names...), nil
	}, ex(`join(fieldNames(record("a", 1, "b", 2)), " ")`, "a b")),
	recordFn("fieldValues", "The values of a record's fields that are there, in their order.", oneRecord, Type{Kind: value.ListKind}, func(a []value.Value) (value.Value, error) {
		return value.ListOf(slices.DeleteFunc(slices.Clone(a[0].Record().Fields), func(v value.Value) bool { return v.Kind() == value.Absent })...), nil
	}, ex(`sum(fieldValues(record("a", 1, "b", 2)))`, "3")),
	recordFn("field", "The field of a record with a name that is only known at run time; absent where there is none.", []Param{p("record", recordKind), p("name", textKind)}, Type{Maybe: true}, func(a []value.Value) (value.Value, error) {
		return a[0].Field(a[1].Text()), nil
	}, ex(`field(record("a", 1), "a")`, "1")),
	recordFn("hasField", "Whether a record has a field of a name.", []Param{p("record", recordKind), p("name", textKind)}, Type{Kind: value.Boolean}, func(a []value.Value) (value.Value, error) {
		return value.Bool(a[0].Field(a[1].Text()).Kind() != value.Absent), nil
	}, ex(`hasField(record("a", nil), "a")`, "true"), ex(`hasField(record("a", 1), "b")`, "false")),
	{
		Name: "keys", Family: "records", About: "The names of a map's entries, in their order.", Params: []Param{p("map", recordKind)},
		Result: func([]Type) Type { return Type{Kind: value.ListKind, Item: &Type{Kind: value.Text}} },
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			names, _ := entriesOf(a[0])
			return value.ListOf(names...), fr.grow(32 * len(names))
		},
		Examples: []Example{{`join(keys(fromEntries([record("key", "EUR", "value", 1)])), " ")`, "EUR"}},
	},
	{
		Name: "values", Family: "records", About: "What stands at the names of a map, in their order.", Params: []Param{p("map", recordKind)}, Result: itemsOfMap,
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			_, values := entriesOf(a[0])
			return value.ListOf(values...), fr.grow(32 * len(values))
		},
		Examples: []Example{{`sum(values(record("a", 1, "b", 2)))`, "3"}},
	},
	{
		Name: "entries", Family: "records", About: "The entries of a map: a list of records with key and value.", Params: []Param{p("map", recordKind)}, Result: entryType, Call: listEntries,
		Examples: []Example{{`entries(record("a", 1, "b", 2))[1].key`, "b"}},
	},
	{
		Name: "fromEntries", Family: "records", About: "A map of a list of records with key and value; a key must not stand twice.", Params: []Param{p("list", listKind)},
		Result: func(a []Type) Type { return Type{Kind: value.RecordKind} }, Call: fromEntries,
		Examples: []Example{{`toJSON(fromEntries(map(["a", "b"], record("key", #, "value", length(#)))))`, `{"a":1,"b":1}`}},
	},
	{
		Name: "branch", Family: "records", About: "The name of the branch that a value of several shapes is; absent where it is missing.", Params: []Param{p("variant", nil)}, Lenient: true, bind: bindBranch,
		Result: known(value.Text),
	},
	{
		Name: "record", Family: "records", About: "A record of names and values, by turns.", Params: []Param{p("name", textKind), p("value", nil)}, Variadic: true, Lenient: true,
		Result: known(value.RecordKind), Call: makeRecord, Examples: []Example{{`toJSON(record("a", 1, "b", "x"))`, `{"a":1,"b":"x"}`}},
	},
	{
		Name: "merge", Family: "records", About: "The fields of several records in one; a later value takes the place of an earlier one.", Params: oneRecord, Variadic: true,
		Result: known(value.RecordKind), Call: mergeRecords, Examples: []Example{{`toJSON(merge(record("a", 1, "b", 2), record("b", 3)))`, `{"a":1,"b":3}`}},
	},
	narrowed("pick", "A record with no other fields than those of a list of names.", true, ex(`toJSON(pick(record("a", 1, "b", 2), ["b"]))`, `{"b":2}`)),
	narrowed("omit", "A record without the fields of a list of names.", false, ex(`toJSON(omit(record("a", 1, "b", 2), ["b"]))`, `{"a":1}`)),
}

// messageFunctions are those on messages as text, and on values of which no schema is known.
var messageFunctions = []Function{
	{
		Name: "toJSON", Family: "messages", About: "A value as a JSON text (RFC 8259).", Params: []Param{p("value", nil)}, Result: known(value.Text), Examples: []Example{{`toJSON([1, "a", true])`, `[1,"a",true]`}},
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			b := json.Bytes(a[0])
			return value.NewText(string(b)), fr.grow(len(b))
		},
	},
	{
		Name: "fromJSON", Family: "messages", About: "The value of a JSON text (RFC 8259); what is in it is only known at run time.", Params: []Param{p("text", textKind)}, Result: known(value.Absent),
		Call: fromJSON, Examples: []Example{{`fromJSON("{\"a\": [1, 2.50]}").a[1]`, "2.50"}},
	},
	{
		Name: "pointer", Family: "messages", About: "What stands in a value at a JSON Pointer (RFC 6901); absent where there is nothing.", Params: []Param{p("value", nil), p("pointer", textKind)}, Result: known(value.Absent),
		Call:     func(_ *Frame, a []value.Value) (value.Value, error) { return pointed(a[0], a[1].Text()) },
		Examples: []Example{{`pointer(record("a", [7, 8]), "/a/1")`, "8"}, {`isAbsent(pointer(record("a", 1), "/b"))`, "true"}},
	},
}

func recordFn(name, about string, params []Param, result Type, call func(a []value.Value) (value.Value, error), examples ...Example) Function {
	return Function{
		Name: name, Family: "records", About: about, Params: params, Examples: examples, Result: func([]Type) Type { return result },
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			v, err := call(a)
			if err == nil {
				err = fr.grow(16 * len(v.Items()))
			}
			return v, err
		},
	}
}

func makeRecord(fr *Frame, a []value.Value) (value.Value, error) {
	if len(a)%2 != 0 {
		return value.Value{}, fault.Expect(fault.Syntax, "a value behind every name", "one too few")
	}
	var names []string
	var fields []value.Value
	for i := 0; i < len(a); i += 2 {
		if a[i].Kind() != value.Text || slices.Contains(names, a[i].Text()) {
			return value.Value{}, fault.Expect(fault.Type, "a name that stands once", fault.Quote(a[i].String()))
		}
		names, fields = append(names, a[i].Text()), append(fields, a[i+1])
	}
	return value.NewRecord(value.NewLayout(names...), fields), fr.grow(32 * len(names))
}

func mergeRecords(fr *Frame, a []value.Value) (value.Value, error) {
	var names []string
	var fields []value.Value
	at := map[string]int{}
	for _, r := range a {
		for i, name := range r.Record().Layout.Names {
			v := r.Record().Fields[i]
			if v.Kind() == value.Absent {
				continue
			}
			if j, there := at[name]; there {
				fields[j] = v
				continue
			}
			at[name] = len(names)
			names, fields = append(names, name), append(fields, v)
		}
	}
	return value.NewRecord(value.NewLayout(names...), fields), fr.grow(32 * len(names))
}

// narrowed makes a function that keeps the fields of a list of names, or all others.
func narrowed(name, about string, listed bool, examples ...Example) Function {
	return Function{
		Name: name, Family: "records", About: about, Params: []Param{p("record", recordKind), p("names", listKind)}, Result: known(value.RecordKind), Examples: examples,
		Call: func(fr *Frame, a []value.Value) (value.Value, error) {
			var names []string
			var fields []value.Value
			for i, n := range a[0].Record().Layout.Names {
				in := slices.ContainsFunc(a[1].Items(), func(v value.Value) bool { return v.Kind() == value.Text && v.Text() == n })
				if in == listed && a[0].Record().Fields[i].Kind() != value.Absent {
					names, fields = append(names, n), append(fields, a[0].Record().Fields[i])
				}
			}
			return value.NewRecord(value.NewLayout(names...), fields), fr.grow(32 * len(names))
		},
	}
}

func fromJSON(fr *Frame, a []value.Value) (value.Value, error) {
	text := a[0].Text()
	if err := fr.grow(4 * len(text)); err != nil {
		return value.Value{}, err
	}
	// A list is a value like any other here: it is read inside of another one.
	r, err := json.NewReader(strings.NewReader("["+text+"]"), notation.Options{})
	if err != nil {
		return value.Value{}, err
	}
	v, err := r.Next()
	if err == nil {
		if _, more := r.Next(); more != io.EOF {
			err = fault.Expect(fault.Syntax, "one JSON value", "more behind it")
		}
	}
	if err == io.EOF {
		err = fault.Expect(fault.Syntax, "a JSON value", "an empty text")
	}
	if err == nil {
		return v, nil
	}
	f := fault.From(err, fault.Syntax)
	return value.Value{}, fault.New(f.Code, "%s", f.What())
}

// pointed follows a JSON Pointer.
func pointed(v value.Value, pointer string) (value.Value, error) {
	if pointer == "" {
		return v, nil
	}
	if pointer[0] != '/' {
		return value.Value{}, fault.Expect(fault.Syntax, "a pointer that begins with /", fault.Quote(pointer))
	}
	unescape := strings.NewReplacer("~1", "/", "~0", "~")
	for step := range strings.SplitSeq(pointer[1:], "/") {
		step = unescape.Replace(step)
		switch v.Kind() {
		case value.RecordKind:
			v = v.Field(step)
		case value.ListKind:
			i, err := strconv.Atoi(step)
			if err != nil || i < 0 || i >= len(v.Items()) {
				return value.Value{}, nil
			}
			v = v.Items()[i]
		default:
			return value.Value{}, nil
		}
	}
	return v, nil
}

// entriesOf are the names of a record whose fields are there, and their values.
func entriesOf(v value.Value) (names, values []value.Value) {
	r := v.Record()
	for i, f := range r.Fields {
		if f.Kind() != value.Absent {
			names, values = append(names, value.NewText(r.Layout.Names[i])), append(values, f)
		}
	}
	return names, values
}

func itemsOfMap(a []Type) Type { return Type{Kind: value.ListKind, Item: a[0].Item} }

var entryLayout = value.NewLayout("key", "value")

// entryType is a list of records with the key and the value of each entry.
func entryType(a []Type) Type {
	of := schema.Scalar("value", value.AnyKind)
	if a[0].is(value.MapKind) && a[0].Fields != nil {
		twin := *a[0].Fields.Each()
		twin.Name = "value"
		of = &twin
	}
	return Type{Kind: value.ListKind, Item: &Type{Kind: value.RecordKind, Fields: schema.Record("entry", schema.Scalar("key", value.Text), of)}}
}

func listEntries(fr *Frame, a []value.Value) (value.Value, error) {
	names, values := entriesOf(a[0])
	entries := make([]value.Value, len(names))
	for i := range names {
		entries[i] = value.NewRecord(entryLayout, []value.Value{names[i], values[i]})
	}
	return value.ListOf(entries...), fr.grow(96 * len(entries))
}

func fromEntries(fr *Frame, a []value.Value) (value.Value, error) {
	items := a[0].Items()
	names, values := make([]string, 0, len(items)), make([]value.Value, 0, len(items))
	seen := make(map[string]bool, len(items))
	for _, item := range items {
		key := item.Field("key")
		switch {
		case key.Kind() != value.Text:
			return value.Value{}, fault.Expect(fault.Type, "a text as key", key.Kind().String())
		case seen[key.Text()]:
			return value.Value{}, fault.New(fault.Unknown, "the key %s stands twice", fault.Quote(key.Text()))
		}
		seen[key.Text()] = true
		names, values = append(names, key.Text()), append(values, item.Field("value"))
	}
	return value.NewRecord(value.NewLayout(names...), values), fr.grow(64 * len(names))
}

// bindBranch compiles the look at which branch of a variant a value is.
func bindBranch(c *compiler, fn *Function, n ast.Node, nodes []ast.Node) (eval, Type) {
	inner, t := c.node(nodes[0])
	if c.faults != nil {
		return never, Type{}
	}
	if !t.is(value.VariantKind) {
		return c.fail(nodes[0], fault.Expect(fault.Type, "a value of one of several shapes (a variant)", t.String()).InField(fn.Name))
	}
	of := t.Fields
	return func(fr *Frame) (value.Value, *fault.Fault) {
		v, f := inner(fr)
		if f != nil || v.Kind() == value.Absent {
			return v, f
		}
		b, ft := of.Branch(v)
		if ft != nil {
			return value.Value{}, ft.At(place(n))
		}
		return value.NewText(b.Name), nil
	}, Type{Kind: value.Text, Maybe: t.Maybe}
}
