package flow

import (
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/doc"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
)

// MailTrigger starts runs by a new mail in a mailbox.
var MailTrigger = &TriggerKind{
	Name: "mail", Title: "New mail", Drawn: "New mail",
	About: "Looks into a mailbox now and then and starts a run with each new mail; there it is marked, moved or deleted once its run is recorded.",
	Settings: []Setting{
		triggerName,
		{Name: "connection", Label: "Connection", Type: Part, Of: "connection", Required: true, Help: "A mailbox"},
		{Name: "from", Label: "Sender contains", Type: Text, Help: "Part of a name or an address; mails of others are left alone"},
		{Name: "subject", Label: "Subject contains", Type: Text},
		{Name: "as", Label: "The mail is called", Type: Text, Default: "letter"},
		{Name: "tried with", Label: "Sample mail", Type: Part, Of: "sample", Help: "As JSON; one is made up where none is named"},
		{Name: "every", Label: "Poll interval (s)", Type: Number, Default: "30"},
	},
	read: readMailTrigger,
	when: func(t Trigger) string {
		return t.fits()
	},
	check:   checkMailTrigger,
	message: mailMessage,
}

func readMailTrigger(tr *Trigger, t doc.Node) {
	tr.Connection, tr.From, tr.Subject, tr.Every = t.Need("connection"), t.Text("from").Value, t.Text("subject").Value, t.Int("every", 30)
	tr.Sample = t.Text("tried with")
	if tr.As = t.Text("as").Value; tr.As == "" {
		tr.As = "letter"
	}
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
