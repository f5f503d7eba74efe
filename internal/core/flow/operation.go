package flow

import (
	"context"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Asking makes the request of an operation of the values in scope.
type Asking struct {
	Op    *connection.Operation
	shape *value.Shape
	slots []int // of the request's fields that the formulas fill
	progs []*formula.Program
	from  int // the slot of a record that is the request as it is; -1 is none
}

// Request makes the request; nothing where the operation needs nothing.
func (a *Asking) Request(fr *formula.Frame) (value.Value, *fault.Fault) {
	if a.Op.Request == nil {
		return value.Value{}, nil
	}
	if a.from >= 0 {
		return fr.Slots[a.from], nil
	}
	fields := make([]value.Value, len(a.Op.Request.Root.Fields))
	for i, prog := range a.progs {
		fr.Reset()
		v, f := prog.Eval(fr)
		if f != nil {
			return v, f.In(a.Op.Request.Root.Fields[a.slots[i]].Name)
		}
		fields[a.slots[i]] = fitted(v, a.Op.Request.Root.Fields[a.slots[i]])
	}
	request := value.Rec(a.shape, fields)
	var first *fault.Fault
	a.Op.Request.Check(request, func(f *fault.Fault) {
		if first == nil {
			first = f
		}
	})
	return request, first
}

// fitted makes one value a list of one where the field is a list, and a whole number a decimal where it is one.
func fitted(v value.Value, f *schema.Field) value.Value {
	if f.List() && !v.Missing() && v.Kind() != value.ListKind {
		v = value.ListOf(v)
	}
	if f.Kind == value.Decimal && v.Kind() == value.Integer {
		return value.AsDecimal(v)
	}
	return v
}

// operation finds the operation that a step names.
func (c *compiler) operation(at doc.Text, id, op string) *connection.Operation {
	conn := c.parts.Connection(id)
	if conn == nil {
		if id != "" {
			c.fault(at, fault.New(fault.Unknown, "there is no connection %q", id))
		}
		return nil
	}
	o := conn.Operation(op)
	if o == nil && op != "" {
		names := make([]string, len(conn.Operations))
		for i, other := range conn.Operations {
			names[i] = other.ID
		}
		c.fault(at, fault.New(fault.Unknown, "%s has no operation %q", conn.Title, op).Mended("It has %s", strings.Join(names, ", ")))
	}
	if o != nil {
		c.plan.Operations = append(c.plan.Operations, o)
	}
	if o != nil && len(o.Faults) > 0 {
		c.fault(at, fault.New(fault.Setting, "the operation %s has faults: %s", o.Name, o.Faults[0].What()))
	}
	return o
}

// asking compiles how an operation is asked: with a record as it is, or with formulas for the fields.
func (c *compiler) asking(at doc.Text, op *connection.Operation, from string, with []Match) *Asking {
	a := &Asking{Op: op, from: -1}
	if op.Request == nil {
		for _, m := range with {
			c.fault(m.Column, fault.New(fault.Unknown, "%s is asked with nothing", op.Name))
		}
		return a
	}
	root := op.Request.Root
	a.shape = root.Shape()
	if from != "" {
		slot, t, ok := c.scope.Slot(from)
		switch {
		case !ok:
			c.fault(at, fault.New(fault.Unknown, "no step before yields %q", from))
		case t.Fields != root:
			c.fault(at, fault.Expect(fault.Type, from+" of schema "+op.Request.ID, "schema "+t.Fields.Name))
		}
		a.from = slot
		return a
	}
	filled := map[string]bool{}
	for _, m := range with {
		f := root.Field(m.Column.Value)
		if f == nil {
			c.fault(m.Column, fault.New(fault.Unknown, "%s is not asked with %q", op.Name, m.Column.Value).Mended("It is asked with %s", strings.Join(root.Shape().Names, ", ")))
			continue
		}
		prog := c.formula(m.Formula)
		if prog == nil {
			continue
		}
		if !f.List() && !prog.Type.Fits(f.Kind) {
			c.fault(m.Formula, fault.Expect(fault.Type, f.Kind.String()+" for "+f.Name, prog.Type.String()))
		}
		filled[f.Name] = true
		a.slots, a.progs = append(a.slots, f.Slot()), append(a.progs, prog)
	}
	for _, f := range root.Fields {
		if f.Required() && !filled[f.Name] {
			c.fault(at, fault.New(fault.Required, "%s needs %s", op.Name, f.Name).Mended("Add %s: with a formula", f.Name))
		}
	}
	return a
}

var callKind = &Kind{
	Name: "call", Title: "Call an operation", About: "Asks a system with each record and adds what it answers.", Outside: true, Effect: true,
	Settings: []Setting{
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true},
		{Name: "operation", Label: "Operation", Type: Text, Required: true, Help: "One of the connection's operations, by its id"},
		{Name: "from", Label: "Record to ask with", Type: Text, Help: "The name of a step's result that is the request as it is; or write it by fields"},
		{Name: "with", Label: "Ask with", Type: Matches, Help: "Fields of the request and their formulas"},
		{Name: "as", Label: "Answer is called", Type: Text, Default: "answer"},
		{Name: "none", Label: "When there is no answer", Type: Choice, Default: "set aside", Choices: []string{"set aside", "leave out", "go on"}},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("operation") },
	compile: compileCall,
}

