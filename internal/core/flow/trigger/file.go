package trigger

import (
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/setting"
)

// File starts runs by a new file in a folder.
var File = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "file", Title: "New file", Drawn: "Pick up file", Brings: true, Files: true,
		About: "Looks into the folder now and then. A file is picked up when it rests; it is moved to the done folder once its run is recorded.",
		Settings: setting.List{
			triggerName,
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Help: "A folder of this machine, or another"},
			{Name: "glob", Older: []string{"mask"}, Label: "File name pattern", Type: setting.Text, Required: true, Help: "* stands for any characters"},
			{Name: "interval", Older: []string{"every"}, Label: "Poll interval (s)", Type: setting.Number, Default: "2", Least: 1},
		},
		When: func(t flow.Trigger) string {
			return t.Glob.Value
		},
	},
	Check: checkFileTrigger,
}

func checkFileTrigger(c *compile.Compiler, t flow.Trigger) {
	if conn := c.Parts.Connection(t.Connection.Value); conn == nil {
		c.UnknownConnection(t.Connection)
	} else if k := connection.KindOf(conn.Kind); k == nil || !k.Watches {
		c.Fault(t.Connection, fault.Expect(fault.Setting, "a connection to a folder", conn.Kind))
	}
	if strings.ContainsAny(t.Glob.Value, `/\`) {
		c.Fault(t.Glob, fault.Expect(fault.Setting, "a mask for file names, as *.tide", fault.Quote(t.Glob.Value)))
	}
}
