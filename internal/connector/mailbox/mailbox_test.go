package mailbox

import (
	"bytes"
	"errors"
	"fmt"
	"net"
	"slices"
	"testing"
	"time"

	"github.com/emersion/go-imap"
	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/postroom"
)

const part = `
connection: Desk
kind: mailbox
operations:
  - {operation: find, kind: find}
`

// account is a mail account at some server.
type account struct {
	t      *testing.T
	values map[string]string
}

func (a account) box(change map[string]string) *Box {
	a.t.Helper()
	values := map[string]string{"timeout": "5"}
	for _, m := range []map[string]string{a.values, change} {
		for name, v := range m {
			values[name] = v
		}
	}
	s, err := Open(contract.Env("mailbox", values))
	require.NoError(a.t, err)
	return s.(*Box)
}

// send puts a mail into a folder, as a server does that has got one.
func (a account) send(folder, from, subject string) {
	a.t.Helper()
	require.NoError(a.t, a.box(nil).with(a.t.Context(), false, func(s *session) error {
		return s.Append(folder, nil, time.Now(), bytes.NewBufferString(fmt.Sprintf("From: %s\r\nSubject: %s\r\n\r\nwords\r\n", from, subject)))
	}))
}

// brought are the subjects of the mails that a look brings; those that are refused stay.
func (a account) brought(b *Box, from, subject string, refuse ...string) (subjects, identities []string, err error) {
	err = b.FetchMails(a.t.Context(), from, subject, func(l system.Mail) error {
		s := l.Value.Field("subject").String()
		if slices.Contains(refuse, s) {
			return errors.New("not now: " + s)
		}
		subjects, identities = append(subjects, s), append(identities, l.Identity)
		return nil
	})
	return subjects, identities, err
}

// found are the subjects that an operation finds.
func (a account) found(asked string) (subjects []string) {
	a.t.Helper()
	for _, v := range contract.All(a.t, a.box(nil), contract.Request(a.t, contract.Part(a.t, part), "find", asked)) {
		subjects = append(subjects, v.Field("subject").String())
	}
	return subjects
}

func desk(t *testing.T) (*postroom.Room, account) {
	t.Helper()
	r := postroom.New()
	port, authority, err := r.Desk.Serve(t.Context())
	require.NoError(t, err)
	return r, account{t, postroom.DeskSettings(port, authority)}
}

func TestTheDesk(t *testing.T) {
	_, a := desk(t)
	keeps(t, a)
}

// keeps is what every mail server must keep.
func keeps(t *testing.T, a account) {
	well, told := contract.Probe(t, a.box(nil))
	require.True(t, well, told)
	require.Contains(t, told, "INBOX has 0 mails")
	require.NoError(t, a.box(nil).Check(t.Context()))
	subjects, _, err := a.brought(a.box(nil), "", "")
	require.NoError(t, err)
	require.Empty(t, subjects)

	a.send("INBOX", "Tove Lind <tove@post.example>", "About B-20417")
	a.send("INBOX", "Jon Haar <jon@post.example>", "About B-20418")
	a.send("INBOX", "Ada <ada@post.example>", "lunch")
	require.Equal(t, []string{"About B-20417", "About B-20418", "lunch"}, a.found(`{"unread": true}`), "oldest first")
	require.Equal(t, []string{"About B-20418"}, a.found(`{"from": "jon", "subject": "b-204"}`))
	require.Empty(t, a.found(`{"since": "2231-01-01"}`))

	// What is marked as read does not come again; what does not fit and what was not taken stays as it is.
	subjects, first, err := a.brought(a.box(nil), "", "about", "About B-20418")
	require.ErrorContains(t, err, "not now: About B-20418")
	require.Equal(t, []string{"About B-20417"}, subjects)
	subjects, second, err := a.brought(a.box(nil), "", "about")
	require.NoError(t, err)
	require.Equal(t, []string{"About B-20418"}, subjects)
	require.NotEqual(t, first, second)
	require.Equal(t, []string{"lunch"}, a.found(`{"unread": true}`))
	require.Len(t, a.found(`{}`), 3)

	// What is moved lies in the other folder, which is made.
	move := a.box(map[string]string{"after": "move", "done": "Taken"})
	subjects, _, err = a.brought(move, "jon@post", "")
	require.NoError(t, err)
	require.Equal(t, []string{"About B-20418"}, subjects, "read or not")
	require.Equal(t, []string{"About B-20417", "lunch"}, a.found(`{}`))
	require.NoError(t, a.box(nil).with(t.Context(), false, func(s *session) error { // as where a server cannot move
		set := new(imap.SeqSet)
		set.AddRange(1, 0)
		return s.copied(set, "Taken")
	}))
	require.Empty(t, a.found(`{}`))
	taken, _, err := a.brought(a.box(map[string]string{"folder": "Taken", "after": "delete"}), "", "")
	require.NoError(t, err)
	require.Equal(t, []string{"About B-20418", "About B-20417", "lunch"}, taken)
	a.send("INBOX", "Tove Lind <tove@post.example>", "About B-20417")
	a.send("INBOX", "Ada <ada@post.example>", "lunch")

	// What is deleted is gone; what comes then has an identity of its own.
	subjects, last, err := a.brought(a.box(map[string]string{"after": "delete"}), "", "")
	require.NoError(t, err)
	require.Equal(t, []string{"About B-20417", "lunch"}, subjects)
	require.Empty(t, a.found(`{}`))
	a.send("INBOX", "Ada <ada@post.example>", "dinner")
	_, next, err := a.brought(a.box(nil), "", "")
	require.NoError(t, err)
	require.Len(t, next, 1)
	require.NotContains(t, last, next[0])
}

