package flow

import "strconv"

// TriggerKind is one way in which runs start: all that a person can set stands in this value.
type TriggerKind struct {
	Name, Title, About string
	Settings           []Setting
}

var (
	triggerName = Setting{Name: "name", Label: "Name", Type: Text}
	startsOff   = Setting{Name: "input", Label: "Input schema", Type: Part, Of: "schema", Help: "None: it begins with nothing"}
	startsAs    = Setting{Name: "as", Label: "Input name", Type: Text, Default: "input"}
)

// Triggers is the table of the kinds of trigger.
var Triggers = []TriggerKind{
	{"file", "New file", "Looks into the folder now and then. A file is picked up when it rests; it is moved to the done folder once its run is recorded.", []Setting{
		triggerName,
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true, Help: "A folder of this machine, or another"},
		{Name: "mask", Label: "File name pattern", Type: Text, Required: true, Help: "* stands for any characters"},
		{Name: "every", Label: "Poll interval (s)", Type: Number, Default: "2"},
	}},
	{"records", "New records", "Asks for records now and then and starts a run with those whose rising field is beyond the last one that was taken; none is taken twice.", []Setting{
		triggerName,
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true},
		{Name: "operation", Label: "Operation", Type: Operation, Required: true, Help: "One that reads"},
		{Name: "rising", Label: "Watermark field", Type: Text, Required: true, Redraw: true, Help: "Greater in each new record: a number, a time"},
		{Name: "with", Label: "Ask with", Type: Matches, Help: "rising is the greatest value so far"},
		{Name: "every", Label: "Poll interval (s)", Type: Number, Default: "10"},
	}},
	{"mail", "New mail", "Looks into a mailbox now and then and starts a run with each new mail; there it is marked, moved or deleted once its run is recorded.", []Setting{
		triggerName,
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true, Help: "A mailbox"},
		{Name: "from", Label: "Sender contains", Type: Text, Help: "Part of a name or an address; mails of others are left alone"},
		{Name: "subject", Label: "Subject contains", Type: Text},
		{Name: "as", Label: "The mail is called", Type: Text, Default: "letter"},
		{Name: "tried with", Label: "Mail of a try", Type: Part, Of: "sample", Help: "As JSON; one is made up where none is named"},
		{Name: "every", Label: "Poll interval (s)", Type: Number, Default: "30"},
	}},
	{"schedule", "Schedule", "Starts a run at its times; of several workers one does.", []Setting{
		triggerName,
		{Name: "cron", Label: "At", Type: Text, Redraw: true, Help: "A cron expression: minute hour day month weekday, with seconds before it where they matter; or @daily, @hourly"},
		{Name: "zone", Label: "In the time zone", Type: Text, Redraw: true, Help: "As Europe/Oslo; UTC where it is empty"},
		{Name: "every", Label: "Or fixed interval (s)", Type: Number, Default: "3600"},
		{Name: "holidays", Label: "Skip holidays in table", Type: Part, Of: "table", Help: "A table whose keys are days, as 2031-05-17"},
		{Name: "missed", Label: "Missed starts", Type: Choice, Default: string(OneForAll), Choices: []string{string(OneForAll), string(EachRun), string(NoRun)}, Help: "Because no worker ran, or the trigger was paused"},
	}},
	{"request", "HTTP request", "Starts a run with each request that comes in at its address, and answers it when the run has ended.", []Setting{
		triggerName,
		{Name: "method", Label: "Method", Type: Choice, Default: Methods[0], Choices: Methods},
		{Name: "path", Label: "Path", Type: Text, Required: true, Help: "Behind /in/, as bookings/new; or invoices/{booking}, and formulas say request.parameters.booking"},
		{Name: "parameters", Label: "Its parameters are those of", Type: Part, Of: "schema", Help: "Fields that the path does not name are taken from the query, or else from a header of that name. None: those of the path, as texts"},
		{Name: "input", Label: "Its body is a message of", Type: Part, Of: "schema", Help: "None: its text stands in request.body"},
		startsAs,
		{Name: "tried with", Label: "Body of a try", Type: Part, Of: "sample", Help: "Where it is a text"},
		{Name: "output", Label: "Response schema", Type: Part, Of: "schema", Help: "Given by an Answer step. None: with an empty body"},
		{Name: "wait", Label: "Response timeout (s)", Type: Number, Default: "30", Help: "After that, or at once with 0, it is told that the run goes on (202)"},
		{Name: "key", Label: "Bearer token (secret)", Type: Text, Help: "The name of a secret; empty: anybody on this machine may ask"},
		{Name: "keep", Label: "Kept of its query and headers", Type: Text, Rare: true, Help: "Names with commas between, beside the parameters and the usual headers; * is all. What is not kept, no step sees: a caller's password belongs into no journal"},
		{Name: "other sites", Label: "Pages of other sites may send it", Type: Choice, Default: "no", Choices: []string{"no", "yes"}, Rare: true, Help: "A link or a form on any page starts a run then, in the browser of whoever opens it"},
	}},
	{"person", "Manual start", "Starts a run when somebody presses Run now; a form asks for its message.", []Setting{triggerName, startsOff, startsAs}},
	{"called", "Called by a flow", "Starts a run when a step of another flow calls it.", []Setting{
		triggerName, startsOff, startsAs,
		{Name: "output", Label: "Response schema", Type: Part, Of: "schema", Help: "None: nobody waits for an answer"},
	}},
}

// TriggerOf finds a kind of trigger; nil when there is none.
func TriggerOf(name string) *TriggerKind {
	for i := range Triggers {
		if Triggers[i].Name == name {
			return &Triggers[i]
		}
	}
	return nil
}

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
	if t.Kind == "request" {
		out["keep"], out["other sites"] = t.Keep, "no"
		if t.Elsewhere {
			out["other sites"] = "yes"
		}
		out["wait"] = strconv.Itoa(t.Wait)
	}
	return out
}
