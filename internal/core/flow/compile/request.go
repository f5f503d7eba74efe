package compile

import (
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// parameters defines the parameters of the requests that start a flow: those of its schema, and those of the path that the
// schema does not name, as texts.
func (c *Compiler) parameters(t flow.Trigger) *schema.Schema {
	if c.Plan.Bound != nil {
		root, err := running.ParametersOf(c.Plan.Bound)
		if err != nil {
			c.Fault(t.Settings.Text("api operation"), fault.From(err, fault.Setting))
		}
		if root == nil {
			return nil
		}
		return &schema.Schema{ID: "parameters", Title: "Parameters", Notation: json.Kind.Notation, Root: root}
	}
	of := c.Contract(t.Parameters)
	var fields []*schema.Field
	if of != nil {
		fields = ownFields(of.Root.Fields)
	}
	seen := map[string]bool{}
	for _, name := range flow.PathParameters(t.Path.Value) {
		if seen[name] {
			c.Fault(t.Path, fault.New(fault.Setting, "the path has the parameter %q twice", name))
		}
		seen[name] = true
		if of == nil || of.Root.Field(name) == nil {
			fields = append(fields, schema.Scalar(name, value.Text))
		}
	}
	if of == nil && len(fields) == 0 {
		return nil
	}
	for _, f := range fields {
		if f.Kind == value.RecordKind {
			c.Fault(t.Parameters, fault.New(fault.Setting, "the parameter %s is a record", f.Name).WithFix("A parameter is a single value, or a list of such"))
		}
		if seen[f.Name] && f.List() {
			c.Fault(t.Parameters, fault.New(fault.Setting, "the parameter %s of the path is a list", f.Name))
		}
	}
	return &schema.Schema{ID: "parameters", Title: "Parameters", Notation: json.Kind.Notation, Root: schema.Record("parameters", fields...)}
}

// ownFields are fields for another record, in which they have slots of their own.
func ownFields(fields []*schema.Field) []*schema.Field {
	out := make([]*schema.Field, len(fields))
	for i, f := range fields {
		own := *f
		out[i] = &own
	}
	return out
}
