// Package child starts processes that end when this one does, however it ends (prctl(2), PR_SET_PDEATHSIG).
package child

import (
	"os/exec"
	"runtime"
	"syscall"
)

// Process is a process that was started. Its command's Wait is called already: who waits for the end reads Ended.
type Process struct {
	*exec.Cmd
	ended chan struct{}
	err   error
}

// Start starts a command that gets the signal when this process ends. The signal is sent when the *thread* that started the
// command ends, so each command has a thread of its own that stays until the command has ended; a thread that others were
// started on, too, would take those along.
func Start(cmd *exec.Cmd, death syscall.Signal) (*Process, error) {
	if cmd.SysProcAttr == nil {
		cmd.SysProcAttr = &syscall.SysProcAttr{}
	}
	cmd.SysProcAttr.Pdeathsig = death
	p := &Process{Cmd: cmd, ended: make(chan struct{})}
	started := make(chan error)
	go func() {
		runtime.LockOSThread() // and never unlocked: the thread ends with this function
		err := cmd.Start()
		started <- err
		if err == nil {
			p.err = cmd.Wait()
			close(p.ended)
		}
	}()
	if err := <-started; err != nil {
		return nil, err
	}
	return p, nil
}

// Ended is closed when the process has ended.
func (p *Process) Ended() <-chan struct{} { return p.ended }

// Wait waits for the end, and gives what the command's Wait gave.
func (p *Process) Wait() error {
	<-p.ended
	return p.err
}

// HasEnded says whether the process has ended by now.
func (p *Process) HasEnded() bool {
	select {
	case <-p.ended:
		return true
	default:
		return false
	}
}
