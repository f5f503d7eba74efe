package postroom

import (
	"context"
	"fmt"
	"io"
	"log"
	"net"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-imap"
	"github.com/emersion/go-imap/backend"
	"github.com/emersion/go-imap/backend/backendutil"
	"github.com/emersion/go-imap/backend/memory"
	"github.com/emersion/go-imap/server"

	"hollowreed/internal/standin"
	"hollowreed/internal/standin/trust"
)

// Who may read the desk's mail, and where it is written to.
const (
	Reader   = "desk"
	Word     = "letter-box-4"
	DeskMail = "desk@skerry.example"
)

// Desk is the account in which the desk's mail lies: folders with letters, read over IMAP.
type Desk struct {
	Moods   *standin.FaultInjection
	mu      sync.Mutex
	folders map[string]*folder
	began   uint32 // makes the identities of one start differ from those of another
}

type folder struct {
	desk    *Desk
	name    string
	letters []*memory.Message
	last    uint32 // identities are never given twice
}

// newDesk makes a desk with an empty inbox.
func newDesk(m *standin.FaultInjection) *Desk {
	d := &Desk{Moods: m, folders: map[string]*folder{}, began: uint32(time.Now().Unix())}
	d.folders[imap.InboxName] = &folder{desk: d, name: imap.InboxName}
	return d
}

// Deliver puts a letter into the inbox.
func (d *Desk) Deliver(text string) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.folders[imap.InboxName].add(nil, time.Now(), []byte(text))
}

// In gives the texts of the letters of a folder and whether each has been read; nil when there is no such folder.
func (d *Desk) In(name string) (texts []string, read []bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	f := d.folders[name]
	if f == nil {
		return nil, nil
	}
	for _, m := range f.letters {
		texts, read = append(texts, string(m.Body)), append(read, slices.Contains(m.Flags, imap.SeenFlag))
	}
	return texts, read
}

// Serve serves IMAP with STARTTLS until the context ends, and gives its port and the authority to trust.
func (d *Desk) Serve(ctx context.Context) (port int, authority string, err error) {
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
	s := server.New(d)
	s.TLSConfig, s.MaxLiteralSize, s.ErrorLog = c, 8<<20, log.New(io.Discard, "", 0)
	go s.Serve(d.Moods.Listener(l))
	context.AfterFunc(ctx, func() { s.Close() })
	return l.Addr().(*net.TCPAddr).Port, a.PEM, nil
}

// Login signs in.
func (d *Desk) Login(_ *imap.ConnInfo, user, password string) (backend.User, error) {
	if user != Reader || password != Word || d.Moods.Is(standin.Expire) {
		return nil, backend.ErrInvalidCredentials
	}
	return account{d}, nil
}

// account is the desk as the server sees it.
type account struct{ *Desk }

// Username names the account.
func (a account) Username() string { return Reader }

// Logout ends nothing.
func (a account) Logout() error { return nil }

// ListMailboxes lists the folders.
func (a account) ListMailboxes(bool) ([]backend.Mailbox, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	var list []backend.Mailbox
	for _, f := range a.folders {
		list = append(list, f)
	}
	return list, nil
}

// GetMailbox finds a folder.
func (a account) GetMailbox(name string) (backend.Mailbox, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if f := a.folders[name]; f != nil {
		return f, nil
	}
	return nil, backend.ErrNoSuchMailbox
}

// CreateMailbox makes a folder.
func (a account) CreateMailbox(name string) error {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.folders[name] != nil {
		return backend.ErrMailboxAlreadyExists
	}
	a.folders[name] = &folder{desk: a.Desk, name: name}
	return nil
}

// DeleteMailbox is not for the desk.
func (a account) DeleteMailbox(string) error { return fmt.Errorf("folders stay") }

// RenameMailbox is not for the desk.
func (a account) RenameMailbox(string, string) error { return fmt.Errorf("folders stay") }

func (f *folder) add(flags []string, at time.Time, body []byte) {
	f.last++
	f.letters = append(f.letters, &memory.Message{Uid: f.last, Date: at, Size: uint32(len(body)), Flags: flags, Body: body})
}

// each does something with the letters of a set.
func (f *folder) each(uid bool, set *imap.SeqSet, do func(number uint32, m *memory.Message)) {
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	for i, m := range f.letters {
		id := uint32(i + 1)
		if uid {
			id = m.Uid
		}
		if set == nil || set.Contains(id) {
			do(uint32(i+1), m)
		}
	}
}

// Name names the folder.
func (f *folder) Name() string { return f.name }

// Info tells of the folder.
func (f *folder) Info() (*imap.MailboxInfo, error) {
	return &imap.MailboxInfo{Delimiter: "/", Name: f.name}, nil
}

