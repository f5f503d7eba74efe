package worker

import (
	"bufio"
	"encoding/binary"
	"io"
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"

	"github.com/dop251/goja"

	"hollowreed/internal/core/script/internal/wire"
)

// A program that is started under the name of such a process does this and nothing else, whichever
// program it is: the product, a test, a benchmark.
func init() {
	if len(os.Args) == 1 && os.Args[0] == name {
		os.Exit(serve())
	}
}

// serve is the life of a process. It ends when nothing is asked any more, and at once, even in the
// midst of a call, when the program that started it is gone.
func serve() int {
	if err := limit(); err != nil {
		os.Stderr.WriteString("the limits of the operating system cannot be set: " + err.Error())
		return 1
	}
	runtime.GOMAXPROCS(2) // one for the script, one to see that the program is gone
	debug.SetMemoryLimit(MaxMemory)
	debug.SetMaxStack(MaxMemory / 4)
	go func() {
		io.Copy(io.Discard, os.NewFile(3, "alive"))
		os.Exit(0)
	}()
	if _, err := os.Stdout.Write([]byte{0}); err != nil {
		return 1
	}
	in, known := bufio.NewReaderSize(os.Stdin, 64<<10), machines{}
	var question, answer []byte
	for {
		var err error
		if question, err = readFrame(in, question); err != nil {
			return 0
		}
		answer = known.answer(append(answer[:0], 0, 0, 0, 0), question)
		binary.LittleEndian.PutUint32(answer, uint32(len(answer)-4))
		if _, err := os.Stdout.Write(answer); err != nil {
			return 0
		}
		if cap(question)+cap(answer) > 1<<20 {
			question, answer = nil, nil
		}
		if held() > mostHeld {
			return 0 // the next one shall have all of its memory
		}
	}
}

// mostHeld bounds the memory that a process may have taken, for it to be asked again.
const mostHeld = MaxMemory / 2

// held is the memory that the process has taken from the system, in use or not.
func held() uint64 {
	sample := []metrics.Sample{{Name: "/memory/classes/total:bytes"}}
	metrics.Read(sample)
	return sample[0].Value.Uint64()
}

// machines are the engines of a process, by the number of their script.
type machines map[uint64]*machine

// answer adds the answer to a question to b.
func (ms machines) answer(b, question []byte) []byte {
	at := len(b)
	r := &wire.Reader{Rest: question}
	what := byte(r.Tag())
	id, size := binary.Uvarint(r.Rest)
	r.Rest = r.Rest[max(size, 0):]
	text := r.Text()
	if what == toCheck {
		program, err := parsed(text)
		if err == nil {
			_, err = goja.CompileAST(program, true)
		}
		if err != nil {
			return answered(b, err)
		}
		return usesOf(program).write(append(b, aValue))
	}
	if what == toForgetAndCall {
		clear(ms)
	}
	m := ms[id]
	if m == nil {
		var err error
		if m, err = newMachine(text); err != nil {
			return answered(b, err)
		}
		ms[id] = m
	}
	b, err := m.run(append(b, aValue), r)
	if err != nil {
		return answered(b[:at], err)
	}
	return b
}

// answered adds that there was no fault, or which one.
func answered(b []byte, err error) []byte {
	if err == nil {
		return wire.Append(append(b, aValue), wire.Undefined)
	}
	f := asFault(err)
	b = wire.AppendName(wire.AppendName(append(b, aFault), string(f.Code)), f.Message)
	return binary.AppendVarint(binary.AppendVarint(b, int64(f.Place.Line)), int64(f.Place.Column))
}
