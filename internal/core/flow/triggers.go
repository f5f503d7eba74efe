package flow

import (
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// TriggerKind is one way in which runs start: all that a person can set stands in this value.
type TriggerKind struct {
	Name, Title, About string
	Older              []string // names that it had before
	Drawn              string   // its title on a drawing, where it has no name
	Settings           setting.List
	Brings             bool                           // runs begin with records, which a Read step reads
	Files              bool                           // they stand in a file
	Requests           bool                           // somebody waits for the answer of an HTTP request
	Contracted         bool                           // they are of an operation of an API
	Channel            bool                           // runs begin with messages of a channel
	Callable           bool                           // people and other flows run it; nothing else starts it
	When               func(t Trigger) string         // it starts runs, in a few words
	Message            func(t Trigger) *schema.Schema // that it brings itself; nil: one of its input's schema
}

// Triggers lists the kinds of trigger. Package trigger fills it.
var Triggers []*TriggerKind

func triggerNames() []string {
	names := make([]string, len(Triggers))
	for i, k := range Triggers {
		names[i] = k.Name
	}
	return names
}

// TriggerOf finds a kind of trigger; nil when there is none.
func TriggerOf(name string) *TriggerKind {
	for _, k := range Triggers {
		if k.Name == name {
			return k
		}
	}
	return nil
}

// Of is the trigger's kind.
func (t Trigger) Of() *TriggerKind {
	if k := TriggerOf(t.Kind); k != nil {
		return k
	}
	return &TriggerKind{When: func(Trigger) string { return "when asked" }} // one that is not read from a part
}

// When says in a few words when a run starts.
func (t Trigger) When() string { return t.Of().When(t) }

// readTrigger reads a trigger: the settings of its kind, and those that others ask for by a name of their own.
func readTrigger(n partfile.Node) Trigger {
	tr := Trigger{Kind: n.Choice("kind", triggerNames()...), At: n.At()}
	v := tr.Of().Settings.Read(n)
	tr.Settings, tr.With = v, v.Pairs["with"]
	tr.Name, tr.From, tr.Subject, tr.As = v.Get("name"), v.Get("from"), v.Get("subject"), v.Get("as")
	tr.Connection, tr.Operation, tr.Glob, tr.Watermark = v.Text("connection"), v.Text("operation"), v.Text("glob"), v.Text("watermark")
	tr.Cron, tr.Zone, tr.Holidays, tr.Missed = v.Text("cron"), v.Text("zone"), v.Text("holidays"), Missed(v.Get("missed"))
	tr.Method, tr.Path, tr.BearerToken, tr.StoredNames = v.Get("method"), v.Text("path"), v.Text("bearer token"), v.Get("keep")
	tr.Input, tr.Output, tr.Parameters, tr.Sample = v.Text("input"), v.Text("output"), v.Text("parameters"), v.Text("sample")
	tr.Elsewhere, tr.Timeout, tr.Interval = v.Get("other sites") == "yes", v.Int("timeout"), max(1, v.Int("interval"))
	if tr.As == "" {
		tr.As = "input"
	}
	n.RejectUnknown()
	return tr
}