// Status counts its letters.
func (f *folder) Status(items []imap.StatusItem) (*imap.MailboxStatus, error) {
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	s := imap.NewMailboxStatus(f.name, items)
	s.Flags, s.PermanentFlags = []string{imap.SeenFlag, imap.DeletedFlag}, []string{"\\*"}
	s.Messages, s.UidNext, s.UidValidity = uint32(len(f.letters)), f.last+1, f.desk.began
	return s, nil
}

// SetSubscribed keeps nothing.
func (f *folder) SetSubscribed(bool) error { return nil }

// Check has nothing to do.
func (f *folder) Check() error { return nil }

// ListMessages gives letters.
func (f *folder) ListMessages(uid bool, set *imap.SeqSet, items []imap.FetchItem, to chan<- *imap.Message) error {
	defer close(to)
	var list []*imap.Message
	f.each(uid, set, func(number uint32, m *memory.Message) {
		if got, err := m.Fetch(number, items); err == nil {
			list = append(list, got)
		}
	})
	for _, m := range list {
		to <- m
	}
	return nil
}

// SearchMessages finds letters.
func (f *folder) SearchMessages(uid bool, c *imap.SearchCriteria) (ids []uint32, err error) {
	f.each(uid, nil, func(number uint32, m *memory.Message) {
		if ok, err := m.Match(number, c); err != nil || !ok {
			return
		}
		if uid {
			number = m.Uid
		}
		ids = append(ids, number)
	})
	return ids, nil
}

// CreateMessage adds a letter.
func (f *folder) CreateMessage(flags []string, at time.Time, body imap.Literal) error {
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	f.add(flags, at, text)
	return nil
}

// UpdateMessagesFlags marks letters.
func (f *folder) UpdateMessagesFlags(uid bool, set *imap.SeqSet, op imap.FlagsOp, flags []string) error {
	f.each(uid, set, func(_ uint32, m *memory.Message) { m.Flags = backendutil.UpdateFlags(m.Flags, op, flags) })
	return nil
}

// CopyMessages copies letters to another folder.
func (f *folder) CopyMessages(uid bool, set *imap.SeqSet, to string) error {
	var copies []*memory.Message
	f.each(uid, set, func(_ uint32, m *memory.Message) { copies = append(copies, m) })
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	other := f.desk.folders[to]
	if other == nil {
		return backend.ErrNoSuchMailbox
	}
	for _, m := range copies {
		other.add(slices.Clone(m.Flags), m.Date, m.Body)
	}
	return nil
}

// MoveMessages moves letters to another folder (RFC 6851).
func (f *folder) MoveMessages(uid bool, set *imap.SeqSet, to string) error {
	if err := f.CopyMessages(uid, set, to); err != nil {
		return err
	}
	var moved []*memory.Message
	f.each(uid, set, func(_ uint32, m *memory.Message) { moved = append(moved, m) })
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	f.letters = slices.DeleteFunc(f.letters, func(m *memory.Message) bool { return slices.Contains(moved, m) })
	return nil
}

// Expunge lets letters go that are marked as deleted.
func (f *folder) Expunge() error {
	f.desk.mu.Lock()
	defer f.desk.mu.Unlock()
	f.letters = slices.DeleteFunc(f.letters, func(m *memory.Message) bool { return slices.Contains(m.Flags, imap.DeletedFlag) })
	return nil
}

// Wrote is a letter about a booking, as customers of the demo write them.
func Wrote(n int) string {
	who := []string{"Tove Lind", "Jon Haar", "Norholm Salt", "Ada Skov"}[n%4]
	text := []string{"My car has become a van. Is there room?", "Can I sail a day later?", "The plate on the booking is wrong, the right one is attached.", "Thank you, all is well."}[n%4]
	booking := fmt.Sprintf("B-%05d", 20417+n)
	name := strings.ToLower(strings.Fields(who)[0])
	return fmt.Sprintf("From: %s <%s@post.example>\r\nTo: <%s>\r\nSubject: About booking %s\r\nMessage-ID: <%d.%s@post.example>\r\nDate: %s\r\nMIME-Version: 1.0\r\n"+
		"Content-Type: multipart/mixed; boundary=\"fold\"\r\n\r\n--fold\r\nContent-Type: text/plain; charset=utf-8\r\n\r\n%s\r\n--fold\r\nContent-Type: text/csv\r\nContent-Disposition: attachment; filename=\"vehicle.csv\"\r\n\r\nplate,class\r\nSK %d,CAR\r\n--fold--\r\n",
		who, name, DeskMail, booking, n+1, name, time.Now().UTC().Format(time.RFC1123Z), text, 40117+n)
}

// Unread marks all letters of the inbox as if nobody had read them.
func (d *Desk) Unread() {
	d.folders[imap.InboxName].each(false, nil, func(_ uint32, m *memory.Message) { m.Flags = nil })
}
