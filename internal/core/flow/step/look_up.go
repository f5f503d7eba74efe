package step

import (
	"context"
	"maps"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

const lookUpName = "look up"

var lookUpKind = &compile.Kind{
	Kind: flow.Kind{
		Name: lookUpName, Title: "Look up in a table", Group: flow.GroupTransform, Concurrent: true, About: "Gets a row of a table of the project by its key, with what flows have changed in it since.",
		Begin: func(o flow.Offering) partfile.Ordered { return yields("row", o.Table("match")...) },
		Settings: setting.List{
			{Name: "table", Label: "Table", Type: setting.Part, Of: "table", Required: true},
			{Name: "match", Label: "Where", Type: setting.Pairs, Free: true, Required: true, Help: "The key columns and the formulas that they must equal"},
			{Name: "as", Label: "Result name", Type: setting.Text, Default: "row"},
			{Name: "if missing", Older: []string{"none"}, Label: "If no row is found", Type: setting.Choice, Was: older, Default: "set aside", Choices: []string{"set aside", "skip", "continue"}},
			onFault,
		},
		Detail: func(s *flow.Step) string { return "1 row of " + s.Setting("table") },
	},
	Compile: compileLookUp,
}

func compileLookUp(c *compile.Compiler, s *flow.Step) running.Runner {
	t, progs := tableOf(c, s)
	if t == nil {
		return running.PassOn
	}
	slot := c.Define(s, "as", running.RowOf(t))
	k, kept := keysOf(t, progs), running.KeptOf(*c.Cur.Result)
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		asked := map[string][]value.Value{}
		of := map[*running.Item]string{}
		for _, it := range items {
			if key, keys, ok := k.key(s, it); ok {
				asked[key], of[it] = keys, key
			}
		}
		if len(asked) == 0 {
			return nil
		}
		changed, err := b.Runtime.Get(ctx, running.TableSpace(t.ID), slices.Sorted(maps.Keys(asked)))
		if err != nil {
			return err
		}
		for _, it := range items {
			key, there := of[it]
			if !there {
				continue
			}
			row, f := rowUnder(t, kept, changed, key, asked[key])
			lookedUp(s, t, it, slot, row, f, asked[key])
		}
		return nil
	}
}

// rowUnder is the row with a key: as a flow has changed it, or as the table has it.
func rowUnder(t *table.Table, kept running.Kept, changed map[string]string, key string, keys []value.Value) (value.Value, *fault.Fault) {
	switch text, there := changed[key]; {
	case there && text != "":
		return kept.Read(text), nil
	case there || !t.Has(keys) && t.None == table.Fault:
		return value.Value{}, nil
	}
	return t.Find(keys)
}

func lookedUp(s *flow.Step, t *table.Table, it *running.Item, slot int, row value.Value, f *fault.Fault, keys []value.Value) {
	none := "no row of " + t.Title + " with " + t.Describe(keys)
	switch {
	case f != nil:
		it.Aside(s.ID, f.InField(s.Name))
	case row.Kind() != value.Absent:
		it.Frame.Slots[slot] = row
	case s.Setting("if missing") == "skip":
		it.Skip(s.ID, none)
	case s.Setting("if missing") == "set aside":
		it.Aside(s.ID, fault.Expect(fault.NotFound, "a row of "+t.Title, none).InField(s.Name).WithFix("Add the row, or mend the record's key"))
	}
}
