package connection

import (
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Mail is the structure of a message that is sent (RFC 5322, MIME).
var Mail = fixed("mail", "A mail",
	listed(needed("to", value.Text, "addresses, as Mira Orrin <mira@skerry.example>")),
	listed(needed("cc", value.Text, "")), listed(needed("bcc", value.Text, "")),
	field("from", value.Text, "the connection's sender where it is not there"), field("reply_to", value.Text, ""),
	needed("subject", value.Text, ""), field("text", value.Text, "as plain text"), field("html", value.Text, "the same as HTML"),
	attachments())

func attachments() *schema.Field {
	f := schema.Record("attachments", needed("name", value.Text, ""), field("type", value.Text, "media type"), field("content", value.Binary, ""), field("text", value.Text, "in place of content"))
	return listed(f)
}

var mailKind = &Kind{
	Name: "mail", Title: "Mail",
	About: "Sends mail through an SMTP server.",
	Needs: "The server's host and port, a user and a password where it wants them, and a sender.",
	Settings: setting.List{
		{Name: "host", Label: "Host", Type: setting.Text, Required: true},
		{Name: "port", Label: "Port", Type: setting.Number, Default: "587", Least: 1, Greatest: 65535},
		{Name: "encryption", Label: "Encryption", Type: setting.Choice, Choices: []string{"starttls", "tls from the start", "none"}, Default: "starttls", Help: "STARTTLS (RFC 3207), or implicit TLS as on port 465 (RFC 8314)"},
		{Name: "authority", Label: "CA certificates", Type: setting.Lines, When: "encryption=starttls|tls from the start", Help: "PEM certificates that are trusted beside those of this machine"},
		{Name: "user", Label: "User", Type: setting.Text},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password"},
		{Name: "sender", Label: "Sender", Type: setting.Text, Required: true, Help: "The address that mail comes from when a message names none"},
		waits,
	},
	OperationKinds: []OperationKind{{
		Name: "send", About: "Send a mail", Effect: true, Request: Mail,
		Response: fixed("mail-sent", "A mail that was sent", needed("id", value.Text, "the Message-ID"), needed("said", value.Text, "what the server answered")),
	}},
}

// IncomingMail is the structure of a mail that came in (RFC 5322, MIME).
var IncomingMail = fixed("letter", "A mail that came in",
	needed("id", value.Text, "the Message-ID; empty where it has none"),
	needed("from", value.Text, "as Mira Orrin <mira@skerry.example>"), listed(needed("to", value.Text, "")), listed(needed("cc", value.Text, "")),
	field("reply_to", value.Text, "where its sender wants the answer"), field("answers", value.Text, "the Message-ID of the mail that it answers"),
	needed("subject", value.Text, ""), field("sent", value.Timestamp, "when its sender says that it was"),
	field("text", value.Text, "its plain text"), field("html", value.Text, "the same as HTML"),
	mailFields(), needed("size", value.Integer, "bytes of the whole mail"))

func mailFields() *schema.Field {
	return listed(schema.Record("attachments", needed("name", value.Text, "empty where it has none"), needed("type", value.Text, "media type"), needed("content", value.Binary, ""),
		field("text", value.Text, "where it is UTF-8")))
}

var mailboxKind = &Kind{
	Name: "mailbox", Title: "Mailbox", Mails: true,
	About: "Reads mail over IMAP, and starts flows with new ones.",
	Needs: "The server's host and port, a user and a password.",
	Settings: append(setting.List{
		{Name: "host", Label: "Host", Type: setting.Text, Required: true},
		{Name: "port", Label: "Port", Type: setting.Number, Default: "993", Least: 1, Greatest: 65535},
		{Name: "encryption", Label: "Encryption", Type: setting.Choice, Choices: []string{"tls from the start", "starttls", "none"}, Default: "tls from the start", Help: "Implicit TLS as on port 993 (RFC 8314), or STARTTLS as on 143 (RFC 3501, 6.2.1)"},
		{Name: "authority", Label: "CA certificates", Type: setting.Lines, When: "encryption=starttls|tls from the start", Help: "PEM certificates that are trusted beside those of this machine"},
		{Name: "user", Label: "User", Type: setting.Text, Required: true},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password"},
		{Name: "folder", Label: "Folder", Type: setting.Text, Default: "INBOX", Help: "Whose mails are read"},
		{Name: "after", Label: "A mail that has started a run", Type: setting.Choice, Choices: []string{"mark as read", "move", "delete"}, Default: "mark as read", Help: "It is kept with its run; there it is marked, moved away, or deleted. Where it is marked, mails that somebody has read already start nothing"},
		{Name: "done", Label: "Such mails go to", Type: setting.Text, Required: true, When: "after=move", Help: "A folder there; it is made when it is missing"},
	}, waits, largest),
	OperationKinds: []OperationKind{{
		Name: "find", About: "The mails of the folder that fit, oldest first; they stay as they are", Reads: true, Response: IncomingMail,
		Request: fixed("letter-search", "Which mails", field("from", value.Text, "in the sender's name or address"), field("subject", value.Text, "in the subject"), field("since", value.Date, "came in on that day or later"), field("unread", value.Boolean, "only such as nobody has read")),
	}},
}

var directoryKind = &Kind{
	Name: "directory", Title: "Directory",
	About: "Searches and changes the entries of a directory over LDAP v3.",
	Needs: "Host and port, the name and password to bind with, and where the entries are.",
	Settings: append(setting.List{
		{Name: "host", Label: "Host", Type: setting.Text, Required: true},
		{Name: "port", Label: "Port", Type: setting.Number, Default: "389", Least: 1, Greatest: 65535},
		{Name: "encryption", Label: "Encryption", Type: setting.Choice, Choices: []string{"starttls", "tls from the start", "none"}, Default: "starttls", Help: "StartTLS (RFC 4511, 4.14), or TLS as on port 636"},
		{Name: "authority", Label: "CA certificates", Type: setting.Lines, When: "encryption=starttls|tls from the start", Help: "PEM certificates that are trusted beside those of this machine"},
		{Name: "user", Label: "Bind as", Type: setting.Text, Help: "A distinguished name. Default: anonymous"},
		{Name: "password", Label: "Password", Type: setting.Secret, Of: "password"},
		{Name: "base", Label: "Base", Type: setting.Text, Required: true, Help: "The name below which everything is, as ou=people,dc=skerry,dc=example"},
	}, waits),
	OperationKinds: []OperationKind{
		{Name: "search", About: "The entries that a filter finds, page by page", Reads: true, Settings: searching},
		{Name: "look up", About: "The one entry that a filter finds", Settings: searching},
		{Name: "add", About: "Add an entry; the request holds its dn and its attributes", Effect: true, NoResponse: true},
		{Name: "change", About: "Replace attributes of an entry; the request holds its dn and the new values", Effect: true, NoResponse: true},
		{Name: "delete", About: "Remove an entry", Effect: true, NoResponse: true, Request: fixed("entry-name", "The name of an entry", needed("dn", value.Text, ""))},
		{
			Name: "compare", About: "Whether an entry has a value", Request: fixed("entry-compare", "An entry and a value", needed("dn", value.Text, ""), needed("attribute", value.Text, ""), needed("value", value.Text, "")),
			Response: fixed("entry-compared", "Whether it has it", needed("same", value.Boolean, "")),
		},
		{
			Name: "members", About: "The members of a group", Reads: true, Request: fixed("group-name", "The name of a group", needed("dn", value.Text, "")),
			Response: fixed("group-member", "A member of a group", needed("dn", value.Text, "")),
		},
	},
}

var searching = setting.List{
	{Name: "filter", Label: "Filter", Type: setting.Text, Required: true, Initial: "(objectClass=*)", Help: "As (&(objectClass=person)(badge={badge})); {name} stands for a field of the request, escaped as RFC 4515 says"},
	{Name: "below", Label: "Below", Type: setting.Text, Help: "A name below the connection's base to search from, as ou=deck"},
	{Name: "depth", Label: "How deep", Type: setting.Choice, Choices: []string{"all below", "one level"}, Default: "all below"},
	{Name: "page size", Label: "Entries of a page", Type: setting.Number, Default: "500", Least: 1, Greatest: 10000},
}
