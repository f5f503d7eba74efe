package worker

import (
	"encoding/binary"
	"os"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"hollowreed/internal/core/script/internal/wire"
)

func twice(t *testing.T, s *Script, n int64) {
	t.Helper()
	r, ft := s.Call(wire.AppendInt(binary.AppendUvarint(nil, 1), wire.Int, n))
	require.Nil(t, ft)
	require.Equal(t, wire.Int, r.Tag())
	require.Equal(t, 2*n, r.Int())
}

// TestAProcessThatIsGoneIsReplaced: one that was ended while it waited costs no call.
func TestAProcessThatIsGoneIsReplaced(t *testing.T) {
	s := New("(function(x) {\nreturn x * 2\n})")
	twice(t, s, 4)
	mu.Lock()
	last := idle[len(idle)-1].cmd.Process.Pid
	mu.Unlock()
	require.NoError(t, syscall.Kill(last, syscall.SIGKILL))
	twice(t, s, 5)
}

// TestAProcessForgetsScripts: more than it keeps, by turns and again.
func TestAProcessForgetsScripts(t *testing.T) {
	var scripts []*Script
	for range 2*maxKnown + 3 {
		scripts = append(scripts, New("(function(x) {\nreturn x * 2\n})"))
	}
	for n := range int64(3) {
		for _, s := range scripts {
			twice(t, s, n)
		}
	}
}

// TestAProcessEndsWithItsProgram: even in the midst of a call that would never end.
func TestAProcessEndsWithItsProgram(t *testing.T) {
	p, err := start()
	require.NoError(t, err)
	_, err = p.in.Write(p.framed(New("(function() {\nfor (;;) {}\n})"), toCall, binary.AppendUvarint(nil, 0)))
	require.NoError(t, err)
	require.NoError(t, p.alive.Close())
	state, err := p.cmd.Process.Wait()
	require.NoError(t, err)
	require.Zero(t, state.ExitCode())
}

// TestAProcessHasNothing: no variable of its environment but the zone, no file beyond its pipes.
func TestAProcessHasNothing(t *testing.T) {
	p, err := start()
	require.NoError(t, err)
	defer p.end(nil)
	require.Equal(t, []string{"TZ=UTC"}, p.cmd.Env)
	text, err := os.ReadFile("/proc/" + strconv.Itoa(p.cmd.Process.Pid) + "/limits")
	require.NoError(t, err)
	limits := strings.Join(strings.Fields(string(text)), " ")
	for _, want := range []string{"Max data size 536870912 536870912", "Max file size 0 0", "Max open files 16 16", "Max core file size 0 0"} {
		require.Contains(t, limits, want)
	}
}

func BenchmarkMachine(b *testing.B) {
	for b.Loop() {
		if _, err := newMachine("(function(x) {\nreturn x * 2\n})"); err != nil {
			b.Fatal(err)
		}
	}
}

// TestACheckWaitsForNoCall: a text is checked while as many calls as there may be have no end.
func TestACheckWaitsForNoCall(t *testing.T) {
	for range cap(calls) {
		calls <- struct{}{}
		defer func() { <-calls }()
	}
	reads, _, ft := New("(function(x) {\nreturn x * 3\n})").Check()
	require.Nil(t, ft)
	require.Equal(t, [][]string{{"x"}}, reads)
	_, _, ft = New("(function(x) {\nreturn x *\n})").Check()
	require.NotNil(t, ft)
}
