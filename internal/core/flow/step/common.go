package step

import (
	"strconv"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

func hasTables(k *connection.Kind) bool { return k.Tables }

func hasFolder(k *connection.Kind) bool { return k.Watches }

// yields is the settings of which one names the result.
func yields(name string, settings ...partfile.Entry) partfile.Ordered {
	return append(settings, partfile.Entry{Key: "as", Value: name})
}

var onFault = setting.Setting{
	Name: "on fault", Label: "On fault", Type: setting.Choice, Default: "set aside", Choices: []string{"set aside", "stop"},
	Help: "Set it aside with its fault and carry on, or stop the run there; the records before it are done, and the run can be resumed",
}

// reaching are the settings of all steps that reach an outside system.
var reaching = setting.List{
	{Name: "attempts", Older: []string{"tries"}, Label: "Attempts (at most)", Type: setting.Number, Rare: true, Help: "How often it is tried while the system cannot be reached; a refused request is not tried again"},
	{Name: "delay", Older: []string{"pause"}, Label: "First delay (s)", Type: setting.Decimal, Rare: true},
	{Name: "backoff", Older: []string{"growth"}, Label: "Backoff factor", Type: setting.Decimal, Default: "2", Rare: true, Help: "With a little chance in it, so that not all come at once"},
	{Name: "longest delay", Older: []string{"longest pause"}, Label: "Longest delay (s)", Type: setting.Decimal, Default: "300", Rare: true},
	{Name: "timeout", Older: []string{"time limit"}, Label: "Timeout (s)", Type: setting.Decimal, Rare: true, Help: "After which a try counts as failed"},
}

var undo = flow.BranchKind{Key: "compensate", Older: []string{"undo"}, Title: "Compensate", About: "what compensates this step when a later step of the Try step around it fails", Below: true, Compensates: true, Quiet: true}

// outside adds what all kinds have that reach an outside system.
func outside(k *compile.Kind) *compile.Kind {
	k.OnConnection = true
	k.Settings = append(append(k.Settings[:len(k.Settings):len(k.Settings)], onFault), reaching...)
	if k.Effect {
		k.Branches = append(k.Branches, undo)
	}
	return k
}

// older are the choices of settings by the names that they had before.
var older = map[string]string{"leave out": "skip", "left out": "skipped", "go on": "continue"}

// wantTables checks that a step's connection has tables.
func wantTables(c *compile.Compiler, s *flow.Step) {
	id := s.Setting("connection")
	conn := c.Parts.Connection(id)
	switch {
	case id == "":
	case conn == nil:
		c.Fault(s.Place("connection"), fault.New(fault.Unknown, "there is no connection %q", id))
	case connection.KindOf(conn.Kind) == nil || !connection.KindOf(conn.Kind).Tables:
		c.Fault(s.Place("connection"), fault.Expect(fault.Setting, "a connection to a database", conn.Kind))
	}
}

// namedOf describes a value of a type.
func namedOf(t formula.Type) running.Named {
	switch {
	case t.Record():
		return running.Named{Schema: running.Described(t.Fields.Name, t.Fields)}
	case t.Kind == value.ListKind && t.Item != nil && t.Item.Kind == value.RecordKind && t.Item.Fields != nil:
		n := namedOf(*t.Item)
		n.List = true
		return n
	}
	return running.Named{}
}

func plural(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// asking makes what each item asks with. An item for which that cannot be made is set aside and does not ask.
func asking(s *flow.Step, items []*running.Item, request func(*formula.Frame) (value.Value, *fault.Fault)) (asked []*running.Item, requests []value.Value) {
	for _, it := range items {
		v, f := request(&it.Frame)
		if f != nil {
			it.Aside(s.ID, f)
			continue
		}
		asked, requests = append(asked, it), append(requests, v)
	}
	return asked, requests
}
