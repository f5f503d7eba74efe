package step

import (
	"context"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

var writeKind = &compile.Kind{
	Kind: flow.Kind{
		Name: "write", Title: "Write files", Group: flow.Systems, About: "Collects the records and writes them to files when all are there: one file for each name.", Effect: true,
		Collects: true,
		Begin: func(o flow.Offering) partfile.Ordered {
			return append(o.Connection(hasFolder), o.Record("from", "schema")...)
		},
		Settings: setting.List{
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Help: "To a folder of this machine or another"},
			{Name: "schema", Label: "Schema", Type: setting.Part, Of: "schema", Required: true, Help: "How the records are written"},
			{Name: "from", Label: "Record to write", Type: setting.Name, Required: true, Help: "The name of a step's result"},
			{Name: "file name", Label: "Name of the file", Type: setting.Formula, Required: true, Help: "Records with the same name stand in one file"},
			{Name: "if exists", Older: []string{"there"}, Was: map[string]string{"replace": "overwrite", "refuse": "fail"}, Label: "If the file exists", Type: setting.Choice, Default: "overwrite", Choices: []string{"overwrite", "fail"}},
			{Name: "compress", Label: "Compress", Type: setting.Choice, Default: "no", Choices: []string{"no", "gzip", "zip"}},
		},
		Detail: func(s *flow.Step) string { return s.Setting("file name") },
	},
	Compile: compileWrite,
}

func compileWrite(c *compile.Compiler, s *flow.Step) running.Runner {
	id := s.Setting("connection")
	switch conn := c.Parts.Connection(id); {
	case id == "":
	case conn == nil:
		c.Fault(s.Place("connection"), fault.New(fault.Unknown, "there is no connection %q", id))
	case connection.KindOf(conn.Kind) == nil || !connection.KindOf(conn.Kind).Watches:
		c.Fault(s.Place("connection"), fault.Expect(fault.Setting, "a connection to a folder", conn.Kind))
	}
	sch := c.Schema(s, "schema")
	if !sch.Notation.Bytes {
		c.Fault(s.Place("schema"), fault.Expect(fault.Setting, "a schema with a notation that can be written to a file", "rows"))
	}
	slot, has := c.Record(s, "from")
	check := c.Fits(s, "from", has, sch)
	prog := c.Want(s.Place("file name"), value.Text, "text")
	c.Cur.File = &running.FileTarget{Connection: id, Schema: sch, Step: s}
	if prog == nil {
		return running.PassOn
	}
	return func(_ context.Context, b *running.Batch, items []*running.Item) error {
		for _, it := range items {
			it.Frame.Reset()
			name, f := prog.Eval(&it.Frame)
			if f == nil && check {
				f = running.FirstFault(sch, it.Frame.Slots[slot])
			}
			switch {
			case f != nil:
				it.Aside(s.ID, f.InField(s.Name))
			case name.Kind() != value.Text || name.Text() == "":
				it.Aside(s.ID, fault.Expect(fault.Required, "a name for the file", "none").InField(s.Name))
			default:
				b.Collected = append(b.Collected, running.Collected{Item: it, Step: s.ID, Name: name.Text(), Record: it.Frame.Slots[slot]})
				it.Did(s.ID, running.ForFile)
			}
		}
		return nil
	}
}
