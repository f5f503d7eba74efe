package flow

import (
	"context"
	"io"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var setKind = &Kind{
	Name: "set", Title: "Set values", Group: Shape, About: "Computes values by formulas and gives them names.",
	Fills: true,
	Begin: func(Offering) doc.Out {
		return yields("values", doc.Entry{Key: "values", Value: doc.Out{{Key: "value", Value: doc.Text{}}}})
	},
	Settings: setting.List{
		{Name: "values", Label: "Values", Type: setting.Pairs, Free: true, Required: true, Help: "Names and their formulas; one may use those above it"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "values", Help: "Each can be used by its own name, too"},
		onFault,
	},
	Detail: func(s *Step) string {
		names := make([]string, len(s.Match))
		for i, m := range s.Match {
			names[i] = m.Name.Value
		}
		return strings.Join(names, ", ")
	},
	compile: compileSet,
}

func compileSet(c *compiler, s *Step) runner {
	progs := make([]*formula.Program, len(s.Match))
	fields := make([]*schema.Field, len(s.Match))
	slots := make([]int, len(s.Match))
	scope := c.scope
	c.scope = scope.Inner()
	for i, m := range s.Match {
		if !formula.Name(m.Name.Value) {
			c.fault(m.Name, fault.Expect(fault.Setting, "a name of letters, digits and _", fault.Quote(m.Name.Value)))
		}
		t := formula.Type{}
		if progs[i] = c.formula(m.Formula); progs[i] != nil {
			t = progs[i].Type
		}
		fields[i] = fieldOf(m.Name.Value, t)
		slots[i] = c.scope.Define(m.Name.Value, t)
	}
	scope.Follow(c.scope)
	c.scope = scope
	sch := described(s.Setting("as"), schema.Record(s.Setting("as"), fields...))
	slot := c.define(s, "as", sch)
	c.scope.Open(s.Setting("as"))
	shape := sch.Root.Shape()
	return func(_ context.Context, _ *Batch, items []*Item) error {
		for _, it := range items {
			values := make([]value.Value, len(progs))
			for i, prog := range progs {
				it.Frame.Reset()
				v, f := prog.Eval(&it.Frame)
				if f != nil {
					it.aside(s.ID, f.In(fields[i].Name))
					break
				}
				values[i], it.Frame.Slots[slots[i]] = v, v
			}
			if it.State == Live {
				it.Frame.Slots[slot] = value.Rec(shape, values)
			}
		}
		return nil
	}
}

// fieldOf describes a value of a type as a field.
func fieldOf(name string, t formula.Type) *schema.Field {
	f := schema.Scalar(name, t.Kind)
	switch {
	case t.Kind == value.ListKind && t.Item != nil:
		f = fieldOf(name, *t.Item)
		f.Min, f.Max = 0, schema.Many
	case t.Kind == value.RecordKind && t.Fields != nil:
		f = schema.Record(name, t.Fields.Fields...)
	}
	if t.Maybe && f.Max == 1 {
		f.Min = 0
	}
	return f
}

var tallyKind = &Kind{
	Name: "tally", Title: "Accumulate", Group: Shape, About: "Carries a value from record to record through the run: a counter, a sum, a list that grows.",
	Begin: func(Offering) doc.Out {
		return doc.Out{{Key: "as", Value: "total"}, {Key: "becomes", Value: "total + 1"}}
	},
	Settings: setting.List{
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "total", Help: "For each record, the value with it; behind the records, the last one"},
		{Name: "starts", Label: "Starts with", Type: setting.Formula, Default: "0"},
		{Name: "becomes", Label: "Becomes with each record", Type: setting.Formula, Required: true, Help: "total + 1 counts; flatten([list, [reading.gauge]]) collects"},
		onFault,
	},
	Detail:  func(s *Step) string { return s.Setting("as") + " = " + s.Setting("becomes") },
	compile: compileTally,
}

// maxTally bounds a list that a tally carries.
const maxTally = 10_000

