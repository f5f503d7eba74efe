package child

import (
	"os/exec"
	"runtime"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// TestAProcessOutlivesTheThreadsOfOthers: the end of one process, with its thread, leaves those alone that were started before and
// after it from the same goroutine.
func TestAProcessOutlivesTheThreadsOfOthers(t *testing.T) {
	sleep := func(seconds string) *Process {
		p, err := Start(exec.Command("sleep", seconds), syscall.SIGKILL)
		require.NoError(t, err)
		t.Cleanup(func() { p.Process.Kill(); p.Wait() })
		return p
	}
	lasting := []*Process{sleep("60")}
	for range 20 {
		short := sleep("0")
		require.NoError(t, short.Wait())
		lasting = append(lasting, sleep("60"))
		runtime.Gosched()
	}
	time.Sleep(50 * time.Millisecond) // for the signals of ended threads to arrive, were there any
	for _, p := range lasting {
		require.False(t, p.HasEnded())
	}
	require.NoError(t, lasting[0].Process.Signal(syscall.SIGTERM))
	require.EqualError(t, lasting[0].Wait(), "signal: terminated")
	require.True(t, lasting[0].HasEnded())
}

func TestAProgramThatIsNotThereIsAFault(t *testing.T) {
	_, err := Start(exec.Command("/no/such/program"), syscall.SIGKILL)
	require.ErrorContains(t, err, "no such file")
}
