// Package worker runs scripts in processes of their own, since nothing inside a process bounds the
// memory of an ECMAScript engine or ends it for certain. A process is this very program, started anew
// under another name; it holds itself to limits of the operating system, is ended when a call takes too
// long, and goes when the program that started it does. Which script did it is known, since a process
// has one call at a time.
package worker

import (
	"bufio"
	"encoding/binary"
	"errors"
	"io"
	"os"
	"os/exec"
	"runtime"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/script/internal/wire"
)

// Bounds on one call.
const (
	MaxTime   = time.Second
	MaxMemory = 256 << 20 // bytes that a process may hold
	MaxStack  = 500       // calls inside each other
	MaxDepth  = 64        // records and lists inside each other
	MaxFrame  = 64 << 20  // bytes of all arguments, and of what is given
)

const (
	name     = "hollowreed-script" // of a process, as the system lists it
	maxKnown = 64                  // scripts that a process keeps
	maxStart = 10 * time.Second
	maxSaid  = 4096 // bytes kept of what a dying process says
)

// Script is the text of a function, and a number of its own under which processes know it.
type Script struct {
	id   uint64
	text string
}

var lastID atomic.Uint64

// New names a text.
func New(text string) *Script { return &Script{id: lastID.Add(1), text: text} }

// What a process is asked for.
const (
	toCheck byte = iota
	toCall
	toForgetAndCall // all scripts that it knows
)

// What a process answers.
const (
	aValue byte = iota
	aFault
)

// Check compiles the script, and says what it reads of its arguments and which names what it gives has, as paths.
func (s *Script) Check() (reads, makes [][]string, ft *fault.Fault) {
	r, ft := ask(s, toCheck, nil)
	if ft != nil || r.Tag() != wire.List || r.Count() != 2 {
		return nil, nil, ft
	}
	return paths(&r), paths(&r), nil
}

func paths(r *wire.Reader) (list [][]string) {
	if r.Tag() != wire.List {
		return nil
	}
	for range min(r.Count(), mostPaths) {
		if r.Tag() != wire.Text {
			return list
		}
		list = append(list, strings.Split(r.Text(), "\x00"))
	}
	return list
}

// Call calls the script with arguments as package wire has them, and returns what it gives.
func (s *Script) Call(args []byte) (wire.Reader, *fault.Fault) { return ask(s, toCall, args) }

// places bounds the processes that have calls, and those that check a text: whoever looks at a project waits for no call. Processes
// that have nothing to do are in idle, the last used on top.
var (
	calls  = make(chan struct{}, max(4, runtime.GOMAXPROCS(0)))
	checks = make(chan struct{}, 1)
	places = map[byte]chan struct{}{toCheck: checks, toCall: calls}
	mu     sync.Mutex
	idle   []*process
)

func ask(s *Script, what byte, args []byte) (wire.Reader, *fault.Fault) {
	if len(args) > MaxFrame {
		return wire.Reader{}, fault.New(fault.Limit, "a script is given at most %d MiB", MaxFrame>>20)
	}
	place := places[what]
	place <- struct{}{}
	defer func() { <-place }()
	for {
		p, used, err := free()
		if err != nil {
			return wire.Reader{}, fault.New(fault.Outside, "the process that runs scripts cannot be started: %s", err)
		}
		answer, err := p.ask(s, what, args)
		if err == nil {
			mu.Lock()
			idle = append(idle, p)
			mu.Unlock()
			return parted(answer)
		}
		ft := p.end(err)
		if !used || errors.Is(err, os.ErrDeadlineExceeded) {
			return wire.Reader{}, ft
		} // what went before may be the cause: a process that had done nothing yet says
	}
}

// parted takes an answer apart.
func parted(answer []byte) (wire.Reader, *fault.Fault) {
	r := wire.Reader{Rest: answer}
	if byte(r.Tag()) == aValue {
		return r, nil
	}
	code, message := r.Text(), r.Text()
	ft := fault.New(fault.Code(code), "%s", message)
	ft.Place.Line, ft.Place.Column = int(r.Int()), int(r.Int())
	return r, ft
}

// free takes a process that has nothing to do, or starts one; used says which.
func free() (p *process, used bool, err error) {
	mu.Lock()
	if n := len(idle); n > 0 {
		p, idle = idle[n-1], idle[:n-1]
	}
	mu.Unlock()
	if p != nil {
		return p, true, nil
	}
	p, err = start()
	return p, false, err
}

// process is one of them, seen from outside.
type process struct {
	cmd   *exec.Cmd
	in    *os.File
	out   *os.File
	read  *bufio.Reader
	alive *os.File // held open as long as this program lives
	said  *beginning
	known map[uint64]bool
	frame []byte
}

// self is the file of this program, even when another has taken its place meanwhile.
func self() (string, error) {
	if _, err := os.Stat("/proc/self/exe"); err == nil {
		return "/proc/self/exe", nil
	}
	return os.Executable()
}