func compileTally(c *compiler, s *Step) runner {
	at := s.Settings.Text("starts")
	at.Value = s.Setting("starts")
	start := c.formula(at)
	t := formula.Type{}
	if start != nil {
		t = start.Type
		if t.Kind == value.Integer {
			t.Kind = value.Decimal // a sum of either
		}
		if t.Kind == value.ListKind && t.Item == nil {
			t.Item = &formula.Type{}
		}
	}
	slot := c.yield(s, "as", namedOf(t), t)
	next := c.formula(s.place("becomes"))
	if next != nil && !t.Fits(next.Type.Kind) && !next.Type.Fits(t.Kind) && t.Kind != value.Absent {
		c.fault(s.place("becomes"), fault.Expect(fault.Type, t.String()+", as it starts", next.Type.String()))
	}
	if start == nil || next == nil {
		return pass
	}
	return func(_ context.Context, b *Batch, items []*Item) error {
		if b.Totals == nil {
			b.Totals = &Totals{}
		}
		b.Totals.mu.Lock()
		defer b.Totals.mu.Unlock()
		for _, it := range items {
			now, ok := b.Totals.Values[s.ID]
			var f *fault.Fault
			if it.Frame.Reset(); !ok {
				now, f = start.Eval(&it.Frame)
			}
			if f == nil {
				it.Frame.Slots[slot] = now
				now, f = next.Eval(&it.Frame)
			}
			if f == nil && now.Kind() == value.ListKind && len(now.Items()) > maxTally {
				f = fault.New(fault.Limit, "the tally has more than %d entries", maxTally)
			}
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			if b.Totals.Values == nil {
				b.Totals.Values = map[string]value.Value{}
			}
			b.Totals.Values[s.ID], it.Frame.Slots[slot] = now, now
		}
		return nil
	}
}

// Tallied puts the totals of the body into the whole run, for the steps behind it.
func (p *Plan) Tallied(whole *Item, totals map[string]value.Value) {
	for _, ps := range p.Body {
		if ps.kind == tallyKind && ps.Result != nil {
			whole.Frame.Slots[ps.Result.Slot] = totals[ps.Step.ID]
		}
	}
}

var checkKind = &Kind{
	Name: "check", Title: "Check", Group: Shape, About: "Compares a text or a record with a schema.",
	Begin: func(o Offering) doc.Out { return o.Record("value", "schema") },
	Settings: setting.List{
		{Name: "value", Label: "Check", Type: setting.Formula, Required: true, Help: "A text in the schema's notation, or a record"},
		{Name: "schema", Label: "Against", Type: setting.Part, Of: "schema", Required: true},
		{
			Name: "faults", Label: "What a fault does", Type: setting.Choice, Default: "stop with all", Choices: []string{"stop at the first", "stop with all", "carry on, noted in the event log", "carry on, noted in the run only"},
			Help: "Stop: the record goes no further. Carry on: it goes on as it is",
		},
		onFault,
	},
	Detail:  func(s *Step) string { return "against " + s.Setting("schema") },
	compile: compileCheck,
}

func compileCheck(c *compiler, s *Step) runner {
	prog, sch := c.formula(s.place("value")), c.schema(s, "schema")
	if prog == nil {
		return pass
	}
	if !prog.Type.Fits(value.Text) && !prog.Type.Fits(value.RecordKind) {
		c.fault(s.place("value"), fault.Expect(fault.Type, "a text or a record", prog.Type.String()))
	}
	mode := s.Setting("faults")
	return func(_ context.Context, b *Batch, items []*Item) error {
		for _, it := range items {
			it.Frame.Reset()
			v, f := prog.Eval(&it.Frame)
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				continue
			}
			if faults := checked(sch, v, mode == "stop at the first"); len(faults) > 0 {
				found(b, s, it, mode, faults)
			}
		}
		return nil
	}
}

// found does with the faults of a check what its setting says.
func found(b *Batch, s *Step, it *Item, mode string, faults fault.List) {
	switch mode {
	case "stop at the first", "stop with all":
		it.aside(s.ID, faults...)
		return
	case "carry on, noted in the event log":
		for _, f := range faults {
			b.Events = append(b.Events, Event{Step: s.ID, Record: it.Record, Text: fault.Shown(f.Error()), Fault: f})
		}
	}
	it.Notes = append(it.Notes, it.placed(s.ID, faults...)...)
}

// maxFaults bounds the faults that one message can have.
const maxFaults = 100

// checked gives the faults of a text or a record against a schema.
func checked(sch *schema.Schema, v value.Value, first bool) (faults fault.List) {
	most := maxFaults
	if first {
		most = 1
	}
	note := func(f *fault.Fault) {
		if len(faults) < most {
			faults = append(faults, f)
		}
	}
	if v.Kind() != value.Text && v.Kind() != value.Binary {
		Conform(sch, v, note)
		return faults
	}
	_, list := readAll(sch, v, most)
	for _, f := range list {
		note(f)
	}
	return faults
}

// Conform makes a record one of a schema's shape: fields of the same names. What the schema does not have, or has
// otherwise, is reported.
func Conform(sch *schema.Schema, v value.Value, report func(*fault.Fault)) value.Value {
	out := conform(sch.Root, v, "", report)
	sch.Check(out, report)
	return out
}

