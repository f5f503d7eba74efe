// Package script runs functions written in ECMAScript (ECMA-262, through github.com/dop251/goja) for
// what formulas cannot say. A script has no file, network, clock or random value; it is bounded in
// time, memory and recursion by the process that it runs in (package worker), keeps nothing from one
// call to the next, and every value that cannot be represented on the other side is a fault that names
// it.
package script

import (
	"crypto/sha256"
	"encoding/binary"
	"strings"
	"sync"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/script/internal/worker"
	"hollowreed/internal/core/value"
)

// Bounds on a script and on one call.
const (
	MaxSource = 100_000 // bytes
	MaxTime   = worker.MaxTime
	maxDepth  = worker.MaxDepth // records and lists inside each other
	maxItems  = 1_000_000
)

// Function is a script that was found right. It is immutable and used by many goroutines.
type Function struct {
	Reads  [][]string // of its arguments, as paths that begin with a parameter; items have the path of their list
	Makes  [][]string // the names of what it gives, as paths, as far as its text says so
	script *worker.Script
	result *schema.Field // nil for any
}

// New compiles the body of a function with the names of its parameters. result is what it must give;
// nil stands for anything. A fault has the line and column in the body.
func New(body string, params []string, result *schema.Field) (*Function, *fault.Fault) {
	if len(body) > MaxSource {
		return nil, fault.New(fault.Limit, "the script is longer than %d bytes", MaxSource)
	}
	v, ft := checked("(function(" + strings.Join(params, ", ") + ") {\n" + body + "\n})")
	if ft != nil {
		return nil, ft
	}
	return &Function{Reads: v.reads, Makes: v.makes, script: v.script, result: result}, nil
}

// Call runs the function.
func (f *Function) Call(args []value.Value) (value.Value, *fault.Fault) {
	b, err := binary.AppendUvarint(nil, uint64(len(args))), error(nil)
	for _, a := range args {
		if b, err = into(b, a, 0); err != nil {
			return value.Value{}, fault.From(err, fault.Type)
		}
	}
	given, ft := f.script.Call(b)
	if ft != nil {
		return value.Value{}, ft
	}
	v, err := from(&given, f.result, 0)
	if err == nil && given.Bad {
		err = fault.New(fault.Limit, "what the script gives cannot be read")
	}
	if err != nil {
		return value.Value{}, fault.From(err, fault.Type)
	}
	return v, nil
}

// Bounds on what is kept of scripts that were compiled.
const (
	maxVerdicts = 4096
	again       = 10 * time.Minute // after which a fault of the machine, and not of the text, is looked for anew
)

// verdict is what compiling one text came to. Who needs it meanwhile waits for it.
type verdict struct {
	mu     sync.Mutex
	script *worker.Script // nil before it was compiled
	reads  [][]string
	makes  [][]string
	fault  *fault.Fault
	until  time.Time // that the fault counts; zero for ever
}

// verdicts keeps what compiling came to, by the digest of the text, since the parts of a project are
// read again at every change.
var (
	mu       sync.Mutex
	verdicts = map[[sha256.Size]byte]*verdict{}
)

func checked(text string) (*verdict, *fault.Fault) {
	key := sha256.Sum256([]byte(text))
	mu.Lock()
	v := verdicts[key]
	if v == nil {
		if len(verdicts) >= maxVerdicts {
			clear(verdicts)
		}
		v = &verdict{}
		verdicts[key] = v
	}
	mu.Unlock()
	return v.of(text)
}

func (v *verdict) of(text string) (*verdict, *fault.Fault) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.script == nil || !v.until.IsZero() && time.Now().After(v.until) {
		v.script, v.until = worker.New(text), time.Time{}
		v.reads, v.makes, v.fault = v.script.Check()
		if v.fault != nil && v.fault.Code != fault.Syntax {
			v.until = time.Now().Add(again)
		}
	}
	if v.fault != nil {
		own := *v.fault
		return nil, &own
	}
	return &verdict{script: v.script, reads: v.reads, makes: v.makes}, nil
}
