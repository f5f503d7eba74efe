package worker

import (
	_ "embed" // the prelude
	"errors"
	"math/big"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/dop251/goja"
	"github.com/dop251/goja/ast"
	"github.com/dop251/goja/parser"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/script/internal/wire"
)

//go:embed prelude.js
var preludeText string

// machine is an engine with a script in it.
type machine struct {
	vm   *goja.Runtime
	call goja.Callable
}

// compiled reads a text that must be one function and nothing else. A comment in it names no file.
func compiled(text string) (*goja.Program, error) {
	program, err := parsed(text)
	if err != nil {
		return nil, err
	}
	return goja.CompileAST(program, true)
}

func parsed(text string) (*ast.Program, error) {
	program, err := goja.Parse("script", text, parser.WithDisableSourceMaps)
	if err != nil {
		return nil, err
	}
	if !isFunction(program) {
		return nil, fault.New(fault.Syntax, "the script closes the function that it is the body of").
			WithFix("Take out the } that has no {")
	}
	return program, nil
}

func isFunction(program *ast.Program) bool {
	if len(program.Body) != 1 {
		return false
	}
	statement, ok := program.Body[0].(*ast.ExpressionStatement)
	if !ok {
		return false
	}
	_, ok = statement.Expression.(*ast.FunctionLiteral)
	return ok
}

func newMachine(text string) (*machine, error) {
	program, err := compiled(text)
	if err != nil {
		return nil, err
	}
	vm := goja.New()
	vm.SetMaxCallStackSize(MaxStack)
	vm.SetTimeSource(func() time.Time { panic(vm.NewTypeError("a script has no clock")) })
	vm.SetRandSource(func() float64 { panic(vm.NewTypeError("a script has no random values")) })
	if _, err := vm.RunScript("prelude", preludeText); err != nil {
		return nil, err
	}
	v, err := vm.RunProgram(program)
	if err != nil {
		return nil, err
	}
	call, ok := goja.AssertFunction(v)
	if !ok {
		return nil, errors.New("the script is not the body of a function")
	}
	return &machine{vm: vm, call: call}, nil
}

// run calls the script with the arguments in r and adds what it gives to b.
func (m *machine) run(b []byte, r *wire.Reader) (out []byte, err error) {
	defer func() {
		if p := recover(); p != nil {
			out, err = b, fault.New(fault.Arithmetic, "the script failed: %v", p)
		}
	}()
	args := make([]goja.Value, r.Count())
	for i := range args {
		args[i] = m.read(r)
	}
	if r.Bad {
		return b, errors.New("the arguments cannot be read")
	}
	v, err := m.call(goja.Undefined(), args...)
	if err != nil {
		return b, err
	}
	return m.write(b, v, 0)
}

// read takes one value from r.
func (m *machine) read(r *wire.Reader) goja.Value {
	switch t := r.Tag(); t {
	case wire.Null:
		return goja.Null()
	case wire.False, wire.True:
		return m.vm.ToValue(t == wire.True)
	case wire.Int:
		return m.vm.ToValue(r.Int())
	case wire.Float:
		return m.vm.ToValue(r.Float())
	case wire.Big:
		n, _ := new(big.Int).SetString(r.Text(), 10)
		return m.vm.ToValue(n)
	case wire.Text:
		return m.vm.ToValue(r.Text())
	case wire.Date:
		date, err := m.vm.New(m.vm.Get("Date"), m.vm.ToValue(r.Int()))
		if err != nil {
			panic(err)
		}
		return date
	case wire.Bytes:
		return m.bytes(r.Text())
	case wire.List:
		items := make([]any, r.Count())
		for i := range items {
			items[i] = m.read(r)
		}
		return m.vm.NewArray(items...)
	case wire.Record:
		o := m.vm.NewObject()
		for range r.Count() {
			name := r.Text()
			if err := o.Set(name, m.read(r)); err != nil {
				panic(err)
			}
		}
		return o
	}
	return goja.Undefined()
}

func (m *machine) bytes(s string) goja.Value {
	items := make([]any, len(s))
	for i := range len(s) {
		items[i] = int64(s[i])
	}
	return m.vm.NewArray(items...)
}

var errMuch = fault.New(fault.Limit, "the script gives more than %d MiB", MaxFrame>>20)

