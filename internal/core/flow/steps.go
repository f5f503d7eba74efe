package flow

import (
	"context"
	"strings"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var readKind = &Kind{
	Name: "read", Title: "Read", Group: Systems, About: "Reads the message in its notation and checks every record against its schema.",
	Reads: true,
	Fits:  func(o Offering) bool { return o.Plan().ReadStep == nil && o.Top() },
	Begin: func(Offering) doc.Out { return yields("record") },
	Settings: setting.List{
		{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Help: "How the records are written and what they must be; an operation says so itself"},
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Help: "To read what an operation answers, in place of the message that started the run"},
		{Name: "operation", Label: "Operation", Type: setting.Operation, Help: "One that reads"},
		{Name: "with", Label: "Ask with", Type: setting.Pairs, Help: "Fields of its request and their formulas"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "record", Help: "The name by which later steps speak of the record"},
		onFault,
	},
	Detail: func(s *Step) string {
		if op := s.Setting("operation"); op != "" {
			return op
		}
		if s.Setting("schema") == "" {
			return "what started the run"
		}
		return "reads " + s.Setting("schema")
	},
	compile: func(c *compiler, s *Step) runner {
		if c.plan.ReadStep != nil {
			c.fault(s.At, fault.New(fault.Setting, "the flow reads its message already"))
			return pass
		}
		sch := c.source(s)
		c.plan.ReadStep, c.plan.Source = s, sch
		slot := c.scope.Take()
		c.plan.Record = slot
		n := recordOf(s.Setting("as"), sch, slot)
		c.cur.Result = &n
		return func(_ context.Context, _ *Batch, items []*Item) error {
			for _, it := range items {
				if it.State == Live {
					checkItem(s, sch, it, it.Frame.Slots[slot])
				}
			}
			return nil
		}
	},
}

