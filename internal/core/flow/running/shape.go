package running

import (
	"context"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Described is the schema of what no part describes, as the results of steps. Written as bytes it is JSON.
func Described(id string, root *schema.Field) *schema.Schema {
	return &schema.Schema{ID: id, Notation: json.Kind.Notation, Root: root}
}

// FirstFault is the first fault of a value of a schema, or nil.
func FirstFault(sch *schema.Schema, v value.Value) *fault.Fault {
	var first *fault.Fault
	sch.Check(v, func(f *fault.Fault) {
		if first == nil {
			first = f
		}
	})
	return first
}

// Runner runs one step for a batch. Its error means that the whole batch must be tried again.
type Runner func(ctx context.Context, b *Batch, items []*Item) error

// PassOn is the runner of a step that does nothing: it is switched off, or lacks settings.
func PassOn(context.Context, *Batch, []*Item) error { return nil }

// FieldOf describes a value of a type as a field.
func FieldOf(name string, t formula.Type) *schema.Field {
	f := schema.Scalar(name, t.Kind)
	switch {
	case t.Kind == value.ListKind && t.Item != nil:
		if f = FieldOf(name, *t.Item); f.List() {
			f.Name = "item"
			f = &schema.Field{Name: name, Kind: value.ListKind, Fields: []*schema.Field{f}, Constraints: schema.Constraints{FractionDigits: -1}}
		}
		f.Min, f.Max = 0, schema.Many
	case t.Record():
		f = schema.Record(name, t.Fields.Fields...)
	case t.Kind == value.Absent:
		f.Kind = value.AnyKind
	case t.Fields != nil:
		twin := *t.Fields
		twin.Name, twin.Min, twin.Max = name, 1, 1
		f = &twin
	}
	if t.Maybe && f.Max == 1 {
		f.Min = 0
	}
	return f
}

// SetTotals puts the totals of the body into the whole run, for the steps behind it.
func (p *Plan) SetTotals(whole *Item, totals map[string]value.Value) {
	for _, ps := range p.Body {
		if ps.Kind.Carries && ps.Result != nil {
			whole.Frame.Slots[ps.Result.Slot] = totals[ps.Step.ID]
		}
	}
}
