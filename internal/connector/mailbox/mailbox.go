// Package mailbox reads mail over IMAP (RFC 3501) and takes what has started runs out of the way.
package mailbox

import (
	"context"
	"errors"
	"fmt"
	"io"
	"iter"
	"log"
	"net/textproto"
	"slices"
	"strings"
	"time"

	"github.com/emersion/go-imap"
	"github.com/emersion/go-imap/client"

	"hollowreed/internal/connector/probe"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Box is one folder of a mail account.
type Box struct{ env system.Env }

var (
	_ system.Mailbox = (*Box)(nil)
	_ system.Reader  = (*Box)(nil)
)

// Open makes a box of its settings.
func Open(env system.Env) (system.System, error) {
	for _, name := range []string{"host", "user"} {
		if env.Values[name] == "" {
			return nil, fault.New(fault.Required, "the connection has no %s", name).WithFix("Fill it in and save")
		}
	}
	if env.Values["after"] == "move" && env.Values["done"] == "" {
		return nil, fault.New(fault.Required, "the connection does not say to which folder mails are moved").WithFix("Fill it in and save")
	}
	return &Box{env: env}, nil
}

// Close has nothing to close: each look has its own connection.
func (b *Box) Close() {}

func (b *Box) folder() string { return b.env.Values.Or("folder", imap.InboxName) }

// session is signed in, with the folder selected.
type session struct {
	*client.Client
	state *imap.MailboxStatus
}

// with does something signed in, and signs off.
func (b *Box) with(ctx context.Context, readOnly bool, do func(s *session) error) error {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel() // ends the connection, however it went
	c, err := b.signIn(ctx)
	if err != nil {
		return err
	}
	s := &session{Client: c}
	if s.state, err = c.Select(b.folder(), readOnly); err != nil && !alive(c) {
		return err
	} else if err != nil {
		return fault.New(fault.Setting, "the folder %s cannot be opened: %s", fault.Quote(b.folder()), err).WithFix("Choose one of the account's folders")
	}
	if err = do(s); err != nil {
		if ctx.Err() != nil {
			return ctx.Err()
		}
		return plainly(err)
	}
	return ignoreEnd(c.Logout())
}

// ignoreEnd: a server may hang up as it says goodbye.
func ignoreEnd(err error) error {
	if errors.Is(err, client.ErrAlreadyLoggedOut) {
		return nil
	}
	return err
}

func (b *Box) greeted(ctx context.Context) (*client.Client, error) {
	conn, err := b.dial(ctx)
	if err != nil {
		return nil, plainly(err)
	}
	c, err := client.New(conn)
	if err != nil {
		conn.Close()
		return nil, plainly(err)
	}
	c.ErrorLog = log.New(io.Discard, "", 0) // what goes wrong is told by the commands
	c.Timeout = b.env.Values.Timeout()
	return c, nil
}

func (b *Box) signIn(ctx context.Context) (*client.Client, error) {
	c, err := b.greeted(ctx)
	if err != nil {
		return nil, err
	}
	return c, b.login(c)
}

func (b *Box) login(c *client.Client) error {
	err := c.Login(b.env.Values["user"], b.env.Values["password"])
	if err != nil && alive(c) {
		return fault.New(fault.Setting, "the mail server does not take the sign-in: %s", err).WithFix("Check user and password, and which kind of encryption the port wants")
	}
	return err
}

// alive says whether the server is still there: then it was it that refused.
func alive(c *client.Client) bool {
	select {
	case <-c.LoggedOut():
		return false
	default:
		return true
	}
}

// plainly says why a server is not trusted in words.
func plainly(err error) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f
	}
	if why, is := system.Untrusted(err); is {
		return fault.New(fault.Setting, "%s", why).WithFix("%s", system.TrustMends)
	}
	return err
}

// Check says whether the account can be signed in to.
func (b *Box) Check(ctx context.Context) error {
	return b.with(ctx, true, func(*session) error { return nil })
}