// write adds a value to b. What cannot pass is described.
func (m *machine) write(b []byte, v goja.Value, depth int) ([]byte, error) {
	switch {
	case len(b) > MaxFrame:
		return b, errMuch
	case v == nil || goja.IsUndefined(v) || depth > MaxDepth+1:
		return wire.Append(b, wire.Undefined), nil
	case goja.IsNull(v):
		return wire.Append(b, wire.Null), nil
	}
	if o, ok := v.(*goja.Object); ok {
		return m.writeObject(b, o, depth)
	}
	if _, symbol := v.(*goja.Symbol); symbol {
		return wire.AppendText(b, wire.Other, "a Symbol ("+described(v)+")"), nil
	}
	switch x := v.Export().(type) {
	case bool:
		if x {
			return wire.Append(b, wire.True), nil
		}
		return wire.Append(b, wire.False), nil
	case int64:
		return wire.AppendInt(b, wire.Int, x), nil
	case float64:
		return wire.AppendFloat(b, x), nil
	case *big.Int:
		return withText(b, wire.Big, x.String())
	case string:
		return withText(b, wire.Text, x)
	}
	return wire.AppendText(b, wire.Other, described(v)), nil
}

func withText(b []byte, t wire.Tag, s string) ([]byte, error) {
	if len(b)+len(s) > MaxFrame {
		return b, errMuch
	}
	return wire.AppendText(b, t, s), nil
}

func (m *machine) writeObject(b []byte, o *goja.Object, depth int) ([]byte, error) {
	switch o.ClassName() {
	case "Array":
		return m.writeList(b, o, depth)
	case "Date":
		if t, ok := o.Export().(time.Time); ok {
			return wire.AppendInt(b, wire.Date, t.UnixMilli()), nil
		}
		return wire.AppendText(b, wire.Other, "an invalid Date"), nil
	case "Object":
		return m.writeRecord(b, o, depth)
	}
	return wire.AppendText(b, wire.Other, described(o)), nil
}

func (m *machine) writeList(b []byte, o *goja.Object, depth int) ([]byte, error) {
	n := int(o.Get("length").ToInteger())
	if n > MaxFrame {
		return b, errMuch
	}
	b, err := wire.AppendCount(b, wire.List, n), error(nil)
	for i := 0; i < n && err == nil; i++ {
		b, err = m.write(b, o.Get(strconv.Itoa(i)), depth+1)
	}
	return b, err
}

func (m *machine) writeRecord(b []byte, o *goja.Object, depth int) ([]byte, error) {
	keys := o.Keys()
	b, err := wire.AppendCount(b, wire.Record, len(keys)), error(nil)
	for i := 0; i < len(keys) && err == nil; i++ {
		b, err = m.write(wire.AppendName(b, keys[i]), o.Get(keys[i]), depth+1)
	}
	return b, err
}

// described names what a script gave.
func described(v goja.Value) string {
	text := v.String()
	if len(text) > 60 {
		text = text[:60] + "…"
	}
	if o, ok := v.(*goja.Object); ok {
		return "a " + o.ClassName() + " (" + text + ")"
	}
	return text
}

var (
	written   = regexp.MustCompile(`Line (\d+):(\d+) (.*?)(?: \(and \d+ more errors\))?$`)
	stackLine = regexp.MustCompile(`script:(\d+):(\d+)`)
)

// asFault is an error of the engine as a fault, with the line and column in the body of the function.
func asFault(err error) *fault.Fault {
	var known *fault.Fault
	var deep *goja.StackOverflowError
	var ex *goja.Exception
	switch {
	case errors.As(err, &known):
		return known
	case errors.As(err, &deep):
		return fault.New(fault.Limit, "the script's functions call each other more than %d deep", MaxStack)
	case errors.As(err, &ex):
		return thrown(ex)
	}
	if m := written.FindStringSubmatch(err.Error()); m != nil {
		return fault.New(fault.Syntax, "%s", m[3]).At(place(m))
	}
	return fault.New(fault.Syntax, "%s", strings.TrimPrefix(err.Error(), "SyntaxError: "))
}

// place is where an error is, as the engine counts: the body begins in its second line.
func place(m []string) fault.Place {
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	return fault.Place{Line: line - 1, Column: column}
}

// thrown is an exception as a fault.
func thrown(ex *goja.Exception) *fault.Fault {
	text := ex.Value().String()
	f := fault.New(fault.Arithmetic, "the script says: %s", text[:min(len(text), 500)])
	if m := stackLine.FindStringSubmatch(ex.String()); m != nil {
		f.At(place(m))
		f.Message += " (line " + strconv.Itoa(f.Place.Line) + ")"
	}
	return f
}
