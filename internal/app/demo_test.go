package app

import (
	"bufio"
	"context"
	"io"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/child"
)

var addressLine = regexp.MustCompile(`http://127\.0\.0\.1:\d+/`)

// startDemo starts the real program and waits for its address.
func startDemo(t *testing.T, binary, dir string) (demo *child.Process, address, pages string, took time.Duration) {
	t.Helper()
	began := time.Now()
	cmd := exec.Command(binary, "demo", "--listen", "127.0.0.1:0", "--calls", "127.0.0.1:0", "--rest", "100ms")
	cmd.Dir = dir // as make demo does: the data folder is var below the present one
	cmd.Env = append(os.Environ(), "DATABASE_URL=")
	out, err := cmd.StderrPipe()
	require.NoError(t, err)
	demo, err = child.Start(cmd, syscall.SIGTERM)
	require.NoError(t, err)
	t.Cleanup(func() { demo.Process.Kill() })
	lines := bufio.NewScanner(out)
	var said []string
	for lines.Scan() {
		said = append(said, lines.Text())
		if strings.Contains(lines.Text(), "ready. Open") {
			address = addressLine.FindString(lines.Text())
			took = time.Since(began)
		}
		if strings.Contains(lines.Text(), "stand-in gauge-drop") {
			pages = addressLine.FindString(lines.Text())
			break
		}
	}
	require.NotEmpty(t, address, "the demo did not become ready: %s", strings.Join(said, "\n"))
	go io.Copy(io.Discard, out)
	return demo, address, pages, took
}

func stop(t *testing.T, demo *child.Process) {
	t.Helper()
	require.NoError(t, demo.Process.Signal(os.Interrupt))
	ctx, cancel := context.WithTimeout(t.Context(), 25*time.Second)
	defer cancel()
	select {
	case <-demo.Ended():
		require.NoError(t, demo.Wait())
	case <-ctx.Done():
		t.Fatal("Ctrl-C did not stop the demo")
	}
}

func fetch(t *testing.T, url string) string {
	t.Helper()
	res, err := http.Get(url)
	require.NoError(t, err)
	defer res.Body.Close()
	body, err := io.ReadAll(res.Body)
	require.NoError(t, err)
	return string(body)
}

func shows(t *testing.T, url, text string) {
	t.Helper()
	deadline := time.Now().Add(20 * time.Second)
	for !strings.Contains(fetch(t, url), text) {
		require.True(t, time.Now().Before(deadline), "%s does not show %q", url, text)
		time.Sleep(50 * time.Millisecond)
	}
}

// TestTheDemo starts the demo as a new user would, stops it, starts it again and begins anew.
func TestTheDemo(t *testing.T) {
	dir, err := os.MkdirTemp("/tmp", "hollowreed-demo-test-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	require.NoError(t, os.Chmod(dir, 0o755)) // the user postgres must reach its folder
	binary, data := filepath.Join(dir, "hollowreed"), filepath.Join(dir, "var")
	out, err := exec.Command("go", "build", "-o", dir, "../../cmd/hollowreed", "../../cmd/standins").CombinedOutput()
	require.NoError(t, err, string(out))

	cmd, address, gauges, took := startDemo(t, binary, dir)
	t.Logf("ready after %s", took.Round(time.Millisecond))
	shows(t, address+"traffic", "sk_0309.tide")
	shows(t, address+"traffic", "done")
	shows(t, gauges, "Picked up")
	res, err := http.Post(gauges+"do/spoilt", "", nil)
	require.NoError(t, err)
	res.Body.Close()
	shows(t, address+"traffic", "set aside")
	require.NotContains(t, fetch(t, address+"estate"), "postgres://")

	second := exec.Command(binary, "demo")
	second.Dir = dir
	out, err = second.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(out), "is in use; stop what runs there first")

	pid, err := os.ReadFile(filepath.Join(data, "postgres", "data", "postmaster.pid"))
	require.NoError(t, err)
	stop(t, cmd)
	require.NoDirExists(t, "/proc/"+strings.Fields(string(pid))[0], "the database was left running")

	cmd, address, _, _ = startDemo(t, binary, dir)
	shows(t, address+"traffic", "sk_0309.tide")
	stop(t, cmd)

	require.NoError(t, exec.Command(binary, "demo", "--data", data, "--reset").Run())
	require.NoDirExists(t, filepath.Join(data, "postgres"))
	require.NoDirExists(t, filepath.Join(data, "gauge-drop"))
}

func TestOnlyLoopbackIsServed(t *testing.T) {
	for _, address := range []string{"0.0.0.0:0", ":0", "192.0.2.1:0", "[::]:0"} {
		_, err := listen("--listen", address)
		require.ErrorContains(t, err, "not a loopback address", address)
	}
	for _, address := range []string{"127.0.0.1:0", "localhost:0"} {
		l, err := listen("--listen", address)
		require.NoError(t, err, address)
		l.Close()
	}
	_, err := listen("--calls", "nonsense")
	require.Error(t, err)
}
