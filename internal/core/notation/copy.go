package notation

import (
	"errors"
	"io"
	"runtime"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

const copyBatch = 256

// Change makes the record that is written of one that was read; line is where it was read.
type Change func(v value.Value, line int) (value.Value, error)

// batch is a number of records on their way; done tells that they are changed.
type batch struct {
	values []value.Value
	lines  []int
	err    error // behind the values
	done   chan struct{}
}

// Copy reads all records, passes each through a change and writes the results in their order.
// Reading, changing and writing go on at the same time; changes is called once for each goroutine
// that changes, and may be nil. Copy stops at the first record that is at fault, with all records
// before it written. A record that is changed to nothing is left out. open makes the writer once it is known whether the message is a list; the
// writer is closed when there was no error.
func Copy(r Reader, open func(many bool) (Writer, error), changes func() Change) (n int, err error) {
	c := copier{ordered: make(chan *batch, 2*runtime.GOMAXPROCS(0)), work: make(chan *batch), stop: make(chan struct{})}
	c.wg.Go(func() { c.produce(r) })
	for range runtime.GOMAXPROCS(0) {
		c.wg.Go(func() { c.change(changes) })
	}
	defer c.wg.Wait()
	defer close(c.stop)
	var w Writer
	for b := range c.ordered {
		<-b.done
		if w == nil {
			if b.err != nil && len(b.values) == 0 && !errors.Is(b.err, io.EOF) {
				return 0, first(b.err)
			}
			if w, err = open(r.Many()); err != nil {
				return 0, err
			}
		}
		for i, v := range b.values {
			if changes != nil && v.Kind() == value.Absent {
				continue
			}
			if err := w.Write(v); err != nil {
				return n, placed(err, b.lines[i])
			}
			n++
		}
		if b.err != nil && b.err != io.EOF {
			return n, errors.Join(first(b.err), flush(w))
		}
	}
	return n, w.Close()
}

// flush writes what a writer holds back when the message ends with a fault. The document is not
// ended: nobody shall take it for whole.
func flush(w Writer) error {
	if f, ok := w.(interface{ Flush() error }); ok {
		return f.Flush()
	}
	return nil
}

type copier struct {
	ordered chan *batch // in the order of reading
	work    chan *batch // the same, for whoever is free
	stop    chan struct{}
	wg      sync.WaitGroup
}

// first is the first of several faults: one record's worth.
func first(err error) error {
	var faults fault.List
	if errors.As(err, &faults) && len(faults) > 0 {
		return faults[0]
	}
	return err
}

// placed gives a writer's fault the line of the record that it came from.
func placed(err error, line int) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		f.Place.Line, f.Place.Column = line, 0
	}
	return err
}

// change changes batches until there are no more. A record at fault cuts its batch short.
func (c *copier) change(changes func() Change) {
	var change Change
	if changes != nil {
		change = changes()
	}
	for b := range c.work {
		for i := 0; change != nil && i < len(b.values); i++ {
			v, err := change(b.values[i], b.lines[i])
			if err != nil {
				b.values, b.err = b.values[:i], err
				break
			}
			b.values[i] = v
		}
		close(b.done)
	}
}

func (c *copier) produce(r Reader) {
	defer close(c.ordered)
	defer close(c.work)
	for {
		b := &batch{values: make([]value.Value, 0, copyBatch), lines: make([]int, 0, copyBatch), done: make(chan struct{})}
		for len(b.values) < copyBatch && b.err == nil {
			v, err := r.Next()
			if err != nil {
				b.err = err
				break
			}
			b.values = append(b.values, v)
			b.lines = append(b.lines, r.Place().Line)
		}
		if !c.send(c.ordered, b) || !c.send(c.work, b) || b.err != nil {
			return
		}
	}
}

func (c *copier) send(to chan<- *batch, b *batch) bool {
	select {
	case to <- b:
		return true
	case <-c.stop:
		return false
	}
}
