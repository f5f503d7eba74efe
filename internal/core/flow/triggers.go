package flow

import (
	"strconv"

	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/schema"
)

// TriggerKind is one way in which runs start: all that a person can set stands in this value.
type TriggerKind struct {
	Name, Title, About string
	Drawn              string // its title on a drawing, where it has no name
	Settings           []Setting
	Brings             bool // runs begin with records, which a Read step reads
	Files              bool // they stand in a file
	Requests           bool // somebody waits for the answer of an HTTP request
	Callable           bool // people and other flows run it; nothing else starts it
	read               func(tr *Trigger, t doc.Node)
	when               func(t Trigger) string
	message            func(t Trigger) *schema.Schema // that it brings itself; nil: one of its input's schema
	check              func(c *compiler, t Trigger)   // nil: there is nothing to check but its settings
}

var (
	triggerName = Setting{Name: "name", Label: "Name", Type: Text}
	startsOff   = Setting{Name: "input", Label: "Input schema", Type: Part, Of: "schema", Help: "None: it begins with nothing"}
	startsAs    = Setting{Name: "as", Label: "Input name", Type: Text, Default: "input"}
)

// Triggers is the list of the kinds of trigger.
var Triggers []*TriggerKind

func init() { // their checks know the list
	Triggers = []*TriggerKind{FileTrigger, RecordsTrigger, MailTrigger, ScheduleTrigger, RequestTrigger, PersonTrigger, CalledTrigger}
}

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
	return PersonTrigger // one that is not read from a part
}

// When says in a few words when a run starts.
func (t Trigger) When() string { return t.Of().when(t) }

// Settings are the texts of the trigger's settings, by name.
func (t Trigger) Settings() map[string]string {
	out := map[string]string{
		"name": t.Name, "connection": t.Connection.Value, "mask": t.Mask.Value, "operation": t.Operation.Value, "rising": t.Rising.Value,
		"from": t.From, "subject": t.Subject,
		"cron": t.Cron.Value, "zone": t.Zone.Value, "holidays": t.Holidays.Value, "missed": string(t.Missed),
		"method": t.Method, "path": t.Path.Value, "key": t.Key.Value, "tried with": t.Sample.Value, "parameters": t.Parameters.Value,
		"input": t.Input.Value, "output": t.Output.Value, "as": t.As,
	}
	if t.Every > 0 {
		out["every"] = strconv.Itoa(t.Every)
	}
	if t.Of().Requests {
		out["keep"], out["other sites"] = t.Keep, "no"
		if t.Elsewhere {
			out["other sites"] = "yes"
		}
		out["wait"] = strconv.Itoa(t.Wait)
	}
	return out
}
