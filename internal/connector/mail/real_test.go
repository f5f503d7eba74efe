package mail

import (
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/connector/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/standin/trust"
)

const eximConfig = `
keep_environment =
primary_hostname = postroom.skerry.example
spool_directory = %[1]s/spool
log_file_path = %[1]s/log/%%slog
tls_advertise_hosts = *
tls_certificate = %[1]s/pair.pem
acl_smtp_rcpt = acl_rcpt
acl_smtp_data = accept
queue_only = true
begin acl
acl_rcpt:
  deny message = sign in first
       !authenticated = *
  deny message = nobody of that name is known here
       condition = ${if !match{$domain}{\N\.example$\N}}
  accept
begin authenticators
plain:
  driver = plaintext
  public_name = PLAIN
  server_prompts = :
  server_condition = ${if and {{eq{$auth2}{` + postroom.User + `}}{eq{$auth3}{` + postroom.Password + `}}}}
  server_set_id = $auth2
`

// TestARealServer: the mail server of Debian keeps the same contract as the stand-in.
func TestARealServer(t *testing.T) {
	binary := "/usr/sbin/exim4"
	if _, err := os.Stat(binary); err != nil || os.Geteuid() != 0 {
		t.Skip("Exim is not installed (make test installs it), or may not be started by this user")
	}
	dir, err := os.MkdirTemp("/var/tmp", "hollowreed-exim-") // not below the user's own folders: it gives up its rights
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	for _, sub := range []string{"spool", "log"} {
		require.NoError(t, os.Mkdir(filepath.Join(dir, sub), 0o777))
		require.NoError(t, os.Chmod(filepath.Join(dir, sub), 0o777))
	}
	a, err := trust.New()
	require.NoError(t, err)
	certificate, key, err := a.ServerPEM("postroom")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "pair.pem"), append(certificate, key...), 0o644)) // worth nothing beyond this test
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), fmt.Appendf(nil, eximConfig, dir), 0o644))
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	port := l.Addr().(*net.TCPAddr).Port
	l.Close()
	cmd := exec.Command(binary, "-C", filepath.Join(dir, "conf"), "-bdf", "-oX", fmt.Sprintf("[127.0.0.1]:%d", port), "-oP", filepath.Join(dir, "spool", "pid"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true} // it starts itself again with fewer rights
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL)
		cmd.Wait()
	})
	require.NoError(t, standin.Reachable(t.Context(), fmt.Sprintf("127.0.0.1:%d", port)))

	values := postroom.Settings(port, a.PEM)
	c := contract.Part(t, part)
	s, err := Open(contract.Env("mail", values))
	require.NoError(t, err)
	well, told := contract.Probe(t, s)
	require.True(t, well, told)
	send := contract.Request(t, c, "send", `{"to": ["mira@skerry.example"], "subject": "Fog", "text": "Sail slow between the marks.", "attachments": [{"name": "a.txt", "text": "x"}]}`)
	send.Key = "run-9"
	v, err := s.(*Server).Call(t.Context(), send)
	require.NoError(t, err)
	require.Equal(t, "run-9@skerry.example", v.Field("id").String())
	require.Contains(t, v.Field("said").String(), "OK id=")
	files, err := filepath.Glob(filepath.Join(dir, "spool", "input", "*-D"))
	require.NoError(t, err)
	require.Len(t, files, 1)
	text, err := os.ReadFile(files[0])
	require.NoError(t, err)
	require.Contains(t, string(text), "Sail slow between the marks.")

	var f *fault.Fault
	_, err = s.(*Server).Call(t.Context(), contract.Request(t, c, "send", `{"to": ["a@elsewhere.test"], "subject": "x", "text": "y"}`))
	require.ErrorAs(t, err, &f)
	require.Contains(t, f.What(), "nobody of that name is known here")
	values["password"] = "wrong-word"
	s, err = Open(contract.Env("mail", values))
	require.NoError(t, err)
	well, told = contract.Probe(t, s)
	require.False(t, well)
	require.Contains(t, told, "signed in: 535")
	require.NotContains(t, told, "wrong-word")
	values["authority"] = ""
	s, err = Open(contract.Env("mail", values))
	require.NoError(t, err)
	_, told = contract.Probe(t, s)
	require.Contains(t, told, "not of an authority that is trusted here")
}
