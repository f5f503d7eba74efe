package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var readKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "read", Title: "Read", Group: flow.Systems, Concurrent: true, Forgets: true, About: "Reads the message in its notation and checks every record against its schema.",
		Reads: true,
		Fits:  func(o flow.Offering) bool { return !o.Reads() && o.Top() },
		Begin: func(flow.Offering) partfile.Ordered { return yields("record") },
		Settings: setting.List{
			{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Help: "How the records are written and what they must be; an operation says so itself"},
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Help: "To read what an operation answers, in place of the message that started the run"},
			{Name: "operation", Label: "Operation", Type: setting.Operation, Help: "One that reads"},
			{Name: "with", Label: "Request fields", Type: setting.Pairs, Help: "Fields of its request and their formulas"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "record", Help: "The name by which later steps speak of the record"},
			onFault,
		},
		Detail: func(s *flow.Step) string {
			if op := s.Setting("operation"); op != "" {
				return op
			}
			if s.Setting("schema") == "" {
				return "what started the run"
			}
			return "reads " + s.Setting("schema")
		},
	},
	Compile: func(c *compile.Compiler, s *flow.Step) running.Runner {
		if c.Plan.ReadStep != nil {
			c.Fault(s.At, fault.New(fault.Setting, "the flow reads its message already"))
			return running.PassOn
		}
		sch := sourceOf(c, s)
		c.Plan.ReadStep, c.Plan.Source = s, sch
		slot := c.Scope.Take()
		c.Plan.Record = slot
		n := running.RecordOf(s.Setting("as"), sch, slot)
		c.Cur.Result = &n
		return func(_ context.Context, _ *running.Batch, items []*running.Item) error {
			for _, it := range items {
				if it.State == running.Live {
					checkItem(s, sch, it, it.Frame.Slots[slot])
				}
			}
			return nil
		}
	},
}

// sourceOf is the schema of the records that a flow reads: of an operation's answer, or of the message that
// started the run.
func sourceOf(c *compile.Compiler, s *flow.Step) *schema.Schema {
	none := running.Described("record", schema.Record("record"))
	if s.Setting("operation") != "" || s.Setting("connection") != "" {
		op := c.Operation(s.Place("operation"), s.Setting("connection"), s.Setting("operation"))
		switch {
		case op == nil:
			return none
		case !op.Kind.Reads || op.Response == nil:
			c.Fault(s.Place("operation"), fault.New(fault.Setting, "%s gives no records that are described", op.Name).WithFix("Choose an operation that reads, with a response schema"))
			return none
		}
		c.Plan.Asks = c.Ask(s.At, op, s)
		c.Cur.Columns = op.Request
		return op.Response
	}
	if c.Plan.Poll != nil {
		return c.Plan.Poll.Op.Response
	}
	if s.Setting("schema") == "" {
		c.Fault(s.At, fault.Missing("schema"))
		return none
	}
	sch := c.Schema(s, "schema")
	switch {
	case !c.Flow.Trigger.Of().Files:
		c.Fault(s.At, fault.New(fault.Setting, "nothing that starts the flow brings a message").WithFix("Name a connection and an operation that reads"))
	case !sch.Notation.Bytes:
		c.Fault(s.Place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be read from a file", "rows"))
	}
	return sch
}

func checkItem(s *flow.Step, sch *schema.Schema, it *running.Item, v value.Value) {
	if sch.Fits(v) {
		return
	}
	sch.Check(v, func(f *fault.Fault) {
		if field := sch.Root.Field(strings.TrimPrefix(f.Place.Path, "/")); field != nil && field.WireFormat.From > 0 {
			path := f.Place.Path
			f.Place = it.Place
			f.Place.Path, f.Place.Column = path, field.WireFormat.From
		}
		it.Aside(s.ID, f)
	})
}
