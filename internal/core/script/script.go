// Package script runs functions written in ECMAScript (ECMA-262, through github.com/dop251/goja) for
// what formulas cannot say. A script has no file, network, clock or random value; it is bounded in
// time, memory and recursion, keeps nothing from one call to the next, and every value that cannot be
// represented on the other side is a fault that names it.
package script

import (
	_ "embed" // the prelude
	"errors"
	"regexp"
	"runtime/metrics"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/dlclark/regexp2/v2"
	"github.com/dop251/goja"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Bounds on a script and on one call.
const (
	MaxSource = 100_000 // bytes
	MaxTime   = time.Second
	MaxHeap   = 256 << 20 // bytes by which the process may grow during a call
	maxStack  = 500       // calls inside each other
	maxDepth  = 64        // records and lists inside each other
	maxItems  = 1_000_000
	watch     = 5 * time.Millisecond
)

//go:embed prelude.js
var preludeText string

// A pattern that goes back and forth without end is stopped, too.
func init() { regexp2.DefaultMatchTimeout = MaxTime }

var prelude = goja.MustCompile("prelude", preludeText, true)

// Function is a compiled script. It is immutable and used by many goroutines.
type Function struct {
	program *goja.Program
	result  *schema.Field // nil for any
	free    sync.Pool     // of *machine
}

// machine is one engine with the function in it.
type machine struct {
	vm   *goja.Runtime
	call goja.Callable
}

// New compiles the body of a function with the names of its parameters. result is what it must give;
// nil stands for anything. A fault has the line and column in the body.
func New(body string, params []string, result *schema.Field) (*Function, *fault.Fault) {
	if len(body) > MaxSource {
		return nil, fault.New(fault.Limit, "the script is longer than %d bytes", MaxSource)
	}
	program, err := goja.Compile("script", "(function("+strings.Join(params, ", ")+") {\n"+body+"\n})", true)
	if err != nil {
		return nil, syntax(err)
	}
	f := &Function{program: program, result: result}
	m, err := f.machine()
	if err != nil {
		return nil, thrown(err)
	}
	f.free.Put(m)
	return f, nil
}

var written = regexp.MustCompile(`Line (\d+):(\d+) (.*?)(?: \(and \d+ more errors\))?$`)

func syntax(err error) *fault.Fault {
	m := written.FindStringSubmatch(err.Error())
	if m == nil {
		return fault.New(fault.Syntax, "%s", strings.TrimPrefix(err.Error(), "SyntaxError: "))
	}
	line, _ := strconv.Atoi(m[1])
	column, _ := strconv.Atoi(m[2])
	return fault.New(fault.Syntax, "%s", m[3]).At(fault.Place{Line: line - 1, Column: column})
}

func (f *Function) machine() (*machine, error) {
	vm := goja.New()
	vm.SetMaxCallStackSize(maxStack)
	vm.SetTimeSource(func() time.Time { panic(vm.NewTypeError("a script has no clock")) })
	vm.SetRandSource(func() float64 { panic(vm.NewTypeError("a script has no random values")) })
	if _, err := vm.RunProgram(prelude); err != nil {
		return nil, err
	}
	v, err := vm.RunProgram(f.program)
	if err != nil {
		return nil, err
	}
	call, ok := goja.AssertFunction(v)
	if !ok {
		return nil, errors.New("the script is not the body of a function")
	}
	return &machine{vm: vm, call: call}, nil
}

// outcome is what a call came to.
type outcome struct {
	v value.Value
	f *fault.Fault
}

// Call runs the function. A call that does not end when it is told to is left behind with its engine.
func (f *Function) Call(args []value.Value) (value.Value, *fault.Fault) {
	m, ok := f.free.Get().(*machine)
	if !ok {
		var err error
		if m, err = f.machine(); err != nil {
			return value.Value{}, thrown(err)
		}
	}
	done := make(chan outcome, 1)
	g := &guard{vm: m.vm, ended: make(chan struct{})}
	go func() {
		v, ft := f.run(m, args)
		g.end()
		done <- outcome{v, ft}
	}()
	go g.watch()
	select {
	case o := <-done:
		if !g.stopped {
			f.free.Put(m)
		}
		return o.v, o.f
	case <-time.After(2 * MaxTime):
		return value.Value{}, late()
	}
}

func late() *fault.Fault {
	return fault.New(fault.Limit, "the script takes more than %s", MaxTime)
}

var errLate, errHeap = errors.New("late"), errors.New("heap")

// guard stops a call that takes too long or too much memory. Once the call has ended it stops nothing,
// so that the next one has the engine to itself.
type guard struct {
	vm      *goja.Runtime
	ended   chan struct{}
	mu      sync.Mutex
	over    bool
	stopped bool
}

func (g *guard) end() {
	g.mu.Lock()
	g.over = true
	g.mu.Unlock()
	close(g.ended)
}

func (g *guard) stop(why error) {
	g.mu.Lock()
	defer g.mu.Unlock()
	if !g.over {
		g.stopped = true
		g.vm.Interrupt(why)
	}
}

func (g *guard) watch() {
	began, ticks := time.Now(), time.NewTicker(watch)
	defer ticks.Stop()
	var before uint64
	for {
		select {
		case <-g.ended:
			return
		case <-ticks.C:
		}
		now := heap()
		if before == 0 {
			before = now
		}
		switch {
		case time.Since(began) > MaxTime:
			g.stop(errLate)
		case now > before+MaxHeap:
			g.stop(errHeap)
		}
	}
}

func heap() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/heap/objects:bytes"}}
	metrics.Read(sample)
	return sample[0].Value.Uint64()
}

func (f *Function) run(m *machine, args []value.Value) (v value.Value, ft *fault.Fault) {
	defer func() {
		if r := recover(); r != nil {
			v, ft = value.Value{}, fault.New(fault.Arith, "the script failed: %v", r)
		}
	}()
	in := make([]goja.Value, len(args))
	for i, a := range args {
		var err error
		if in[i], err = m.into(a, 0); err != nil {
			return value.Value{}, fault.From(err, fault.Type)
		}
	}
	out, err := m.call(goja.Undefined(), in...)
	if err != nil {
		return value.Value{}, thrown(err)
	}
	v, err = m.from(out, f.result, 0)
	if err != nil {
		return value.Value{}, fault.From(err, fault.Type)
	}
	return v, nil
}

var stackLine = regexp.MustCompile(`script:(\d+):(\d+)`)

// thrown is an exception as a fault, with the line in the script.
func thrown(err error) *fault.Fault {
	var stopped *goja.InterruptedError
	var deep *goja.StackOverflowError
	var ex *goja.Exception
	switch {
	case errors.As(err, &stopped) && stopped.Value() == errHeap:
		return fault.New(fault.Limit, "the script takes more than %d MiB of memory", MaxHeap>>20)
	case errors.As(err, &stopped):
		return late()
	case errors.As(err, &deep):
		return fault.New(fault.Limit, "the script's functions call each other more than %d deep", maxStack)
	case errors.As(err, &ex):
		f := fault.New(fault.Arith, "%s", said(ex))
		if m := stackLine.FindStringSubmatch(ex.String()); m != nil {
			line, _ := strconv.Atoi(m[1])
			column, _ := strconv.Atoi(m[2])
			f.At(fault.Place{Line: line - 1, Column: column})
			f.Message += " (line " + strconv.Itoa(line-1) + ")"
		}
		return f
	}
	return fault.New(fault.Arith, "%s", err)
}

func said(ex *goja.Exception) string {
	text := ex.Value().String()
	return "the script says: " + text[:min(len(text), 500)]
}
