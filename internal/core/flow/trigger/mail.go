package trigger

import (
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// Mail starts runs by a new mail in a mailbox.
var Mail = &compile.TriggerKind{
	TriggerKind: flow.TriggerKind{
		Name: "mail", Title: "New mail", Drawn: "New mail",
		About: "Looks into a mailbox now and then and starts a run with each new mail; there it is marked, moved or deleted once its run is recorded.",
		Settings: setting.List{
			triggerName,
			{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Help: "A mailbox"},
			{Name: "from", Label: "Sender contains", Type: setting.Text, Help: "Part of a name or an address; mails of others are left alone"},
			{Name: "subject", Label: "Subject contains", Type: setting.Text},
			{Name: "as", Label: "Input name", Type: setting.Text, Default: "letter"},
			{Name: "sample", Older: []string{"tried with"}, Label: "Sample mail", Type: setting.Part, Of: "sample", Help: "As JSON; one is made up where none is named"},
			{Name: "interval", Older: []string{"every"}, Label: "Poll interval (s)", Type: setting.Number, Default: "30", Least: 1},
		},
		When: func(t flow.Trigger) string {
			return mailFits(t)
		},
		Message: mailMessage,
	},
	Check: checkMailTrigger,
}

func checkMailTrigger(c *compile.Compiler, t flow.Trigger) {
	if conn := c.Parts.Connection(t.Connection.Value); conn == nil {
		c.UnknownConnection(t.Connection)
	} else if k := connection.KindOf(conn.Kind); k == nil || !k.Mails {
		c.Fault(t.Connection, fault.Expect(fault.Setting, "a connection to a mailbox", conn.Kind))
	}
}

// mailMessage is the message that a run begins with.
func mailMessage(t flow.Trigger) *schema.Schema {
	letter := *connection.IncomingMail
	if t.Sample.Value != "" {
		letter.Samples = []string{t.Sample.Value}
	}
	return &letter
}

// mailFits says in a few words which mails start a run.
func mailFits(t flow.Trigger) string {
	var parts []string
	if t.From != "" {
		parts = append(parts, "from "+t.From)
	}
	if t.Subject != "" {
		parts = append(parts, "about "+t.Subject)
	}
	if parts == nil {
		return "any mail"
	}
	return strings.Join(parts, ", ")
}
