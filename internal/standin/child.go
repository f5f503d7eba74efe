package standin

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"hollowreed/internal/child"
)

// Asked is what the demo asks of the program that starts the stand-ins. It holds passwords: it goes over the standard input,
// since all users of a machine see what commands are given.
type Asked struct {
	Ledger string // the address of the ledger's database
	Admin  string // that of somebody who may stop it
	Data   string // the folder for what they keep
}

// Ready is the last line that the program says when all are started.
const Ready = "ready"

// Program is the name of the program that starts the stand-ins; it lies beside this one.
const Program = "standins"

// startTime bounds how long the stand-ins may take to start.
const startTime = time.Minute

// StartProgram starts the program with all stand-ins of the demo. They end when the context does, or this process.
func StartProgram(ctx context.Context, asked Asked) ([]*Running, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, err
	}
	path := filepath.Join(filepath.Dir(self), Program)
	if _, err := os.Stat(path); err != nil {
		return nil, fmt.Errorf("the simulated systems of the demo are a program of their own, which is not there: %s; make demo builds it", path)
	}
	config, err := json.Marshal(asked)
	if err != nil {
		return nil, err
	}
	cmd := exec.Command(path, "--demo")
	cmd.Stdin, cmd.Stderr = strings.NewReader(string(config)), os.Stderr
	out, err := cmd.StdoutPipe()
	if err != nil {
		return nil, err
	}
	p, err := child.Start(cmd, syscall.SIGTERM)
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() { _ = p.Process.Signal(syscall.SIGTERM) }) // it has ended perhaps
	late := time.AfterFunc(startTime, func() { _ = p.Process.Kill() })
	defer late.Stop()
	var running []*Running
	lines := bufio.NewScanner(out)
	lines.Buffer(nil, 1<<20)
	for lines.Scan() {
		if lines.Text() == Ready {
			return running, nil
		}
		r := &Running{}
		if err := json.Unmarshal(lines.Bytes(), r); err != nil {
			return nil, err
		}
		running = append(running, r)
	}
	return nil, errors.New("the stand-ins did not start")
}
