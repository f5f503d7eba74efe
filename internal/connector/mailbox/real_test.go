package mailbox

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
	"hollowreed/internal/standin"
	"hollowreed/internal/standin/postroom"
	"hollowreed/internal/standin/trust"
)

const dovecotConfig = `
base_dir = %[1]s/run
state_dir = %[1]s/state
log_path = %[1]s/log
protocols = imap
listen = 127.0.0.1
ssl = yes
ssl_cert = <%[1]s/cert.pem
ssl_key = <%[1]s/key.pem
disable_plaintext_auth = yes
mail_location = maildir:%[1]s/mail/%%u
first_valid_uid = 1
auth_failure_delay = 0
passdb {
  driver = static
  args = password=` + postroom.Word + `
}
userdb {
  driver = static
  args = uid=65534 gid=65534 home=%[1]s/mail/%%u
}
service imap-login {
  inet_listener imap {
    port = %[2]d
  }
  inet_listener imaps {
    port = %[3]d
  }
}
`

// TestARealServer: the IMAP server of Debian keeps the same contract as the stand-in, over STARTTLS and over TLS from the start.
func TestARealServer(t *testing.T) {
	binary := "/usr/sbin/dovecot"
	if _, err := os.Stat(binary); err != nil || os.Geteuid() != 0 {
		t.Skip("Dovecot is not installed (make test installs it), or may not be started by this user")
	}
	dir, err := os.MkdirTemp("/var/tmp", "hollowreed-dovecot-") // not below the user's own folders: it gives up its rights
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Mkdir(filepath.Join(dir, "mail"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(dir, "mail"), 0o777))
	a, err := trust.New()
	require.NoError(t, err)
	certificate, key, err := a.ServerPEM("postroom")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "cert.pem"), certificate, 0o644))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "key.pem"), key, 0o600))
	plain, tls := free(t), free(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "conf"), fmt.Appendf(nil, dovecotConfig, dir, plain, tls), 0o644))
	cmd := exec.Command(binary, "-F", "-c", filepath.Join(dir, "conf"))
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		syscall.Kill(-cmd.Process.Pid, syscall.SIGTERM)
		cmd.Wait()
	})
	require.NoError(t, standin.Reachable(t.Context(), fmt.Sprintf("127.0.0.1:%d", plain)))

	values := postroom.DeskSettings(plain, a.PEM)
	keeps(t, account{t, values})
	values["user"], values["encryption"], values["port"] = "night-desk", "tls from the start", fmt.Sprint(tls)
	keeps(t, account{t, values})

	values["password"] = "wrong-word"
	well, told := contract.Probe(t, account{t, values}.box(nil))
	require.False(t, well)
	require.Contains(t, told, "signed in: the mail server does not take the sign-in")
	require.NotContains(t, told, "wrong-word")
	values["encryption"], values["port"] = "none", fmt.Sprint(plain)
	_, told = contract.Probe(t, account{t, values}.box(nil))
	require.Contains(t, told, "does not take the sign-in", "no password goes over the wire as it is")
}

func free(t *testing.T) int {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port
}
