package flow

import (
	"context"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Asking makes the request of an operation of the values in scope.
type Asking struct {
	Op     *connection.Operation
	filled *filled // nil where the operation needs nothing
}

// Request makes the request; nothing where the operation needs nothing.
func (a *Asking) Request(fr *formula.Frame) (value.Value, *fault.Fault) {
	if a.filled == nil {
		return value.Value{}, nil
	}
	return a.filled.make(fr)
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
func (c *compiler) asking(at doc.Text, op *connection.Operation, s *Step) *Asking {
	if op.Request != nil {
		return &Asking{Op: op, filled: c.filling(s, at, op.Request, op.Name)}
	}
	for _, m := range s.Match {
		c.fault(m.Name, fault.New(fault.Unknown, "%s is asked with nothing", op.Name))
	}
	return &Asking{Op: op}
}

var callKind = &Kind{
	Name: "call", Title: "Call an operation", Group: Systems, About: "Asks a system with each record and adds what it answers: to do something there, or to read, which changes nothing.", Effect: true,
	Targets: true,
	Settings: setting.List{
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
		{Name: "operation", Label: "Operation", Type: setting.Operation, Required: true},
		{Name: "from", Label: "Record to ask with", Type: setting.Name, Help: "The name of a step's result that is the request as it is; or write it by fields"},
		{Name: "with", Label: "Ask with", Type: setting.Pairs, Help: "Fields of the request and their formulas"},
		{Name: "as", Label: "Answer is called", Type: setting.Text, Default: "answer"},
		{Name: "records", Label: "Of an answer of several records", Type: setting.Choice, Default: string(OneRow), Choices: []string{string(OneRow), string(FirstRow), string(AllRows)}, Help: "Of an operation that reads: one, and more are a fault; the first; or all as a list"},
		{Name: "none", Label: "When there is no answer", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
	},
	Detail:  func(s *Step) string { return s.Setting("operation") },
	compile: compileCall,
}

func compileCall(c *compiler, s *Step) runner {
	op := c.operation(s.place("operation"), s.Setting("connection"), s.Setting("operation"))
	if op == nil {
		return pass
	}
	c.cur.Op = op
	a := c.asking(s.At, op, s)
	c.cur.Asking, c.cur.Upsert = a, UpsertOf(op)
	rows := Rows("")
	if op.Verb.Reads {
		rows = Rows(s.Setting("records"))
	}
	slot := -1
	switch {
	case op.Response == nil:
	case rows == AllRows:
		slot = c.yield(s, "as", Named{Schema: op.Response, List: true}, formula.Type{Kind: value.ListKind, Item: &formula.Type{Kind: value.RecordKind, Fields: op.Response.Root}})
	default:
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
		done, err := b.Outside.Call(ctx, Call{Op: op, Flow: c.flow.ID, Step: s.ID, Items: asked, Rows: rows}, requests)
		if err != nil {
			return err
		}
		for i, it := range asked {
			called(s, op, it, slot, done[i])
		}
		return nil
	}
}

func called(s *Step, op *connection.Operation, it *Item, slot int, d Response) {
	it.heard(s.ID, d.Said)
	if op.Changes() && d.Fault == nil {
		effect := Called
		if d.NotDone {
			effect = NotDone
		}
		it.did(s.ID, effect)
	}
	if told := notDone(op, d); told != "" {
		it.Notes = append(it.Notes, it.placed(s.ID, fault.New(fault.Note, "%s", told))...)
	}
	switch {
	case d.Fault != nil:
		f := *d.Fault
		it.aside(s.ID, f.In(s.Name))
	case slot < 0:
	case d.Answer.Kind() != value.Absent:
		if f := wrongAnswer(op, d.Answer); f != nil {
			it.aside(s.ID, f)
			return
		}
		it.Frame.Slots[slot] = d.Answer
	case s.Setting("none") == "skip":
		it.State, it.Step, it.Reason = Skipped, s.ID, op.Name+" answers nothing"
	case s.Setting("none") == "set aside":
		it.aside(s.ID, fault.Expect(fault.NotFound, "an answer of "+op.Name, "none").In(s.Name).
			Mended("Add there what is asked for, or mend the record"))
	}
}

// notDone says what stands in place of an answer of what was not done; empty where it was done.
func notDone(op *connection.Operation, d Response) string {
	switch {
	case !d.NotDone || d.Fault != nil || op.Response == nil:
		return ""
	case !op.Changes():
		return "Not asked yet: this is the kept sample of its answer."
	case d.MadeUp:
		return "Nothing was asked: a try changes no system. This answer is made up; keep a sample of a real one with " + op.Name + "."
	}
	return "Nothing was asked: a try changes no system. This is the kept sample of its answer."
}

// wrongAnswer is the first value of what an operation that reads has answered that is not of its type: formulas could not
// work with it.
func wrongAnswer(op *connection.Operation, answer value.Value) *fault.Fault {
	if op.Changes() { // what was done is done
		return nil
	}
	rows := answer.Items()
	if answer.Kind() == value.RecordKind {
		rows = []value.Value{answer}
	}
	for _, row := range rows {
		if f := firstFault(op.Response, row); f != nil && f.Code == fault.Type {
			return f.Mended("The system answered with it: convert it in the operation, for example in its statement, or take the field as text")
		}
	}
	return nil
}

var writeKind = &Kind{
	Name: "write", Title: "Write files", Group: Systems, About: "Collects the records and writes them to files when all are there: one file for each name.", Effect: true,
	Collects: true,
	Begin:    func(o Offering) doc.Out { return append(o.Connection(hasFolder), o.Record("from", "schema")...) },
	Settings: setting.List{
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Help: "To a folder of this machine or another"},
		{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true, Help: "How the records are written"},
		{Name: "from", Label: "Record to write", Type: setting.Name, Required: true, Help: "The name of a step's result"},
		{Name: "file name", Label: "Name of the file", Type: setting.Formula, Required: true, Help: "Records with the same name stand in one file"},
		{Name: "there", Label: "If the file exists", Type: setting.Choice, Default: "replace", Choices: []string{"replace", "refuse"}},
		{Name: "compress", Label: "Compress", Type: setting.Choice, Default: "no", Choices: []string{"no", "gzip", "zip"}},
	},
	Detail:  func(s *Step) string { return s.Setting("file name") },
	compile: compileWrite,
}

func compileWrite(c *compiler, s *Step) runner {
	id := s.Setting("connection")
	switch conn := c.parts.Connection(id); {
	case id == "":
	case conn == nil:
		c.fault(s.place("connection"), fault.New(fault.Unknown, "there is no connection %q", id))
	case connection.KindOf(conn.Kind) == nil || !connection.KindOf(conn.Kind).Watches:
		c.fault(s.place("connection"), fault.Expect(fault.Setting, "a connection to a folder", conn.Kind))
	}
	sch := c.schema(s, "schema")
	if !sch.Notation.Bytes {
		c.fault(s.place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be written to a file", "rows"))
	}
	slot, has := c.record(s, "from")
	check := c.fits(s, "from", has, sch)
	prog := c.want(s.place("file name"), value.Text, "text")
	c.cur.File = &FileTarget{Connection: id, Schema: sch, Step: s}
	if prog == nil {
		return pass
	}
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			it.Frame.Reset()
			name, f := prog.Eval(&it.Frame)
			if f == nil && check {
				f = firstFault(sch, it.Frame.Slots[slot])
			}
			switch {
			case f != nil:
				it.aside(s.ID, f.In(s.Name))
			case name.Kind() != value.Text || name.Text() == "":
				it.aside(s.ID, fault.Expect(fault.Required, "a name for the file", "none").In(s.Name))
			default:
				b.Collected = append(b.Collected, Collected{Item: it, Step: s.ID, Name: name.Text(), Record: it.Frame.Slots[slot]})
				it.did(s.ID, ForFile)
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