func compileCall(c *compiler, s *Step) runner {
	c.perRecord(s)
	op := c.operation(s.place("operation"), s.Setting("connection"), s.Setting("operation"))
	if op == nil {
		return pass
	}
	c.cur.Op = op
	a := c.asking(s.At, op, s.Setting("from"), s.Match)
	slot := -1
	if op.Response != nil {
		slot = c.define(s, "as", op.Response)
	}
	return func(ctx context.Context, b *Batch, items []*Item) error {
		var asked []*Item
		var requests []value.Value
		for _, it := range items {
			request, f := a.Request(&it.Frame)
			if f != nil {
				it.aside(s.ID, f)
				continue
			}
			asked, requests = append(asked, it), append(requests, request)
		}
		if len(asked) == 0 {
			return nil
		}
		done, err := b.Outside.Call(ctx, Call{Op: op, Step: s.ID, Items: asked}, requests)
		if err != nil {
			return err
		}
		for i, it := range asked {
			called(s, op, it, slot, done[i])
		}
		return nil
	}
}

func called(s *Step, op *connection.Operation, it *Item, slot int, d Answered) {
	if op.Verb.Effect && d.Fault == nil {
		it.Effect = Called
		if d.NotDone {
			it.Effect = NotDone
		}
	}
	switch {
	case d.Fault != nil:
		f := *d.Fault
		it.aside(s.ID, f.In(s.Name))
	case slot < 0:
	case d.Answer.Kind() != value.Absent:
		it.Frame.Slots[slot] = d.Answer
	case s.Setting("none") == "leave out":
		it.State, it.Step, it.Reason = LeftOut, s.ID, op.Name+" answers nothing"
	case s.Setting("none") == "set aside":
		it.aside(s.ID, fault.Expect(fault.NotFound, "an answer of "+op.Name, "none").In(s.Name).
			Mended("Add there what is asked for, or mend the record"))
	}
}

var writeKind = &Kind{
	Name: "write", Title: "Write files", About: "Collects the records and writes them to files when all are there: one file for each name.", Outside: true, Effect: true,
	Settings: []Setting{
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true, Help: "To a folder of this machine or another"},
		{Name: "schema", Label: "Schema", Type: Part, Of: "schema", Required: true, Help: "How the records are written"},
		{Name: "from", Label: "Record to write", Type: Text, Required: true, Help: "The name of a step's result"},
		{Name: "file name", Label: "Name of the file", Type: Formula, Required: true, Help: "Records with the same name stand in one file"},
		{Name: "there", Label: "When there is one of that name", Type: Choice, Default: "replace", Choices: []string{"replace", "refuse"}},
		{Name: "compress", Label: "Compress", Type: Choice, Default: "no", Choices: []string{"no", "gzip", "zip"}},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("file name") },
	compile: compileWrite,
}

func compileWrite(c *compiler, s *Step) runner {
	c.perRecord(s)
	id := s.Setting("connection")
	switch conn := c.parts.Connection(id); {
	case id == "":
	case conn == nil:
		c.fault(s.place("connection"), fault.New(fault.Unknown, "there is no connection %q", id))
	case connection.KindOf(conn.Kind) == nil || !connection.KindOf(conn.Kind).Watches:
		c.fault(s.place("connection"), fault.Expect(fault.Setting, "a connection to a folder", conn.Kind))
	}
	sch := c.schema(s, "schema")
	if sch.Notation == "rows" {
		c.fault(s.place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be written to a file", "rows"))
	}
	slot, t, ok := c.scope.Slot(s.Setting("from"))
	switch {
	case !ok && s.Setting("from") != "":
		c.fault(s.place("from"), fault.New(fault.Unknown, "no step before yields %q", s.Setting("from")))
	case ok && t.Fields != sch.Root:
		c.fault(s.place("from"), fault.Expect(fault.Type, s.Setting("from")+" of schema "+sch.ID, t.String()))
	}
	prog := c.formula(s.place("file name"))
	if prog != nil && !prog.Type.Fits(value.Text) {
		c.fault(s.place("file name"), fault.Expect(fault.Type, "text", prog.Type.String()))
	}
	c.cur.File = &FileTarget{Connection: id, Schema: sch, Step: s}
	if prog == nil {
		return pass
	}
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			it.Frame.Reset()
			name, f := prog.Eval(&it.Frame)
			switch {
			case f != nil:
				it.aside(s.ID, f.In(s.Name))
			case name.Kind() != value.Text || name.Text() == "":
				it.aside(s.ID, fault.Expect(fault.Required, "a name for the file", "none").In(s.Name))
			default:
				b.Collected = append(b.Collected, Collected{Item: it, Step: s.ID, Name: name.Text(), Record: it.Frame.Slots[slot]})
				it.Effect = Called
			}
		}
		return nil
	}
}

// FileTarget is where a write step's files go.
type FileTarget struct {
	Connection string
	Schema     *schema.Schema
	Step       *Step
}

// Collected is a record that is to stand in a file.
type Collected struct {
	Item   *Item
	Step   string
	Name   string
	Record value.Value
}
