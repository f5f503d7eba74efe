// Package postroom is the stand-in for the Postroom: a mail server with a page to read what was sent, and the mailbox
// of the desk.
package postroom

import (
	"context"
	"fmt"
	"io"
	"mime"
	"net"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap"
	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/trust"
)

// Who may send.
const (
	User     = "notices"
	Password = "pigeon-hole-9"
)

// Letter is a mail that was taken.
type Letter struct {
	From string
	To   []string
	Text string // as it came, headers and all
}

// Room is the mail server.
type Room struct {
	Moods   standin.FaultInjection
	Log     standin.Log
	Desk    *Desk // where letters to the desk are read
	mu      sync.Mutex
	letters []Letter
}

// New makes a room.
func New() *Room {
	r := &Room{}
	r.Desk = newDesk(&r.Moods)
	return r
}

// Letters gives a copy of what was taken.
func (r *Room) Letters() []Letter {
	r.mu.Lock()
	defer r.mu.Unlock()
	return append([]Letter(nil), r.letters...)
}

// Serve serves SMTP with STARTTLS until the context ends, and gives its port and the authority to trust.
func (r *Room) Serve(ctx context.Context) (port int, authority string, err error) {
	a, err := trust.New()
	if err != nil {
		return 0, "", err
	}
	c, err := a.Config("postroom")
	if err != nil {
		return 0, "", err
	}
	l, err := standin.Listen(ctx)
	if err != nil {
		return 0, "", err
	}
	s := smtp.NewServer(smtp.BackendFunc(func(*smtp.Conn) (smtp.Session, error) { return &session{room: r}, nil }))
	s.TLSConfig, s.Domain, s.MaxMessageBytes, s.MaxRecipients = c, "postroom.skerry.example", 8<<20, 50
	s.ReadTimeout, s.WriteTimeout = 20*time.Second, 20*time.Second
	go s.Serve(r.Moods.Listener(l))
	context.AfterFunc(ctx, func() { s.Close() })
	return l.Addr().(*net.TCPAddr).Port, a.PEM, nil
}

type session struct {
	room   *Room
	signed bool
	letter Letter
}

// AuthMechanisms lists the ways to sign in.
func (s *session) AuthMechanisms() []string { return []string{sasl.Plain} }

// Auth signs in (RFC 4954).
func (s *session) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if user != User || password != Password || s.room.Moods.Is(standin.Expire) {
			return smtp.ErrAuthFailed
		}
		s.signed = true
		return nil
	}), nil
}

// Mail begins a letter.
func (s *session) Mail(from string, _ *smtp.MailOptions) error {
	if !s.signed {
		return smtp.ErrAuthRequired
	}
	if s.room.Moods.Is(standin.Limit) {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 7, 1}, Message: "too many letters, try again later"}
	}
	s.letter = Letter{From: from}
	return nil
}

// Rcpt adds a reader; those of other islands are not known.
func (s *session) Rcpt(to string, _ *smtp.RcptOptions) error {
	if !strings.HasSuffix(strings.ToLower(to), ".example") {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name is known here"}
	}
	s.letter.To = append(s.letter.To, to)
	return nil
}

// Data takes the letter.
func (s *session) Data(r io.Reader) error {
	text, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	s.letter.Text = string(text)
	s.room.mu.Lock()
	s.room.letters = append(s.room.letters, s.letter)
	s.room.mu.Unlock()
	if slices.Contains(s.letter.To, DeskMail) {
		s.room.Desk.Deliver(s.letter.Text)
	}
	s.room.Log.Add("from "+s.letter.From, "to "+strings.Join(s.letter.To, ", "), fmt.Sprintf("%d bytes", len(text)))
	return nil
}

// Reset forgets the letter.
func (s *session) Reset() { s.letter = Letter{} }

// Logout ends the session.
func (s *session) Logout() error { return nil }

// Page shows the letters, the newest first.
func (r *Room) Page(context.Context) (standin.Page, error) {
	t := standin.Table{Title: "Letters", Head: []string{"from", "to", "subject", "text"}}
	letters := r.Letters()
	for i := len(letters) - 1; i >= 0 && len(t.Rows) < 50; i-- {
		l := letters[i]
		_, subject, body := shown(l.Text)
		t.Rows = append(t.Rows, []string{l.From, strings.Join(l.To, ", "), subject, body})
	}
	p := standin.Page{Title: "Postroom", About: "The mail server. What was sent can be read here, and what lies in the desk's mailbox.", Tables: []standin.Table{r.Desk.table(), t}}
	p.Actions = append(p.Actions, standin.Action{Name: "write", Label: "Somebody writes", About: "a letter to the desk, about a booking", Do: func(context.Context) (string, error) {
		texts, _ := r.Desk.In(imap.InboxName)
		r.Desk.Deliver(Wrote(len(texts)))
		return "A letter lies in the desk's inbox.", nil
	}})
	p.Actions = append(p.Actions, r.Moods.Actions(standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Limit, standin.Expire)...)
	return p, nil
}

// table shows what lies in the desk's inbox, the newest first.
func (d *Desk) table() standin.Table {
	t := standin.Table{Title: "The desk's inbox", Head: []string{"from", "subject", "read", "text"}}
	texts, read := d.In(imap.InboxName)
	for i := len(texts) - 1; i >= 0 && len(t.Rows) < 50; i-- {
		from, subject, body := shown(texts[i])
		seen := ""
		if read[i] {
			seen = "✓"
		}
		t.Rows = append(t.Rows, []string{from, subject, seen, body})
	}
	return t
}

// shown gives sender, subject and the beginning of the text of a letter.
func shown(text string) (from, subject, body string) {
	m, err := mail.ReadMessage(strings.NewReader(text))
	if err != nil {
		return "", "", text[:min(len(text), 400)]
	}
	if subject, err = new(mime.WordDecoder).DecodeHeader(m.Header.Get("Subject")); err != nil {
		subject = m.Header.Get("Subject")
	}
	b, err := io.ReadAll(m.Body)
	if err != nil {
		b = []byte(text)
	}
	return m.Header.Get("From"), subject, string(b[:min(len(b), 400)])
}

// Settings are those of a connection to a room at a port.
func Settings(port int, authority string) map[string]string {
	return map[string]string{
		"host": "127.0.0.1", "port": fmt.Sprint(port), "encryption": "starttls", "authority": authority, "user": User, "password": Password,
		"sender": "Skerry Line <notices@skerry.example>",
	}
}

// DeskSettings are those of a connection to the desk's mailbox at a port.
func DeskSettings(port int, authority string) map[string]string {
	return map[string]string{
		"host": "127.0.0.1", "port": fmt.Sprint(port), "encryption": "starttls", "authority": authority, "user": Reader, "password": Word, "after": "mark as read",
	}
}

// Standin is the Postroom.
var Standin = standin.Standin{
	Name: "postroom", About: "a mail server: SMTP and IMAP with STARTTLS, and a page to read what was sent",
	Start: func(ctx context.Context, _ string) (*standin.Running, error) {
		r := New()
		r.Desk.Deliver(Wrote(0))
		port, authority, err := r.Serve(ctx)
		if err != nil {
			return nil, err
		}
		desk, deskAuthority, err := r.Desk.Serve(ctx)
		if err != nil {
			return nil, err
		}
		page, err := standin.Serve(ctx, r.Page)
		return &standin.Running{Page: page, Reach: map[string]standin.Reach{
			"postroom":     {Kind: "mail", Values: Settings(port, authority)},
			"desk-mailbox": {Kind: "mailbox", Values: DeskSettings(desk, deskAuthority)},
		}}, err
	},
}