// TestWhatAServerRefuses: each is a fault, which waiting does not mend, and says what does.
func TestWhatAServerRefuses(t *testing.T) {
	_, a := desk(t)
	a.send("INBOX", "a@b.example", "x")
	for name, c := range map[string]struct {
		change map[string]string
		want   string
	}{
		"a wrong password":      {map[string]string{"password": "wrong-word"}, "does not take the sign-in"},
		"an unknown folder":     {map[string]string{"folder": "Attic"}, `the folder "Attic" cannot be opened`},
		"an unknown authority":  {map[string]string{"authority": ""}, "not of an authority that is trusted here"},
		"no encryption offered": {map[string]string{"encryption": "none"}, "does not take the sign-in"},
	} {
		b := a.box(c.change)
		_, _, err := a.brought(b, "", "")
		var f *fault.Fault
		require.ErrorAs(t, err, &f, name)
		require.Contains(t, f.What(), c.want, name)
		require.NotEmpty(t, f.Fix, name)
		well, told := contract.Probe(t, b)
		require.False(t, well, name)
		require.NotContains(t, told, "wrong-word")
	}
	for name, change := range map[string]map[string]string{"host": {"host": ""}, "user": {"user": ""}, "where they go": {"after": "move"}} {
		values := postroom.DeskSettings(1, "")
		for k, v := range change {
			values[k] = v
		}
		_, err := Open(contract.Env("mailbox", values))
		require.Error(t, err, name)
	}
}

// TestALongMailStaysWhereItIs: it is told by its subject, and the others come all the same.
func TestALongMailStaysWhereItIs(t *testing.T) {
	r, a := desk(t)
	r.Desk.Deliver("Subject: the whole archive\r\n\r\n" + string(bytes.Repeat([]byte("x"), 2<<20)))
	a.send("INBOX", "a@b.example", "short")
	b := a.box(map[string]string{"largest": "1"})
	subjects, _, err := a.brought(b, "", "")
	require.Equal(t, []string{"short"}, subjects)
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), `the mail "the whole archive" has 2 MB`)
	require.Equal(t, []string{"the whole archive"}, a.found(`{"unread": true}`))
}

func TestEveryMood(t *testing.T) {
	r, a := desk(t)
	r.Moods.SlowFor(1500 * time.Millisecond)
	a.send("INBOX", "a@b.example", "x")
	b := a.box(map[string]string{"timeout": "1"})
	for _, mood := range []string{standin.Slow, standin.Refuse, standin.Wrong, standin.Drop, standin.Expire} {
		r.Moods.Reset()
		r.Moods.Set(mood, true)
		subjects, _, err := a.brought(b, "", "")
		require.Error(t, err, mood)
		require.Empty(t, subjects, mood)
	}
	r.Moods.Reset()
	r.Moods.TakeDown(time.Minute)
	require.Error(t, b.Check(t.Context()))
	r.Moods.Reset()
	subjects, _, err := a.brought(b, "", "")
	require.NoError(t, err)
	require.Equal(t, []string{"x"}, subjects)
}

// TestAnAnnouncementThatIsTooLongEndsIt: no room is made for what a server only says that it will send, and what only
// looks like an announcement within a mail is none.
func TestAnAnnouncementThatIsTooLongEndsIt(t *testing.T) {
	ours, theirs := net.Pipe()
	defer theirs.Close()
	b := &bounded{Conn: ours, most: 1000, first: "* OK hello\r\n"}
	said := "* 1 FETCH (BODY[] {40}\r\nwithin a mail {99999}\r\n is a text only..)\r\na OK {12} done\r\n* 2 FETCH (BODY[] {999999999}\r\n"
	go func() {
		for i := range said { // in the smallest pieces
			if _, err := theirs.Write([]byte{said[i]}); err != nil {
				return
			}
		}
	}()
	var got []byte
	var err error
	for p := make([]byte, 7); err == nil; {
		var n int
		n, err = b.Read(p)
		got = append(got, p[:n]...)
	}
	var f *fault.Fault
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "longer than what is read at once")
	require.Equal(t, "* OK hello\r\n"+said, string(got), "everything before it was read")
	for tail, want := range map[string]int64{"{12}\r": 12, "{12+}\r": 12, "x {3}": 3, "{}\r": 0, "{x}\r": 0, "12}\r": 0, "{99999999999999999999}": 0, "": 0} {
		require.Equal(t, want, announced([]byte(tail)), tail)
	}
}

// TestAServerThatDoesNotSpeakIMAP is told, within the time that it may take.
func TestAServerThatDoesNotSpeakIMAP(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			fmt.Fprint(c, "SSH-2.0-something\r\nno more\r\n")
			defer c.Close()
		}
	}()
	for _, encryption := range []string{"none", "starttls"} {
		a := account{t, map[string]string{"host": "127.0.0.1", "port": fmt.Sprint(l.Addr().(*net.TCPAddr).Port), "encryption": encryption, "user": "u", "timeout": "1"}}
		began := time.Now()
		require.Error(t, a.box(nil).Check(t.Context()), encryption)
		require.Less(t, time.Since(began), 10*time.Second)
	}
}