// Probe tries the server stage by stage.
func (b *Box) Probe(ctx context.Context, r *probe.Run) {
	v := b.env.Values
	r.Reach(ctx, b.env.Net.Dialer(), v["host"], v.Int("port", 993))
	if v["encryption"] != "starttls" && v["encryption"] != "none" {
		t, _ := system.TLS(v["host"], v["authority"], "")
		r.TLS(ctx, b.env.Net.Dialer(), v["host"], v.Int("port", 993), t)
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	c, err := b.greeted(ctx)
	r.Do("server greets", func() (string, error) { return well("it speaks IMAP", err) }, func(error) string { return mendOf(err) })
	r.Do("signed in", func() (string, error) { return well("as "+v["user"], b.login(c)) }, func(error) string { return "Check user and password, and which kind of encryption the port wants" })
	r.Do("folder opened", func() (string, error) {
		s, err := c.Select(b.folder(), true)
		if err != nil {
			return "", err
		}
		return fmt.Sprintf("%s has %d mails", b.folder(), s.Messages), nil
	}, func(error) string { return "Choose one of the account's folders" })
}

// well tells a stage that went well; one that did not tells its error.
func well(told string, err error) (string, error) {
	if err != nil {
		told = err.Error()
	}
	return told, err
}

func mendOf(err error) string {
	var f *fault.Fault
	if errors.As(err, &f) && f.Fix != "" {
		return f.Fix
	}
	return "Check which kind of encryption the port wants"
}

// Read finds mails: those that fit, oldest first.
func (b *Box) Read(ctx context.Context, r system.Request) iter.Seq2[value.Value, error] {
	return func(yield func(value.Value, error) bool) {
		err := b.with(ctx, true, func(s *session) error {
			uids, err := s.UidSearch(wanted(r.Value))
			if err != nil {
				return err
			}
			slices.Sort(uids)
			for _, uid := range uids {
				raw, err := s.text(uid)
				if err != nil {
					return err
				}
				if raw != nil && !yield(ReadMail(raw), nil) {
					return errEnough
				}
			}
			return nil
		})
		if err != nil && !errors.Is(err, errEnough) {
			yield(value.Value{}, err)
		}
	}
}

// errEnough ends a reading of which nobody wants more.
var errEnough = errors.New("enough")

// wanted are the criteria of a letter-search.
func wanted(asked value.Value) *imap.SearchCriteria {
	c := criteria(text(asked, "from"), text(asked, "subject"))
	if asked.Kind() != value.RecordKind {
		return c
	}
	if since := asked.Field("since"); !since.IsMissing() {
		c.Since, _ = time.Parse(time.DateOnly, since.String())
	}
	if asked.Field("unread").IsTrue() {
		c.WithoutFlags = append(c.WithoutFlags, imap.SeenFlag)
	}
	return c
}

func text(v value.Value, field string) string {
	if v.Kind() != value.RecordKind || v.Field(field).IsMissing() {
		return ""
	}
	return v.Field(field).String()
}

func criteria(from, subject string) *imap.SearchCriteria {
	c := imap.NewSearchCriteria()
	c.WithoutFlags = []string{imap.DeletedFlag}
	c.Header = textproto.MIMEHeader{}
	for name, part := range map[string]string{"From": from, "Subject": subject} {
		if part != "" {
			c.Header.Add(name, part)
		}
	}
	return c
}

// maxLook bounds the mails of one look, so that others have their turn.
const maxLook = 500

// FetchMails brings the mails that wait, oldest first, and takes those out of the way that take has taken. One that take
// does not take stays where it is; the others go on.
func (b *Box) FetchMails(ctx context.Context, from, subject string, take func(system.Mail) error) error {
	return b.with(ctx, false, func(s *session) error {
		c := criteria(from, subject)
		if b.env.Values["after"] != "move" && b.env.Values["after"] != "delete" {
			c.WithoutFlags = append(c.WithoutFlags, imap.SeenFlag)
		}
		uids, err := s.UidSearch(c)
		if err != nil || len(uids) == 0 {
			return err
		}
		slices.Sort(uids)
		taken := new(imap.SeqSet)
		var bad []error
		for _, uid := range uids[:min(len(uids), maxLook)] {
			if err := s.taken(uid, b.env.Values.Largest(), take); err != nil {
				bad = append(bad, err)
				continue
			}
			taken.AddNum(uid)
		}
		if !taken.Empty() {
			bad = append(bad, b.away(s, taken))
		}
		return errors.Join(bad...)
	})
}

// taken fetches one mail and lets it be taken.
func (s *session) taken(uid uint32, most int64, take func(system.Mail) error) error {
	m, err := s.one(uid, imap.FetchRFC822Size, imap.FetchEnvelope)
	switch {
	case err != nil || m == nil:
		return err
	case int64(m.Size) > most:
		subject := ""
		if m.Envelope != nil {
			subject = m.Envelope.Subject
		}
		return fault.New(fault.Limit, "the mail %s has %d MB; up to %d MB are read", fault.Quote(subject), m.Size>>20, most>>20).
			WithFix("Raise the connection's largest answer, or take the mail out of the folder")
	}
	raw, err := s.text(uid)
	if err != nil || raw == nil {
		return err
	}
	return take(system.Mail{Identity: fmt.Sprintf("%d/%d", s.state.UidValidity, uid), Value: ReadMail(raw)})
}

// one fetches of one mail; nil when it has gone meanwhile.
func (s *session) one(uid uint32, items ...imap.FetchItem) (m *imap.Message, err error) {
	set := new(imap.SeqSet)
	set.AddNum(uid)
	found := make(chan *imap.Message, 1)
	done := make(chan error, 1)
	go func() { done <- s.UidFetch(set, append(items, imap.FetchUid), found) }()
	for f := range found {
		if f.Uid == uid {
			m = f
		}
	}
	return m, <-done
}

// text is a mail as it stands there; it is not marked as read.
func (s *session) text(uid uint32) ([]byte, error) {
	whole := &imap.BodySectionName{Peek: true}
	m, err := s.one(uid, whole.FetchItem())
	if err != nil || m == nil {
		return nil, err
	}
	body := m.GetBody(whole)
	if body == nil {
		return nil, nil
	}
	return io.ReadAll(body)
}

// away marks, moves or deletes what was taken.
func (b *Box) away(s *session, taken *imap.SeqSet) error {
	switch b.env.Values["after"] {
	case "move":
		return b.move(s, taken)
	case "delete":
		return s.remove(taken)
	}
	return s.flag(taken, imap.SeenFlag)
}

func (s *session) flag(set *imap.SeqSet, flag string) error {
	return s.UidStore(set, imap.FormatFlagsOp(imap.AddFlags, true), []any{flag}, nil)
}

// remove marks mails as deleted, and lets them go where the server can do so for these alone (RFC 4315); what else is
// marked in the folder is somebody else's.
func (s *session) remove(set *imap.SeqSet) error {
	if err := s.flag(set, imap.DeletedFlag); err != nil {
		return err
	}
	if can, err := s.Support("UIDPLUS"); err != nil || !can {
		return err
	}
	return ok(s.Execute(expunge{set}, nil))
}

func ok(status *imap.StatusResp, err error) error {
	if err != nil {
		return err
	}
	return status.Err()
}

// expunge is UID EXPUNGE.
type expunge struct{ set *imap.SeqSet }

// Command writes it.
func (e expunge) Command() *imap.Command {
	return &imap.Command{Name: "UID", Arguments: []any{imap.RawString("EXPUNGE"), e.set}}
}

// move moves mails (RFC 6851), or copies and removes them. A folder that is missing is made.
func (b *Box) move(s *session, set *imap.SeqSet) error {
	to := strings.TrimSpace(b.env.Values["done"])
	err := s.moved(set, to)
	if err == nil || !alive(s.Client) {
		return err
	}
	if err := s.Create(to); err != nil {
		return fault.New(fault.Setting, "mails cannot be moved to %s: %s", fault.Quote(to), err).WithFix("Choose another folder")
	}
	return s.moved(set, to)
}

func (s *session) moved(set *imap.SeqSet, to string) error {
	if can, err := s.Support("MOVE"); err == nil && can {
		return s.UidMove(set, to)
	}
	return s.copied(set, to)
}

func (s *session) copied(set *imap.SeqSet, to string) error {
	if err := s.UidCopy(set, to); err != nil {
		return err
	}
	return s.remove(set)
}
