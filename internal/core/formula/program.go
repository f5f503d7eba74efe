package formula

import (
	"errors"
	"strings"
	"time"

	"github.com/expr-lang/expr/ast"
	"github.com/expr-lang/expr/conf"
	"github.com/expr-lang/expr/file"
	"github.com/expr-lang/expr/parser"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Bounds on a formula and on one evaluation of it.
const (
	MaxSource = 10_000           // bytes of source
	MaxNodes  = 5_000            // nodes of its tree
	MaxSteps  = 1_000_000        // calls and list items of one evaluation
	MaxBytes  = 64 << 20         // text built in one evaluation
	MaxTime   = 10 * time.Second // of MaxSteps: one evaluation, and as much again for as many steps more that it is allowed
	MaxMatch  = 200 << 20        // bytes of text times instructions of patterns in one evaluation, some seconds of work at the most
)

// Frame holds the values that a program reads and the budget of one evaluation. It belongs to
// one goroutine and is used again for the next record.
type Frame struct {
	Slots []value.Value
	stack []value.Value
	index index
	steps int
	more  int // steps beyond MaxSteps that are allowed
	bytes int
	work  int // of matching patterns
	began time.Time
}

// Reset gives the frame its full budget again.
func (fr *Frame) Reset() { fr.steps, fr.more, fr.bytes, fr.work, fr.began = 0, 0, 0, 0, time.Time{} }

// Again empties the frame for another record, and keeps its memory.
func (fr *Frame) Again() {
	clear(fr.Slots)
	*fr = Frame{Slots: fr.Slots, stack: fr.stack[:0]}
}

// AddBudget adds steps to the budget, for work that grows with the message.
func (fr *Frame) AddBudget(steps int) { fr.more += steps }

// Grow makes room for a number of slots.
func (fr *Frame) Grow(slots int) {
	for len(fr.Slots) < slots {
		fr.Slots = append(fr.Slots, value.Value{})
	}
}

var (
	errSteps = errors.New("the formula takes more than 1,000,000 steps")
	errTime  = errors.New("the formula takes more than 10 s")
	errBytes = errors.New("the formula builds more than 64 MiB of text")
	errMatch = errors.New("the formula matches patterns with more text than is allowed in one evaluation; shorten the text first, or make the pattern simpler")
)

func (fr *Frame) step() error {
	fr.steps++
	if fr.steps > MaxSteps+fr.more {
		return errSteps
	}
	if fr.steps%look == 0 {
		return fr.late()
	}
	return nil
}

// look is how many steps are between two looks at the clock: one step takes milliseconds at the most, as it may go through
// MaxBytes of text.
const look = 256

// late is a fault once the evaluation has taken too long. It takes its time from the first look on.
func (fr *Frame) late() error {
	now := time.Now()
	if fr.began.IsZero() {
		fr.began = now
	}
	if now.Sub(fr.began) > MaxTime/MaxSteps*time.Duration(MaxSteps+fr.more) {
		return errTime
	}
	return nil
}

func (fr *Frame) grow(n int) error {
	fr.bytes += n
	if n < 0 || fr.bytes > MaxBytes {
		return errBytes
	}
	return nil
}

// match settles whether a text may be matched with a pattern of a size.
func (fr *Frame) match(text, size int) error {
	if size > 0 && text > (MaxMatch-fr.work)/size {
		return errMatch
	}
	fr.work += text * size
	return nil
}

type eval func(*Frame) (value.Value, *fault.Fault)

// Program is a compiled formula.
type Program struct {
	Source            string
	Type              Type
	Reads             [][]string // the paths that it reads, each from a name of the scope
	Tables, Libraries []string   // the tables that it looks into, and the functions of libraries that it uses
	eval              eval
	slots             int
	bare              bool
	direct            *FieldAccess
}

// FieldAccess is where the value of a formula stands that is nothing but a field of a record in scope.
type FieldAccess struct{ Slot, Field int }

// FieldAccess says where the formula's value stands in the frame; nil when it must be evaluated.
func (p *Program) FieldAccess() *FieldAccess { return p.direct }

// Slots is how many slots the frame of an evaluation has.
func (p *Program) Slots() int { return p.slots }

// Reference says whether the formula is nothing but a field's path.
func (p *Program) Reference() bool { return p.bare }

// Eval computes the formula. The frame must hold the scope's values. A fault's column counts
// characters of the formula from 1.
func (p *Program) Eval(fr *Frame) (value.Value, *fault.Fault) {
	fr.Grow(p.slots)
	return p.eval(fr)
}

// Compile parses, checks and compiles a formula. It reports every fault that it finds; the
// program is nil if there is any.
func Compile(source string, scope *Scope) (*Program, fault.List) {
	if strings.TrimSpace(source) == "" {
		return nil, fault.List{fault.New(fault.Required, "the formula is empty")}
	}
	if len(source) > MaxSource {
		return nil, fault.List{fault.New(fault.Limit, "the formula is longer than %d bytes", MaxSource)}
	}
	p, faults := compilePlain(source, scope)
	if len(faults) > 0 {
		faults = hinted(source, scope, faults)
	}
	return p, faults
}

func compilePlain(source string, scope *Scope) (*Program, fault.List) {
	tree, err := parse(source)
	if err != nil {
		return nil, fault.List{syntax(err)}
	}
	c := &compiler{source: []rune(source), scope: scope.Inner(), frames: max(scope.size, scope.temps), taken: new(int)}
	e, t := c.node(tree.Node)
	if c.faults != nil {
		return nil, c.faults
	}
	return &Program{Source: source, Type: t, Reads: c.reads, Tables: c.lookups, Libraries: c.libraries, eval: e, slots: c.frames, bare: c.bare(tree.Node), direct: c.direct(tree.Node)}, nil
}

func parse(source string) (*parser.Tree, error) {
	config := conf.CreateNew()
	config.MaxNodes = MaxNodes
	return parser.ParseWithConfig(source, config)
}

// Names lists the names that a formula begins paths with, as far as it can be read.
func Names(source string) []string {
	if len(source) > MaxSource {
		return nil
	}
	tree, err := parse(source)
	if err != nil {
		return nil
	}
	n := names{}
	ast.Walk(&tree.Node, &n)
	return n.found
}

type names struct{ found []string }

// Visit keeps the name of an identifier.
func (n *names) Visit(node *ast.Node) {
	if id, ok := (*node).(*ast.IdentifierNode); ok {
		n.found = append(n.found, id.Value)
	}
}

func syntax(err error) *fault.Fault {
	var e *file.Error
	if !errors.As(err, &e) {
		return fault.New(fault.Syntax, "%s", err)
	}
	what := plain(e.Message)
	return fault.New(fault.Syntax, "%s", what).At(fault.Place{Column: e.From + 1})
}

// plain puts the parser's message into words for a person.
func plain(message string) string {
	switch {
	case strings.Contains(message, "EOF"), strings.Contains(message, "unexpected end"):
		return "the formula ends too early"
	case strings.Contains(message, "integer literal"):
		return "a whole number of more than 18 digits; write it as decimal(\"…\")"
	}
	for _, kind := range []string{"Operator", "Identifier", "Bracket", "Number", "String"} {
		message = strings.Replace(message, "token "+kind+"(", "token (", 1)
	}
	return message
}
