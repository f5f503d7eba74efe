package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var lookUpRowKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "look up row", Older: []string{"find"}, Title: "Look up a row", Group: flow.Systems, About: "Looks up one row of a table by key and adds it to the record.",
		Begin: func(o flow.Offering) partfile.Ordered { return yields("row", o.Connection(hasTables)...) },
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
			{Name: "table", Label: "Table", Type: setting.Text, Required: true},
			{Name: "schema", Label: "Row schema", Type: setting.Part, Of: "schema", Required: true, Help: "The columns to read"},
			{Name: "match", Label: "Where", Type: setting.Pairs, Free: true, Required: true, Help: "Key columns and the formulas that they must equal"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
			{Name: "if missing", Older: []string{"none"}, Label: "If no row is found", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}, Help: "Continue: isEmpty tells later steps that there is none"},
		},
		Detail: func(s *flow.Step) string { return "1 row of " + s.Setting("table") },
	},
	Compile: compileLookUpRow,
}

func compileLookUpRow(c *compile.Compiler, s *flow.Step) running.Runner {
	wantTables(c, s)
	sch := c.Schema(s, "schema")
	l := running.Lookup{Connection: s.Setting("connection"), Table: s.Setting("table"), Row: sch, Flow: c.Flow.ID, Step: s.ID}
	var progs []*formula.Program
	for _, m := range s.Match {
		prog := c.Formula(m.Formula)
		field := sch.Root.Field(m.Name.Value)
		switch {
		case field == nil:
			c.Fault(m.Name, fault.New(fault.Unknown, "%s has no column %q", sch.ID, m.Name.Value))
		case prog != nil && !prog.Type.Fits(field.Kind):
			c.Fault(m.Formula, fault.Expect(fault.Type, field.Kind.String()+" to compare with "+field.Name, prog.Type.String()))
		}
		l.Columns = append(l.Columns, m.Name.Value)
		progs = append(progs, prog)
	}
	slot := c.Define(s, "as", sch)
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		asked, keys := lookupKeys(s, progs, items)
		if len(keys) == 0 {
			return nil
		}
		l := l
		l.Items = asked
		rows, err := b.Systems.Lookup(ctx, l, keys)
		if err != nil {
			return err
		}
		for i, it := range asked {
			matched(s, l, it, slot, rows[i], keys[i])
		}
		return nil
	}
}

func lookupKeys(s *flow.Step, progs []*formula.Program, items []*running.Item) (asked []*running.Item, keys [][]value.Value) {
	for _, it := range items {
		it.Frame.Reset()
		key := make([]value.Value, len(progs))
		for i, prog := range progs {
			v, f := prog.Eval(&it.Frame)
			if f != nil {
				it.Aside(s.ID, f.InField(s.Name))
				break
			}
			key[i] = v
		}
		if it.State == running.Live {
			asked, keys = append(asked, it), append(keys, key)
		}
	}
	return asked, keys
}

func matched(s *flow.Step, l running.Lookup, it *running.Item, slot int, row value.Value, key []value.Value) {
	if row.Kind() != value.Absent {
		it.Frame.Slots[slot] = row
		return
	}
	var with []string
	for i, c := range l.Columns {
		with = append(with, c+" "+fault.Quote(key[i].String()))
	}
	what := "no row of " + l.Table + " with " + strings.Join(with, " and ")
	switch s.Setting("if missing") {
	case "skip":
		it.State, it.Step, it.Reason = running.Skipped, s.ID, what
		return
	case "continue":
		it.Notes = append(it.Notes, it.Placed(s.ID, fault.New(fault.LogEntry, "%s", what))...)
		return
	}
	it.Aside(s.ID, fault.Expect(fault.NotFound, "a row of "+l.Table, what).InField(s.Name).
		WithFix("Add the row, or mend the record's key"))
}
