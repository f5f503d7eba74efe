package mapping

import (
	"strconv"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// MaxItems bounds the items that one each makes.
const MaxItems = 1_000_000

// Trace is told each field's result while a message is made; path is as rules write it, with the
// position of list items.
type Trace func(f *Field, v value.Value, ft *fault.Fault)

// Set puts the run's facts and the source messages into the frame.
func (fr *Frame) Set(run value.Value, sources ...value.Value) {
	fr.Slots[0] = run
	copy(fr.Slots[1:], sources)
}

// Apply makes the target message. All faults of a message are reported; the message is then not
// to be used.
func (p *Plan) Apply(fr *Frame) (value.Value, fault.List) { return p.ApplyTraced(fr, nil) }

// ApplyTraced is Apply with every field's result told to trace.
func (p *Plan) ApplyTraced(fr *Frame, trace Trace) (value.Value, fault.List) {
	fr.Reset()
	r := runner{frame: fr, trace: trace}
	v := r.record(p.root)
	if r.faults != nil {
		return v, r.faults
	}
	p.Target.Check(v, func(f *fault.Fault) { r.faults = append(r.faults, f) })
	return v, r.faults
}

type runner struct {
	frame  *Frame
	trace  Trace
	faults fault.List
}

func (r *runner) record(n *node) value.Value {
	rec := r.frame.record(n.field.Shape())
	for i, c := range n.children {
		if c.direct != nil && r.trace == nil {
			rec.Fields[i] = r.frame.Slots[c.direct.Slot].Slot(c.direct.Field)
			continue
		}
		if c.program != nil && c.info.Rule.Kind == Formula && r.trace == nil {
			rec.Fields[i] = r.formula(c)
			continue
		}
		rec.Fields[i] = r.field(c)
	}
	return value.RecOf(rec)
}

// formula is field for the most frequent kind of rule.
func (r *runner) formula(n *node) value.Value {
	v, ft := n.program.Eval(&r.frame.Frame)
	if ft != nil {
		r.fault(n, ft)
	}
	if v.Kind() == value.Integer && n.field.Kind == value.Decimal {
		v = value.AsDecimal(v)
	}
	return v
}

func (r *runner) fault(n *node, ft *fault.Fault) {
	at := *ft
	at.Field = n.info.Name()
	at.Place.Path = "/" + n.info.Name()
	r.faults = append(r.faults, &at)
}

func (r *runner) field(n *node) value.Value {
	v, ft := r.make(n)
	if ft != nil {
		r.fault(n, ft)
	}
	if r.trace != nil {
		r.trace(n.info, v, ft)
	}
	return v
}

func (r *runner) make(n *node) (value.Value, *fault.Fault) {
	switch {
	case n.info.Rule == nil && n.field.Kind == value.RecordKind && !n.field.List():
		return r.inner(n), nil
	case n.info.Rule == nil:
		return value.Value{}, nil
	case len(n.info.Faults) > 0:
		return value.Value{}, n.info.Faults[0]
	case n.info.Rule.Kind == Constant:
		return n.constant, nil
	case n.info.Rule.Kind == Each:
		return r.each(n)
	}
	v, ft := n.program.Eval(&r.frame.Frame)
	if ft == nil && v.Kind() == value.Integer && n.field.Kind == value.Decimal {
		v = value.AsDecimal(v)
	}
	return v, ft
}

// inner makes a record inside a record; one that got no field at all and need not be there is left out.
func (r *runner) inner(n *node) value.Value {
	v := r.record(n)
	if n.field.Required() {
		return v
	}
	for _, f := range v.Record().Fields {
		if f.Kind() != value.Absent {
			return v
		}
	}
	return value.Value{}
}

func (r *runner) each(n *node) (value.Value, *fault.Fault) {
	list, ft := n.program.Eval(&r.frame.Frame)
	if ft != nil || list.Missing() {
		return list, ft
	}
	items := list.Items()
	if len(items) > MaxItems {
		return value.Value{}, fault.New(fault.Limit, "the list has more than %d items", MaxItems)
	}
	out := make([]value.Value, len(items))
	for len(r.frame.Slots) <= n.item {
		r.frame.Slots = append(r.frame.Slots, value.Value{})
	}
	trace := r.trace
	for i, item := range items {
		r.frame.Slots[n.item] = item
		before := len(r.faults)
		out[i] = r.record(n)
		for _, f := range r.faults[before:] {
			f.Place.Path = "/" + n.info.Name() + "/" + strconv.Itoa(i) + "/" + f.Field[len(n.info.Name())+1:]
		}
		r.trace = nil // the first item stands for all
	}
	r.trace = trace
	return value.ListOf(out...), nil
}
