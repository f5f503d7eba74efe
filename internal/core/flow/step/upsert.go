package step

import (
	"context"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var upsertKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "upsert", Title: "Upsert rows", Group: flow.Systems, About: "Inserts each record into a table, or updates the row with its key where a value differs.", Effect: true, Forgets: true,
		Begin: func(o flow.Offering) partfile.Ordered {
			return append(o.Connection(hasTables), o.Record("from", "")...)
		},
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true},
			{Name: "table", Label: "Table", Type: setting.Text, Required: true},
			{Name: "from", Label: "Record to write", Type: setting.Name, Required: true, Help: "The name of a step's result"},
			{Name: "key", Label: "Key", Type: setting.Text, Required: true, Help: "The columns that tell rows apart, with commas between"},
		},
		Detail: func(s *flow.Step) string { return "key: " + s.Setting("key") },
	},
	Compile: compileUpsert,
}

func compileUpsert(c *compile.Compiler, s *flow.Step) running.Runner {
	wantTables(c, s)
	slot, row := c.Record(s, "from")
	if row == nil {
		return running.PassOn
	}
	u := running.Upsert{Connection: s.Setting("connection"), Table: s.Setting("table"), Row: row, Flow: c.Flow.ID, Step: s.ID}
	for _, k := range strings.Split(s.Setting("key"), ",") {
		k = strings.TrimSpace(k)
		if row.Root.Field(k) == nil {
			c.Fault(s.Place("key"), fault.New(fault.Unknown, "%s has no field %q", s.Setting("from"), k).
				WithFix("It has %s", strings.Join(row.Root.Layout().Names, ", ")))
		}
		u.Key = append(u.Key, k)
	}
	c.Cur.Upsert = &u
	return func(ctx context.Context, b *running.Batch, items []*running.Item) error {
		if len(items) == 0 {
			return nil
		}
		rows := make([]value.Value, len(items))
		for i, it := range items {
			rows[i] = it.Frame.Slots[slot]
		}
		u := u
		u.Items = items
		written, err := b.Systems.Upsert(ctx, u, rows)
		if err != nil {
			return err
		}
		for i, it := range items {
			if f := written[i].Fault; f != nil {
				it.Aside(s.ID, f)
				continue
			}
			it.Did(s.ID, written[i].Effect)
		}
		return nil
	}
}