func conform(f *schema.Field, v value.Value, path string, report func(*fault.Fault)) value.Value {
	switch {
	case v.Kind() == value.ListKind:
		items := make([]value.Value, len(v.Items()))
		for i, item := range v.Items() {
			items[i] = conform(f, item, path, report)
		}
		return value.ListOf(items...)
	case f.Kind == value.Decimal && v.Kind() == value.Integer:
		return value.AsDecimal(v)
	case f.Kind != value.RecordKind || v.Kind() != value.RecordKind || v.Record().Shape == f.Shape():
		return v
	}
	fields := make([]value.Value, len(f.Fields))
	for i, name := range v.Record().Shape.Names {
		part := v.Slot(i)
		if part.Kind() == value.Absent {
			continue
		}
		field := f.Field(name)
		if field == nil {
			report(fault.New(fault.Unknown, "the schema has no field %q", name).At(fault.Place{Path: path + "/" + name}))
			continue
		}
		fields[field.Slot()] = conform(field, part, path+"/"+name, report)
	}
	return value.Rec(f.Shape(), fields)
}

// readAll reads all messages of a text, or of bytes, with up to a number of faults.
func readAll(sch *schema.Schema, from value.Value, most int) (list []value.Value, faults fault.List) {
	if from.Kind() == value.Text {
		sch = sch.InText()
	}
	text := from.Text()
	r, err := all.Of(sch).NewReader(strings.NewReader(text), notation.Options{Schema: sch, Check: true})
	if err != nil {
		return nil, fault.List{fault.From(err, fault.Syntax)}
	}
	for len(faults) < most {
		v, err := r.Next()
		if err == io.EOF {
			return list, faults
		}
		if more, ok := err.(fault.List); ok {
			faults = append(faults, more...)
			continue
		}
		if err != nil {
			return list, append(faults, fault.From(err, fault.Syntax))
		}
		if list = append(list, v); len(list) > MaxEntries {
			return list, append(faults, fault.New(fault.Limit, "the text has more than %d records", MaxEntries))
		}
	}
	return list, faults
}

// optional compiles a formula that need not be there.
func (c *compiler) optional(s *Step, setting string) *formula.Program {
	if s.Setting(setting) == "" {
		return nil
	}
	return c.formula(s.place(setting))
}

// record makes a record of a schema by formulas for its fields, or names one that is it already.
type filled struct {
	sch   *schema.Schema
	from  int // the slot of the record; -1: by fields
	slots []int
	progs []*formula.Program
	check bool // the record is not of the schema itself
}

// filling compiles how a record of a schema is made.
func (c *compiler) filling(s *Step, at doc.Text, sch *schema.Schema, what string) *filled {
	a := &filled{sch: sch, from: -1}
	if s.Setting("from") != "" {
		slot, has := c.record(s, "from")
		a.check = c.fits(s, "from", has, sch)
		a.from = max(slot, 0)
		return a
	}
	done := map[string]bool{}
	for _, m := range s.Match {
		f := sch.Root.Field(m.Name.Value)
		if f == nil {
			c.fault(m.Name, fault.New(fault.Unknown, "%s has no field %q", what, m.Name.Value).Mended("It has %s", strings.Join(sch.Root.Shape().Names, ", ")))
			continue
		}
		done[f.Name] = true
		prog := c.formula(m.Formula)
		if prog == nil {
			continue
		}
		if !f.List() && !prog.Type.Fits(f.Kind) {
			c.fault(m.Formula, fault.Expect(fault.Type, f.Kind.String()+" for "+f.Name, prog.Type.String()))
		}
		a.slots, a.progs = append(a.slots, f.Slot()), append(a.progs, prog)
	}
	for _, f := range sch.Root.Fields {
		if f.Required() && !done[f.Name] {
			missing := fault.New(fault.Required, "%s needs %s", what, f.Name).Mended("Add %s: with a formula", f.Name)
			missing.Setting = "with"
			c.fault(at, missing)
		}
	}
	return a
}

// make makes the record.
func (a *filled) make(fr *formula.Frame) (value.Value, *fault.Fault) {
	if a.from >= 0 && a.check {
		return fr.Slots[a.from], firstFault(a.sch, fr.Slots[a.from])
	}
	if a.from >= 0 {
		return fr.Slots[a.from], nil
	}
	fields := make([]value.Value, len(a.sch.Root.Fields))
	for i, prog := range a.progs {
		fr.Reset()
		v, f := prog.Eval(fr)
		if f != nil {
			return v, f.In(a.sch.Root.Fields[a.slots[i]].Name)
		}
		fields[a.slots[i]] = fitted(v, a.sch.Root.Fields[a.slots[i]])
	}
	made := value.Rec(a.sch.Root.Shape(), fields)
	return made, firstFault(a.sch, made)
}
