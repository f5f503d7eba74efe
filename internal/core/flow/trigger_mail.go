package flow

import (
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// MailTrigger starts runs by a new mail in a mailbox.
var MailTrigger = &TriggerKind{
	Name: "mail", Title: "New mail", Drawn: "New mail",
	About: "Looks into a mailbox now and then and starts a run with each new mail; there it is marked, moved or deleted once its run is recorded.",
	Settings: setting.List{
		triggerName,
		{Name: "connection", Label: "Connection", Type: setting.Part, Of: "connection", Required: true, Help: "A mailbox"},
		{Name: "from", Label: "Sender contains", Type: setting.Text, Help: "Part of a name or an address; mails of others are left alone"},
		{Name: "subject", Label: "Subject contains", Type: setting.Text},
		{Name: "as", Label: "The mail is called", Type: setting.Text, Default: "letter"},
		{Name: "tried with", Label: "Sample mail", Type: setting.Part, Of: "sample", Help: "As JSON; one is made up where none is named"},
		{Name: "every", Label: "Poll interval (s)", Type: setting.Number, Default: "30", Least: 1},
	},
	when: func(t Trigger) string {
		return t.fits()
	},
	check:   checkMailTrigger,
	message: mailMessage,
}

func checkMailTrigger(c *compiler, t Trigger) {
	if conn := c.parts.Connection(t.Connection.Value); conn == nil {
		c.unknownConnection(t.Connection)
	} else if k := connection.KindOf(conn.Kind); k == nil || !k.Mails {
		c.fault(t.Connection, fault.Expect(fault.Setting, "a connection to a mailbox", conn.Kind))
	}
}

// mailMessage is the message that a run begins with.
func mailMessage(t Trigger) *schema.Schema {
	letter := *connection.IncomingMail
	if t.Sample.Value != "" {
		letter.Samples = []string{t.Sample.Value}
	}
	return &letter
}

// fits says in a few words which mails start a run.
func (t Trigger) fits() string {
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
