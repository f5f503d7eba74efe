package step

import (
	"context"
	"maps"
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/table"
	"hollowreed/internal/core/value"
)

var updateTableKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "update table", Older: []string{"change"}, Title: "Update a table", Group: flow.GroupTransform, Concurrent: true, Lasting: true, About: "Sets a row of a table of the project, or takes it away. Look up in a table sees it at once; formulas see the table as it was released.",
		Begin: func(o flow.Offering) partfile.Ordered { return o.Table("row") },
		Settings: setting.List{
			{Name: "table", Label: "Table", Type: setting.Part, Of: "table", Required: true},
			{Name: "action", Older: []string{"do"}, Was: map[string]string{"set the row": "upsert", "take it away": "delete"}, Label: "Do", Type: setting.Choice, Default: "upsert", Choices: []string{"upsert", "delete"}},
			{Name: "row", Label: "Columns", Type: setting.Pairs, Free: true, Required: true, Help: "The columns and their formulas; those of the key must be there"},
			onFault,
		},
		Detail: func(s *flow.Step) string { return s.Setting("action") + " · " + s.Setting("table") },
	},
	Compile: compileUpdateTable,
}

func compileUpdateTable(c *compile.Compiler, s *flow.Step) running.Runner {
	t, progs := tableOf(c, s)
	if t == nil {
		return running.PassOn
	}
	k, kept := keysOf(t, progs), running.KeptOf(running.RecordOf("row", running.RowOf(t), 0))
	gone := s.Setting("action") == "delete"
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		notes := map[string]running.StateEntry{}
		for _, it := range items {
			key, _, ok := k.key(s, it)
			if !ok {
				continue
			}
			text := ""
			if !gone {
				row, f := filledRow(t, progs, it)
				if f != nil {
					it.Aside(s.ID, f)
					continue
				}
				text = kept.Write(row)
			}
			notes[key] = running.StateEntry{Key: key, Text: text} // of several for one key the last one stays
		}
		if len(notes) == 0 {
			return nil
		}
		return b.Runtime.Put(ctx, running.TableSpace(t.ID), slices.Collect(maps.Values(notes)))
	}
}

// filledRow makes a row of the formulas for its columns.
func filledRow(t *table.Table, progs map[string]*formula.Program, it *running.Item) (value.Value, *fault.Fault) {
	fields := make([]value.Value, len(t.Row.Fields))
	for i, f := range t.Row.Fields {
		if progs[f.Name] == nil {
			continue
		}
		it.Frame.Reset()
		v, ft := progs[f.Name].Eval(&it.Frame)
		if ft != nil {
			return v, ft.InField(f.Name)
		}
		fields[i] = running.Fitted(v, f)
	}
	return value.NewRecord(t.Row.Layout(), fields), nil
}