func start() (*process, error) {
	path, err := self()
	if err != nil {
		return nil, err
	}
	p := &process{said: &beginning{}, known: map[uint64]bool{}}
	p.cmd = &exec.Cmd{Path: path, Args: []string{name}, Env: []string{"TZ=UTC"}, Dir: "/", Stderr: p.said}
	var theirs [3]*os.File
	defer func() {
		for _, f := range theirs {
			if f != nil {
				f.Close()
			}
		}
	}()
	if theirs[0], p.in, err = os.Pipe(); err == nil {
		if p.out, theirs[1], err = os.Pipe(); err == nil {
			theirs[2], p.alive, err = os.Pipe()
		}
	}
	p.cmd.Stdin, p.cmd.Stdout, p.cmd.ExtraFiles = theirs[0], theirs[1], theirs[2:]
	if err == nil {
		err = p.cmd.Start()
	}
	if err != nil {
		p.close()
		return nil, err
	}
	p.read = bufio.NewReaderSize(p.out, 64<<10)
	if err := p.ready(); err != nil {
		return nil, p.end(err)
	}
	return p, nil
}

// ready waits until the process says that its limits hold.
func (p *process) ready() error {
	if err := p.out.SetReadDeadline(time.Now().Add(maxStart)); err != nil {
		return err
	}
	_, err := p.read.ReadByte()
	return err
}

func (p *process) close() {
	for _, f := range []*os.File{p.in, p.out, p.alive} {
		if f != nil {
			f.Close()
		}
	}
}

// ask sends one question and reads its answer.
func (p *process) ask(s *Script, what byte, args []byte) ([]byte, error) {
	until := time.Now().Add(MaxTime)
	if err := errors.Join(p.in.SetWriteDeadline(until), p.out.SetReadDeadline(until)); err != nil {
		return nil, err
	}
	if _, err := p.in.Write(p.framed(s, what, args)); err != nil {
		return nil, err
	}
	return readFrame(p.read, nil)
}

// framed is a question: its length, what is asked, the script by its number and, when the process does
// not know it, its text, and the arguments.
func (p *process) framed(s *Script, what byte, args []byte) []byte {
	text := s.text
	if what == toCall {
		switch {
		case p.known[s.id]:
			text = ""
		case len(p.known) == maxKnown:
			what = toForgetAndCall
			clear(p.known)
		}
		p.known[s.id] = true
	}
	b := append(p.frame[:0], 0, 0, 0, 0, what)
	b = wire.AppendName(binary.AppendUvarint(b, s.id), text)
	b = append(b, args...)
	binary.LittleEndian.PutUint32(b, uint32(len(b)-4))
	p.frame = b
	if cap(b) > 1<<20 {
		p.frame = nil
	}
	return b
}

// readFrame reads a length and as many bytes, into b where they fit.
func readFrame(in io.Reader, b []byte) ([]byte, error) {
	var size [4]byte
	if _, err := io.ReadFull(in, size[:]); err != nil {
		return nil, err
	}
	n := binary.LittleEndian.Uint32(size[:])
	if n > MaxFrame+1<<20 {
		return nil, errors.New("more bytes than can be")
	}
	if uint32(cap(b)) < n {
		b = make([]byte, n)
	}
	b = b[:n]
	_, err := io.ReadFull(in, b)
	return b, err
}

// end ends the process after err, and says why it failed.
func (p *process) end(err error) *fault.Fault {
	p.cmd.Process.Kill()
	p.cmd.Wait()
	p.close()
	said := p.said.String()
	switch {
	case errors.Is(err, os.ErrDeadlineExceeded):
		return late()
	case strings.Contains(said, "stack exceeds"):
		return fault.New(fault.Limit, "the script, or the data in it, is nested too deep")
	case slices.ContainsFunc(outOfMemory, func(sign string) bool { return strings.Contains(said, sign) }):
		return fault.New(fault.Limit, "the script takes more than %d MiB of memory", MaxMemory>>20)
	}
	line, _, _ := strings.Cut(said, "\n")
	return fault.New(fault.Limit, "the process of the script ended: %s %s", p.cmd.ProcessState, line)
}

// outOfMemory are the words with which a process ends that gets no more memory. The last one: what runs there is Go without any
// unsafe part, which meets no such signal but where the system cannot let a stack grow.
var outOfMemory = []string{"out of memory", "cannot allocate memory", "pthread_create failed", "failed to allocate", "segmentation violation"}

func late() *fault.Fault { return fault.New(fault.Limit, "the script takes more than %s", MaxTime) }

// beginning keeps the beginning of what a process says when it dies, which has the reason.
type beginning struct {
	mu sync.Mutex
	b  []byte
}

func (t *beginning) Write(b []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.b = append(t.b, b[:min(len(b), maxSaid-len(t.b))]...)
	return len(b), nil
}

func (t *beginning) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return string(t.b)
}
