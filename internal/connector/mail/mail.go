// Package mail sends mail through an SMTP server (RFC 5321, RFC 6409).
package mail

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/textproto"
	"regexp"
	"strings"

	gomail "github.com/wneessen/go-mail"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/value"
)

// Server is one SMTP server.
type Server struct{ env system.Env }

var _ system.Caller = (*Server)(nil)

// Open makes a server of its settings.
func Open(env system.Env) (system.System, error) {
	for _, name := range []string{"host", "sender"} {
		if env.Values[name] == "" {
			return nil, fault.New(fault.Required, "the connection has no %s", name).WithFix("Fill it in and save")
		}
	}
	s := &Server{env: env}
	_, err := s.client()
	return s, err
}

// Close has nothing to close: each mail has its own connection.
func (s *Server) Close() {}

func (s *Server) client() (*gomail.Client, error) {
	v := s.env.Values
	c, err := system.TLS(v["host"], v["authority"], "")
	if err != nil {
		return nil, err
	}
	d := s.env.Net.Dialer()
	options := []gomail.Option{
		gomail.WithPort(v.Int("port", 587)), gomail.WithTimeout(v.Timeout()), gomail.WithTLSConfig(c), gomail.WithHELO("hollowreed.skerry.example"), gomail.WithoutNoop(),
		gomail.WithDialContextFunc(func(ctx context.Context, network, address string) (net.Conn, error) {
			conn, err := d.DialContext(ctx, network, address)
			if err != nil || v["encryption"] != "tls from the start" {
				return conn, err
			}
			return handshaken(ctx, conn, c)
		}),
	}
	switch v["encryption"] {
	case "none", "tls from the start": // of which the dialer takes care
		options = append(options, gomail.WithTLSPolicy(gomail.NoTLS))
	default:
		options = append(options, gomail.WithTLSPolicy(gomail.TLSMandatory))
	}
	if v["user"] != "" {
		auth := gomail.SMTPAuthAutoDiscover
		if v["encryption"] == "tls from the start" {
			auth = gomail.SMTPAuthPlainNoEnc // it is encrypted; the library does not see that
		}
		options = append(options, gomail.WithSMTPAuth(auth), gomail.WithUsername(v["user"]), gomail.WithPassword(v["password"]))
	}
	return gomail.NewClient(v["host"], options...)
}

// Check says whether the server greets.
func (s *Server) Check(ctx context.Context) error {
	c, err := s.client()
	if err != nil {
		return err
	}
	if err := c.DialWithContext(ctx); err != nil {
		return plain(err)
	}
	return c.Close()
}

// Probe tries the server stage by stage.
func (s *Server) Probe(ctx context.Context, r *probe.Run) {
	v := s.env.Values
	r.Reach(ctx, s.env.Net.Dialer(), v["host"], v.Int("port", 587))
	c, err := s.client()
	if err != nil {
		return
	}
	if v["encryption"] == "tls from the start" {
		t, _ := system.TLS(v["host"], v["authority"], "")
		r.TLS(ctx, s.env.Net.Dialer(), v["host"], v.Int("port", 465), t)
	}
	err = c.DialWithContext(ctx)
	if err == nil {
		defer c.Close()
	}
	why, untrusted := system.Untrusted(err)
	if v["encryption"] == "starttls" {
		told, bad := "TLS after STARTTLS", error(nil)
		switch {
		case untrusted:
			told, bad = why, err
		case err != nil && strings.Contains(strings.ToLower(err.Error()), "starttls"):
			told, bad = "the server does not offer STARTTLS", err
		}
		r.Did("encryption agreed", 0, told, bad, func(error) string { return system.TrustMends })
	}
	r.Do("signed in", func() (string, error) {
		switch {
		case err != nil:
			return plain(err).Error(), err
		case v["user"] == "":
			return "no user is set; the server greets", nil
		}
		return "as " + v["user"], nil
	}, func(error) string { return "Check user and password, and which kind of encryption the port wants" })
	r.Do("sender taken", func() (string, error) {
		if err := s.message().From(v["sender"]); err != nil {
			return v["sender"] + " is no mail address", err
		}
		return v["sender"], nil
	}, func(error) string { return "Write the sender as Name <name@host>" })
}

func (s *Server) message() *gomail.Msg { return gomail.NewMsg(gomail.WithNoDefaultUserAgent()) }

// Call sends a mail.
func (s *Server) Call(ctx context.Context, r system.Request) (value.Value, error) {
	m, err := s.named(r)
	if err != nil {
		return value.Value{}, err
	}
	c, err := s.client()
	if err != nil {
		return value.Value{}, err
	}
	var text bytes.Buffer
	x := system.ExchangeOf(ctx)
	if x != nil {
		if _, err := m.WriteTo(&text); err == nil {
			x.Sent("a mail to "+c.ServerAddr(), text.String())
		}
	}
	if err := c.DialAndSendWithContext(ctx, m); err != nil {
		x.Received("refused", plain(err).Error())
		return value.Value{}, refused(err)
	}
	x.Received("taken", m.ServerResponse())
	ids := m.GetGenHeader(gomail.HeaderMessageID)
	id := ""
	if len(ids) > 0 {
		id = strings.Trim(ids[0], "<>")
	}
	return value.NewRecord(r.Op.Response.Root.Layout(), []value.Value{value.NewText(id), value.NewText(m.ServerResponse())}), nil
}