// source is the schema of the records that a flow reads: of an operation's answer, or of the message that
// started the run.
func (c *compiler) source(s *Step) *schema.Schema {
	none := described("record", schema.Record("record"))
	if s.Setting("operation") != "" || s.Setting("connection") != "" {
		op := c.operation(s.place("operation"), s.Setting("connection"), s.Setting("operation"))
		switch {
		case op == nil:
			return none
		case !op.Verb.Reads || op.Response == nil:
			c.fault(s.place("operation"), fault.New(fault.Setting, "%s gives no records that are described", op.Name).Mended("Choose an operation that reads, with a response schema"))
			return none
		}
		c.plan.Asks = c.asking(s.At, op, s)
		c.cur.Columns = op.Request
		return op.Response
	}
	if c.plan.Poll != nil {
		return c.plan.Poll.Op.Response
	}
	if s.Setting("schema") == "" {
		c.fault(s.At, fault.Missing("schema"))
		return none
	}
	sch := c.schema(s, "schema")
	switch {
	case !c.flow.Trigger.Of().Files:
		c.fault(s.At, fault.New(fault.Setting, "nothing that starts the flow brings a message").Mended("Name a connection and an operation that reads"))
	case !sch.Notation.Bytes:
		c.fault(s.place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be read from a file", "rows"))
	}
	return sch
}

func checkItem(s *Step, sch *schema.Schema, it *Item, v value.Value) {
	sch.Check(v, func(f *fault.Fault) {
		if field := sch.Root.Field(strings.TrimPrefix(f.Place.Path, "/")); field != nil && field.Written.From > 0 {
			path := f.Place.Path
			f.Place = it.Place
			f.Place.Path, f.Place.Column = path, field.Written.From
		}
		it.aside(s.ID, f)
	})
}

func pass(context.Context, *Batch, []*Item) error { return nil }

var keepKind = &Kind{
	Name: "keep", Title: "Filter", Group: Way, About: "Lets the records pass for which a formula is true; the others are skipped and counted.",
	Settings: setting.List{
		{Name: "where", Label: "Keep a record where", Type: setting.Formula, Required: true, Help: "A formula that is true or false"},
		onFault,
	},
	Detail: func(s *Step) string { return s.Setting("where") },
	compile: func(c *compiler, s *Step) runner {
		prog := c.formula(s.place("where"))
		if prog == nil {
			return pass
		}
		if !prog.Type.Fits(value.Boolean) {
			c.fault(s.place("where"), fault.Expect(fault.Type, "true or false", prog.Type.String()))
		}
		return func(_ context.Context, _ *Batch, items []*Item) error {
			for _, it := range items {
				keep(s, prog, it)
			}
			return nil
		}
	},
}

func keep(s *Step, prog *formula.Program, it *Item) {
	it.Frame.Reset()
	v, f := prog.Eval(&it.Frame)
	switch {
	case f != nil:
		it.aside(s.ID, f.In(s.Name))
	case v.Kind() != value.Boolean:
		it.aside(s.ID, fault.Expect(fault.Type, "true or false from "+prog.Source, v.Kind().String()).In(s.Name))
	case !v.IsTrue():
		it.State, it.Step, it.Reason = Skipped, s.ID, "not "+prog.Source
	}
}

var findKind = &Kind{
	Name: "find", Title: "Look up a row", Group: Systems, About: "Looks up one row of a table by key and adds it to the record.",
	Begin: func(o Offering) doc.Out { return yields("row", o.Connection(hasTables)...) },
	Settings: setting.List{
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
		{Name: "table", Label: "Table", Type: setting.Text, Required: true},
		{Name: "schema", Label: "Row schema", Type: setting.Part, Of: "schema", Required: true, Help: "The columns to read"},
		{Name: "match", Label: "Where", Type: setting.Pairs, Free: true, Required: true, Help: "Key columns and the formulas that they must equal"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
		{Name: "none", Label: "When there is no such row", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}, Help: "Continue: isEmpty tells later steps that there is none"},
	},
	Detail:  func(s *Step) string { return "1 row of " + s.Setting("table") },
	compile: compileFind,
}

func compileFind(c *compiler, s *Step) runner {
	c.tables(s)
	sch := c.schema(s, "schema")
	l := Lookup{Connection: s.Setting("connection"), Table: s.Setting("table"), Row: sch, Flow: c.flow.ID, Step: s.ID}
	var progs []*formula.Program
	for _, m := range s.Match {
		prog := c.formula(m.Formula)
		field := sch.Root.Field(m.Name.Value)
		switch {
		case field == nil:
			c.fault(m.Name, fault.New(fault.Unknown, "%s has no column %q", sch.ID, m.Name.Value))
		case prog != nil && !prog.Type.Fits(field.Kind):
			c.fault(m.Formula, fault.Expect(fault.Type, field.Kind.String()+" to compare with "+field.Name, prog.Type.String()))
		}
		l.Columns = append(l.Columns, m.Name.Value)
		progs = append(progs, prog)
	}
	slot := c.define(s, "as", sch)
	return func(ctx context.Context, b *Batch, items []*Item) error {
		asked, keys := lookupKeys(s, progs, items)
		if len(keys) == 0 {
			return nil
		}
		l := l
		l.Items = asked
		rows, err := b.Outside.Lookup(ctx, l, keys)
		if err != nil {
			return err
		}
		for i, it := range asked {
			matched(s, l, it, slot, rows[i], keys[i])
		}
		return nil
	}
}

func lookupKeys(s *Step, progs []*formula.Program, items []*Item) (asked []*Item, keys [][]value.Value) {
	for _, it := range items {
		it.Frame.Reset()
		key := make([]value.Value, len(progs))
		for i, prog := range progs {
			v, f := prog.Eval(&it.Frame)
			if f != nil {
				it.aside(s.ID, f.In(s.Name))
				break
			}
			key[i] = v
		}
		if it.State == Live {
			asked, keys = append(asked, it), append(keys, key)
		}
	}
	return asked, keys
}

func matched(s *Step, l Lookup, it *Item, slot int, row value.Value, key []value.Value) {
	if row.Kind() != value.Absent {
		it.Frame.Slots[slot] = row
		return
	}
	var with []string
	for i, c := range l.Columns {
		with = append(with, c+" "+fault.Quote(key[i].String()))
	}
	what := "no row of " + l.Table + " with " + strings.Join(with, " and ")
	switch s.Setting("none") {
	case "skip":
		it.State, it.Step, it.Reason = Skipped, s.ID, what
		return
	case "continue":
		it.Notes = append(it.Notes, it.placed(s.ID, fault.New(fault.Note, "%s", what))...)
		return
	}
	it.aside(s.ID, fault.Expect(fault.NotFound, "a row of "+l.Table, what).In(s.Name).
		Mended("Add the row, or mend the record's key"))
}

var mapKind = &Kind{
	Name: "map", Title: "Map", Group: Shape, About: "Makes a target record from the records in scope by a mapping's rules.",
	Maps:  true,
	Begin: func(Offering) doc.Out { return yields("row") },
	Settings: setting.List{
		{Name: "mapping", Label: "Mapping", Type: setting.Part, Of: "mapping", Required: true},
		{Name: "sources", Label: "Sources", Type: setting.Pairs, Help: "Which record each source of the mapping is; one that is not named here is the record of its own name"},
		{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
		onFault,
	},
	Detail:  func(s *Step) string { return "mapping " + s.Setting("mapping") },
	compile: compileMap,
}

func compileMap(c *compiler, s *Step) runner {
	id := s.Setting("mapping")
	plan := c.parts.Mapping(id)
	if plan == nil {
		if id != "" {
			c.fault(s.place("mapping"), fault.New(fault.Unknown, "there is no mapping %q", id))
		}
		return pass
	}
	c.cur.Mapping = plan
	c.cur.Sources = boundTo(plan.Mapping, s.Match)
	for _, m := range s.Match {
		if plan.Mapping.SourceAt(m.Name.Value) < 0 {
			c.fault(m.Name, fault.New(fault.Unknown, "the mapping has no source %q", m.Name.Value))
		}
	}
	var from []int
	for i, src := range plan.Mapping.From {
		slot, t, ok := c.scope.Slot(c.cur.Sources[i])
		if f := unfit(c.cur.Sources[i], src, plan.Sources[i], t, ok); f != nil {
			c.fault(s.place("mapping"), f)
		}
		from = append(from, slot)
	}
	if len(plan.Faults) > 0 {
		c.fault(s.place("mapping"), fault.New(fault.Setting, "the mapping %s has %s", id, plural(len(plan.Faults), "fault")))
	}
	slot := c.define(s, "as", plan.Target)
	return func(_ context.Context, _ *Batch, items []*Item) error {
		fr := plan.NewFrame()
		for _, it := range items {
			mapItem(s, plan, fr, from, slot, it)
		}
		return nil
	}
}

// boundTo are the names in scope that a mapping's sources are: what the step says, or else the sources' own names.
func boundTo(m *mapping.Mapping, match []setting.Pair) []string {
	names := make([]string, len(m.From))
	for i, src := range m.From {
		names[i] = src.Name.Value
	}
	for _, b := range match {
		if i := m.SourceAt(b.Name.Value); i >= 0 && b.Formula.Value != "" {
			names[i] = b.Formula.Value
		}
	}
	return names
}

// unfit is why a name cannot be a mapping's source; nil where it can.
func unfit(name string, src mapping.Source, sch *schema.Schema, t formula.Type, there bool) *fault.Fault {
	switch {
	case !there:
		return fault.New(fault.Unknown, "the mapping needs %q; no step before yields it", name).Mended("Choose under Sources which record it is")
	case src.List && (t.Item == nil || t.Item.Fields != sch.Root):
		return fault.Expect(fault.Type, name+" as a list of schema "+sch.ID, t.String()).Mended("Choose under Sources another list")
	case !src.List && t.Fields != sch.Root:
		return fault.Expect(fault.Type, name+" of schema "+sch.ID, t.String()).Mended("Choose under Sources another record")
	}
	return nil
}

// FitsSource says whether a name in scope can be a source of a mapping.
func (n Named) FitsSource(src mapping.Source, sch *schema.Schema) bool {
	return n.Name != "run" && n.Schema != nil && sch != nil && n.List == src.List && n.Schema.Root == sch.Root
}

func mapItem(s *Step, plan *mapping.Plan, fr *mapping.Frame, from []int, slot int, it *Item) {
	fr.Slots[0] = it.Frame.Slots[RunSlot]
	for i, f := range from {
		fr.Slots[1+i] = it.Frame.Slots[f]
	}
	res := plan.Apply(fr)
	for _, f := range res.Notes {
		f.Place.Step = s.ID
		it.Notes = append(it.Notes, f)
	}
	switch {
	case res.Faults != nil:
		it.aside(s.ID, res.Faults...)
	case res.LeftOut != "":
		it.State, it.Step, it.Reason = Skipped, s.ID, res.LeftOut
	default:
		it.Frame.Slots[slot] = res.Value
	}
}

var upsertKind = &Kind{
	Name: "upsert", Title: "Upsert rows", Group: Systems, About: "Inserts each record into a table, or updates the row with its key where a value differs.", Effect: true,
	Begin: func(o Offering) doc.Out { return append(o.Connection(hasTables), o.Record("from", "")...) },
	Settings: setting.List{
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
		{Name: "table", Label: "Table", Type: setting.Text, Required: true},
		{Name: "from", Label: "Record to write", Type: setting.Name, Required: true, Help: "The name of a step's result"},
		{Name: "key", Label: "Key", Type: setting.Text, Required: true, Help: "The columns that tell rows apart, with commas between"},
	},
	Detail:  func(s *Step) string { return "key: " + s.Setting("key") },
	compile: compileUpsert,
}

func compileUpsert(c *compiler, s *Step) runner {
	c.tables(s)
	slot, row := c.record(s, "from")
	if row == nil {
		return pass
	}
	u := Upsert{Connection: s.Setting("connection"), Table: s.Setting("table"), Row: row, Flow: c.flow.ID, Step: s.ID}
	for _, k := range strings.Split(s.Setting("key"), ",") {
		k = strings.TrimSpace(k)
		if row.Root.Field(k) == nil {
			c.fault(s.place("key"), fault.New(fault.Unknown, "%s has no field %q", s.Setting("from"), k).
				Mended("It has %s", strings.Join(row.Root.Shape().Names, ", ")))
		}
		u.Key = append(u.Key, k)
	}
	c.cur.Upsert = &u
	return func(ctx context.Context, b *Batch, items []*Item) error {
		if len(items) == 0 {
			return nil
		}
		rows := make([]value.Value, len(items))
		for i, it := range items {
			rows[i] = it.Frame.Slots[slot]
		}
		u := u
		u.Items = items
		written, err := b.Outside.Upsert(ctx, u, rows)
		if err != nil {
			return err
		}
		for i, it := range items {
			if f := written[i].Fault; f != nil {
				it.aside(s.ID, f)
				continue
			}
			it.did(s.ID, written[i].Effect)
		}
		return nil
	}
}
