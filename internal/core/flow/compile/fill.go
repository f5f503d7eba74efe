package compile

import (
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// Optional compiles a formula that need not be there.
func (c *Compiler) Optional(s *flow.Step, setting string) *formula.Program {
	if s.Setting(setting) == "" {
		return nil
	}
	return c.Formula(s.Place(setting))
}

// Fill compiles how a record of a schema is made.
func (c *Compiler) Fill(s *flow.Step, at partfile.Text, sch *schema.Schema, what string) *running.Filled {
	a := &running.Filled{Schema: sch, From: -1}
	if s.Setting("from") != "" {
		slot, has := c.Record(s, "from")
		a.Check = c.Fits(s, "from", has, sch)
		a.From = max(slot, 0)
		return a
	}
	done := map[string]bool{}
	for _, m := range s.Match {
		f := sch.Root.Field(m.Name.Value)
		if f == nil {
			c.Fault(m.Name, fault.New(fault.Unknown, "%s has no field %q", what, m.Name.Value).WithFix("It has %s", strings.Join(sch.Root.Layout().Names, ", ")))
			continue
		}
		done[f.Name] = true
		prog := c.Formula(m.Formula)
		if prog == nil {
			continue
		}
		if !f.List() && !prog.Type.Fits(f.Kind) {
			c.Fault(m.Formula, fault.Expect(fault.Type, f.Kind.String()+" for "+f.Name, prog.Type.String()))
		}
		a.Slots, a.Progs = append(a.Slots, f.Slot()), append(a.Progs, prog)
	}
	for _, f := range sch.Root.Fields {
		if f.Required() && !done[f.Name] {
			missing := fault.New(fault.Required, "%s needs %s", what, f.Name).WithFix("Add %s: with a formula", f.Name)
			missing.Setting = "with"
			c.Fault(at, missing)
		}
	}
	return a
}

// Operation finds the operation that a step names.
func (c *Compiler) Operation(at partfile.Text, id, op string) *connection.Operation {
	conn := c.Parts.Connection(id)
	if conn == nil {
		if id != "" {
			c.Fault(at, fault.New(fault.Unknown, "there is no connection %q", id))
		}
		return nil
	}
	o := conn.Operation(op)
	if o == nil && op != "" {
		names := make([]string, len(conn.Operations))
		for i, other := range conn.Operations {
			names[i] = other.ID
		}
		c.Fault(at, fault.New(fault.Unknown, "%s has no operation %q", conn.Title, op).WithFix("It has %s", strings.Join(names, ", ")))
	}
	if o != nil {
		c.Plan.Operations = append(c.Plan.Operations, o)
	}
	if o != nil && len(o.Faults) > 0 {
		c.Fault(at, fault.New(fault.Setting, "the operation %s has faults: %s", o.Name, o.Faults[0].What()))
	}
	return o
}

// Ask compiles how an operation is asked: with a record as it is, or with formulas for the fields.
func (c *Compiler) Ask(at partfile.Text, op *connection.Operation, s *flow.Step) *running.RequestBuilder {
	if op.Request != nil {
		return &running.RequestBuilder{Op: op, Filled: c.Fill(s, at, op.Request, op.Name)}
	}
	for _, m := range s.Match {
		c.Fault(m.Name, fault.New(fault.Unknown, "%s is asked with nothing", op.Name))
	}
	return &running.RequestBuilder{Op: op}
}
