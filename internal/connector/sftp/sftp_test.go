package sftp

import (
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/crypto/ssh"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/sftpdrop"
)

const part = `
connection: Files
kind: sftp
operations:
  - {operation: list, kind: list}
  - {operation: read, kind: read}
  - {operation: write, kind: write}
  - {operation: add, kind: write, there: append}
  - {operation: keep, kind: write, there: refuse}
  - {operation: packed, kind: write, compress: gzip}
  - {operation: delete, kind: delete}
`

func drop(t *testing.T) (*sftpdrop.Drop, map[string]string) {
	t.Helper()
	dir := t.TempDir()
	for _, d := range []string{"outbox", "done"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	d, err := sftpdrop.New(dir)
	require.NoError(t, err)
	port, err := d.Serve(t.Context())
	require.NoError(t, err)
	values := d.Settings(port)
	values["timeout"] = "2"
	return d, values
}

func open(t *testing.T, values map[string]string) *Host {
	t.Helper()
	s, err := Open(contract.Env("sftp", values))
	require.NoError(t, err)
	t.Cleanup(s.Close)
	return s.(*Host)
}

// contractOf is what every host must keep.
func contractOf(t *testing.T, h *Host, root string) {
	c := contract.Part(t, part)
	well, told := contract.Probe(t, h)
	require.True(t, well, told)
	require.NoError(t, h.Check(t.Context()))
	call := func(op, asked string) (string, error) {
		v, err := h.Call(t.Context(), contract.Request(t, c, op, asked))
		return json.Text(v), err
	}
	_, err := call("write", `{"name": "a.txt", "text": "one\n"}`)
	require.NoError(t, err)
	_, err = call("write", `{"name": "a.txt", "text": "first\n"}`)
	require.NoError(t, err, "one that is there is replaced")
	_, err = call("add", `{"name": "a.txt", "text": "second\n"}`)
	require.NoError(t, err)
	_, err = call("keep", `{"name": "a.txt", "text": "x"}`)
	require.ErrorContains(t, err, "there is a file a.txt already")
	got, err := call("read", `{"name": "a.txt"}`)
	require.NoError(t, err)
	require.Contains(t, got, `first\nsecond\n`)
	got, err = call("packed", `{"name": "sub/b.txt", "text": "packed"}`)
	require.NoError(t, err)
	require.Contains(t, got, "sub/b.txt.gz")
	got, err = call("read", `{"name": "sub/b.txt.gz"}`)
	require.NoError(t, err)
	require.Contains(t, got, `"text":"packed"`)
	for _, name := range []string{"../x", "/etc/passwd", "a/../../x", ""} {
		_, err = call("read", `{"name": "`+name+`"}`)
		var f *fault.Fault
		require.ErrorAs(t, err, &f, name)
	}
	_, err = call("read", `{"name": "none.txt"}`)
	require.ErrorContains(t, err, "none of that name")
	require.Len(t, contract.All(t, h, contract.Request(t, c, "list", `{"mask": "*.txt"}`)), 1)
	list, err := h.List(t.Context(), "*.txt")
	require.NoError(t, err)
	require.Len(t, list, 1)
	in, err := h.Open(t.Context(), "a.txt")
	require.NoError(t, err)
	text, err := io.ReadAll(in)
	require.NoError(t, err)
	require.NoError(t, in.Close())
	require.Equal(t, "first\nsecond\n", string(text))
	require.NoError(t, h.MarkFetched(t.Context(), "a.txt"))
	require.FileExists(t, filepath.Join(root, "done", "a.txt"))
	require.NoError(t, h.MarkFetched(t.Context(), "a.txt"), "one that is moved already stays so")
	_, err = call("delete", `{"name": "sub/b.txt.gz"}`)
	require.NoError(t, err)
	contract.AtOnce(t, call)
}

func TestTheStandIn(t *testing.T) {
	d, values := drop(t)
	values["timeout"] = "30" // many write at once, perhaps on a busy machine
	contractOf(t, open(t, values), d.Folder)
	values["key"], values["password"] = d.Private, ""
	well, told := contract.Probe(t, open(t, values))
	require.True(t, well, "with a key: %s", told)
}

func TestAHostThatShowsAnotherKeyIsRefusedLoudly(t *testing.T) {
	d, values := drop(t)
	h := open(t, values)
	require.NoError(t, h.Check(t.Context()))
	d.Moods.Set(standin.HostKey, true)
	h.Close()
	var f *fault.Fault
	require.ErrorAs(t, h.Check(t.Context()), &f)
	require.Contains(t, f.What(), "THE HOST SHOWS ANOTHER KEY")
	well, told := contract.Probe(t, h)
	require.False(t, well)
	require.Contains(t, told, "host key compared: THE HOST SHOWS ANOTHER KEY")
	d.Moods.Reset()
	values["host key"] = ""
	well, told = contract.Probe(t, open(t, values))
	require.False(t, well)
	require.Contains(t, told, "nobody has compared yet")
	require.Contains(t, told, "keep this as the host's key: "+d.HostKey())
	values["host key"] = "nonsense"
	_, err := Open(contract.Env("sftp", values))
	require.ErrorContains(t, err, "known_hosts")
}

func TestTroubleIsNamed(t *testing.T) {
	d, values := drop(t)
	values["password"] = "wrong-word"
	well, told := contract.Probe(t, open(t, values))
	require.False(t, well)
	require.Contains(t, told, "signed in: the host does not take the sign-in")
	require.NotContains(t, told, "wrong-word")
	values["password"] = sftpdrop.Password
	h := open(t, values)
	require.NoError(t, h.Check(t.Context()))
	for _, mood := range []string{standin.Slow, standin.Refuse, standin.Wrong, standin.Drop} {
		d.Moods.Reset()
		d.Moods.Set(mood, true)
		h.Close()
		require.Error(t, h.Check(t.Context()), mood)
	}
	d.Moods.Reset()
	d.Moods.TakeDown(time.Second)
	require.Error(t, h.Check(t.Context()))
	require.Eventually(t, func() bool { return h.Check(t.Context()) == nil }, 10*time.Second, 50*time.Millisecond)
}

// TestARealServer: OpenSSH's sftp-server, behind an SSH server of the test's own, keeps the same contract.
func TestARealServer(t *testing.T) {
	binary := "/usr/lib/openssh/sftp-server"
	if _, err := os.Stat(binary); err != nil {
		t.Skip("OpenSSH's sftp-server is not installed; make test installs it")
	}
	d, values := drop(t)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go serve(c, d, binary)
		}
	}()
	values["port"] = l.Addr().String()[len("127.0.0.1:"):]
	contractOf(t, open(t, values), d.Folder)
}

// serve gives each session to the real sftp-server.
func serve(c net.Conn, d *sftpdrop.Drop, binary string) {
	defer c.Close()
	_, channels, requests, err := ssh.NewServerConn(c, d.Config())
	if err != nil {
		return
	}
	go ssh.DiscardRequests(requests)
	for ch := range channels {
		channel, requests, err := ch.Accept()
		if err != nil {
			return
		}
		go func() {
			for r := range requests {
				r.Reply(r.Type == "subsystem", nil)
			}
		}()
		go func() {
			defer channel.Close()
			cmd := exec.Command(binary, "-d", d.Folder)
			cmd.Dir, cmd.Stdin, cmd.Stdout = d.Folder, channel, channel
			cmd.Run()
		}()
	}
}