// Preview is the mail that would be sent.
func (s *Server) Preview(_ context.Context, r system.Request) (running.Turn, error) {
	m, err := s.named(r)
	if err != nil {
		return running.Turn{}, err
	}
	c, err := s.client()
	if err != nil {
		return running.Turn{}, err
	}
	var text bytes.Buffer
	_, err = m.WriteTo(&text)
	return running.Turn{Head: "a mail to " + c.ServerAddr(), Text: text.String()}, err
}

// named makes the message of a request, with its id.
func (s *Server) named(r system.Request) (*gomail.Msg, error) {
	m, err := s.written(r.Value)
	if err != nil {
		return nil, err
	}
	if r.Key == "" {
		m.SetMessageID()
		return m, nil
	}
	host := "hollowreed.skerry.example"
	if _, after, ok := strings.Cut(s.env.Values["sender"], "@"); ok {
		host = strings.Trim(after, "> ")
	}
	m.SetMessageIDWithValue(r.Key + "@" + host) // the same for each try, so that a reader can tell
	return m, nil
}

// written makes a message of the mail's record.
func (s *Server) written(v value.Value) (*gomail.Msg, error) {
	m := s.message()
	from := v.Field("from")
	sender := s.env.Values["sender"]
	if !from.IsMissing() {
		sender = from.String()
	}
	set := func(name string, set func(...string) error, list []string) error {
		if len(list) == 0 {
			return nil
		}
		if err := set(list...); err != nil {
			return fault.Expect(fault.Pattern, "mail addresses, as Mira Orrin <mira@skerry.example>", fault.Quote(strings.Join(list, ", "))).InField(name)
		}
		return nil
	}
	err := errors.Join(
		set("from", func(a ...string) error { return m.From(a[0]) }, []string{sender}),
		set("to", m.To, texts(v.Field("to"))), set("cc", m.Cc, texts(v.Field("cc"))), set("bcc", m.Bcc, texts(v.Field("bcc"))),
		set("reply_to", func(a ...string) error { return m.ReplyTo(a[0]) }, texts(v.Field("reply_to"))),
	)
	if err != nil {
		var f *fault.Fault
		errors.As(err, &f)
		return nil, f
	}
	if to := texts(v.Field("to")); len(to) == 0 {
		return nil, fault.New(fault.Required, "the mail goes to nobody").InField("to")
	}
	m.Subject(oneLine(v.Field("subject").String()))
	m.SetDate()
	text, html := v.Field("text"), v.Field("html")
	switch {
	case !text.IsMissing() && !html.IsMissing():
		m.SetBodyString(gomail.TypeTextPlain, text.Text())
		m.AddAlternativeString(gomail.TypeTextHTML, html.Text())
	case !html.IsMissing():
		m.SetBodyString(gomail.TypeTextHTML, html.Text())
	default:
		m.SetBodyString(gomail.TypeTextPlain, text.Text())
	}
	return m, attach(m, v.Field("attachments").Items())
}

func oneLine(s string) string { return strings.NewReplacer("\r", " ", "\n", " ").Replace(s) }

func attach(m *gomail.Msg, list []value.Value) error {
	for _, a := range list {
		content := a.Field("content")
		if content.IsMissing() {
			content = a.Field("text")
		}
		var options []gomail.FileOption
		if media := a.Field("type"); !media.IsMissing() {
			options = append(options, gomail.WithFileContentType(gomail.ContentType(oneLine(media.Text()))))
		}
		if err := m.AttachReader(oneLine(a.Field("name").String()), strings.NewReader(content.Text()), options...); err != nil {
			return fault.New(fault.Setting, "%s cannot be attached: %s", a.Field("name"), err)
		}
	}
	return nil
}

func texts(v value.Value) []string {
	var list []string
	switch {
	case v.IsMissing():
	case v.Kind() == value.ListKind:
		for _, item := range v.Items() {
			list = append(list, item.String())
		}
	default:
		list = append(list, v.String())
	}
	return list
}

// signIn are the codes with which a server refuses a sign-in for good (RFC 4954, section 6).
var signIn = map[int]bool{530: true, 534: true, 535: true, 538: true}

// refused tells a mail that the server refuses for good (5xx) from a server that may take it later.
func refused(err error) error {
	var sent *gomail.SendError
	if errors.As(err, &sent) && !sent.IsTemp() && sent.Reason != gomail.ErrConnCheck {
		if why, is := system.Untrusted(err); is {
			return fault.New(fault.Setting, "%s", why).WithFix("%s", system.TrustMends)
		}
		return fault.New(fault.Outside, "the mail server refuses it: %s", last(sent.Error()))
	}
	if why, is := system.Untrusted(err); is {
		return fault.New(fault.Setting, "%s", why).WithFix("%s", system.TrustMends)
	}
	var answer *textproto.Error
	if errors.As(err, &answer) && signIn[answer.Code] {
		return fault.New(fault.Setting, "the mail server does not take the sign-in: %s", last(err.Error())).WithFix("Check user and password")
	}
	return plain(err)
}

// plain leaves the chain of wrappers out of an error.
func plain(err error) error {
	if err == nil {
		return nil
	}
	if why, is := system.Untrusted(err); is {
		return errors.New(why)
	}
	return fmt.Errorf("%s", last(err.Error()))
}

// reply is what a server answers: a code, an enhanced code (RFC 3463) and a text.
var reply = regexp.MustCompile(`\b[45]\d\d (?:[45]\.\d+\.\d+ )?[^:,]+`)

// last is the end of a text as "a: b: c", which tells most.
func last(s string) string {
	if code := reply.FindString(s); code != "" {
		return strings.TrimSpace(code)
	}
	parts := strings.Split(strings.TrimSpace(s), ": ")
	return strings.Join(parts[max(0, len(parts)-2):], ": ")
}
