package hostile

import (
	"bufio"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/child"
)

// lookAt is the variable that tells this program to look at the pages of an address. Who looks is a process of its own: the one that
// attacks is as busy as what it attacks, and would measure itself.
const lookAt = "HOSTILE_LOOK_AT"

// looked are pages that are asked for all the time.
var looked = []string{"/bench", "/traffic", "/bench/libraries/unreadable", "/estate"}

// lookOn asks for the pages until its input ends, and writes a line for each: its path, status and how many microseconds it took.
func lookOn(address string) {
	end := make(chan struct{})
	go func() {
		io.Copy(io.Discard, os.Stdin)
		close(end)
	}()
	client := &http.Client{Timeout: patient}
	var wg sync.WaitGroup
	for _, path := range looked {
		wg.Go(func() {
			for {
				began := time.Now()
				status := 0
				if resp, err := client.Get(address + path); err == nil {
					io.Copy(io.Discard, resp.Body)
					resp.Body.Close()
					status = resp.StatusCode
				}
				fmt.Println(path, status, time.Since(began).Microseconds())
				select {
				case <-end:
					return
				case <-time.After(100 * time.Millisecond):
				}
			}
		})
	}
	wg.Wait()
}

// look begins to ask for pages; slowest ends that, and says how long the slowest took. A page that is not answered well fails the
// test.
func (p *program) look() (slowest func() time.Duration) {
	self, err := os.Executable()
	require.NoError(p.t, err)
	cmd := exec.Command(self)
	cmd.Env = append(os.Environ(), lookAt+"="+p.pages)
	until, err := cmd.StdinPipe()
	require.NoError(p.t, err)
	lines, out, err := os.Pipe()
	require.NoError(p.t, err)
	cmd.Stdout = out
	looker, err := child.Start(cmd, syscall.SIGKILL)
	require.NoError(p.t, err)
	require.NoError(p.t, out.Close())
	var worst time.Duration
	done := make(chan struct{})
	go func() {
		defer close(done)
		for in := bufio.NewScanner(lines); in.Scan(); {
			var path string
			var status int
			var micros int64
			if _, err := fmt.Fscan(strings.NewReader(in.Text()), &path, &status, &micros); err != nil || status != http.StatusOK {
				p.t.Errorf("a page: %s", in.Text())
				continue
			}
			took := time.Duration(micros) * time.Microsecond
			worst = max(worst, took)
			if took > within()/2 {
				p.t.Logf("%s took %s", path, took)
			}
		}
	}()
	return func() time.Duration {
		until.Close()
		<-done
		require.NoError(p.t, looker.Wait())
		lines.Close()
		return worst
	}
}
