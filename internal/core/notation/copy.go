package notation

import (
	"errors"
	"io"
	"runtime"
	"slices"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

const copyBatch = 256

// Change changes records, a batch at a time.
type Change interface {
	// Begin is called before each batch. The memory is that of its records: it is used again once they are written.
	Begin(memory *value.Memory)
	// Change makes the record that is written of one that was read; line is where it was read.
	Change(v value.Value, line int) (value.Value, error)
}

// batch is a number of records on their way; done tells that they are changed.
type batch struct {
	memory  *value.Memory
	pieces  []piece // that are decoded to values yet
	values  []value.Value
	lines   []int
	refused []refusal // records among the values that are at fault, in any order
	err     error     // behind the values
	done    chan struct{}
}

// refusal is a record at fault: before which of the values it stands, or that value itself.
type refusal struct {
	at  int
	err error
}

// Copy reads all records, passes each through a change and writes the results in their order.
// Reading, changing and writing go on at the same time; changes is called once for each goroutine
// that changes, and may be nil. A record that cannot be read, changed or written is told to refused, in its
// place among the others, and left out; what ends the reading ends the copy, with all records before it written.
// A record that is changed to nothing is left out, too. open makes the writer once it is known whether the message
// is a list; the writer is closed when there was no error, and not for a document of one record that was refused.
func Copy(r Reader, open func(many bool) (Writer, error), changes func() Change, refused func(err error)) (n int, err error) {
	ahead := 2 * runtime.GOMAXPROCS(0)
	c := copier{ordered: make(chan *batch, ahead), work: make(chan *batch), stop: make(chan struct{}), spare: make(chan *batch, ahead+2)}
	cut, apart := r.(Splitter)
	if apart {
		c.wg.Go(func() { c.split(cut) })
	} else {
		c.wg.Go(func() { c.produce(r) })
	}
	for range runtime.GOMAXPROCS(0) {
		var d Decoder
		if apart {
			d = cut.Decoder()
			defer func() { cut.Decoded(d) }() // once all goroutines have ended
		}
		c.wg.Go(func() { c.change(d, changes) })
	}
	defer c.wg.Wait()
	defer close(c.stop)
	out := output{open: func() (Writer, error) { return open(r.Many()) }, refused: refused}
	for b := range c.ordered {
		<-b.done
		if err := out.write(b, changes != nil); err != nil {
			return out.n, err
		}
		if b.err != nil && b.err != io.EOF {
			return out.n, errors.Join(first(b.err), flush(out.w))
		}
		c.again(b)
	}
	if out.n == 0 && out.bad > 0 && !r.Many() {
		return 0, nil
	}
	if out.w == nil {
		if out.w, err = out.open(); err != nil {
			return 0, err
		}
	}
	return out.n, out.w.Close()
}

// output is where a copy writes.
type output struct {
	open    func() (Writer, error)
	refused func(err error)
	w       Writer
	n, bad  int // records that were written, and refused
}

func (o *output) refuse(err error) {
	o.bad++
	o.refused(err)
}

// write writes the records of a batch, and tells of those at fault in between.
func (o *output) write(b *batch, changed bool) (err error) {
	slices.SortStableFunc(b.refused, func(x, y refusal) int { return x.at - y.at })
	rest := b.refused
	for i, v := range b.values {
		for ; len(rest) > 0 && rest[0].at <= i; rest = rest[1:] {
			o.refuse(rest[0].err)
		}
		if changed && v.Kind() == value.Absent {
			continue
		}
		if o.w == nil {
			if o.w, err = o.open(); err != nil {
				return err
			}
		}
		err := placed(o.w.Write(v), b.lines[i])
		var f *fault.Fault
		switch {
		case err == nil:
			o.n++
		case errors.As(err, &f) && f.Code != fault.Setting:
			o.refuse(err)
		default:
			return err
		}
	}
	for _, r := range rest {
		o.refuse(r.err)
	}
	return nil
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
	spare   chan *batch // that are written
	wg      sync.WaitGroup
}

// again lets a batch that is written be used for other records.
func (c *copier) again(b *batch) {
	b.memory.Reset()
	clear(b.values)
	clear(b.pieces)
	*b = batch{memory: b.memory, pieces: b.pieces[:0], values: b.values[:0], lines: b.lines[:0]}
	select {
	case c.spare <- b:
	default:
	}
}

// batch gives an empty one.
func (c *copier) batch() (b *batch) {
	select {
	case b = <-c.spare:
	default:
		b = &batch{memory: &value.Memory{}, values: make([]value.Value, 0, copyBatch), lines: make([]int, 0, copyBatch)}
	}
	b.done = make(chan struct{})
	return b
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

// change decodes and changes batches until there are no more.
func (c *copier) change(d Decoder, changes func() Change) {
	var change Change
	if changes != nil {
		change = changes()
	}
	for b := range c.work {
		if d != nil {
			b.decode(d)
		}
		if change != nil {
			change.Begin(b.memory)
		}
		for i := 0; change != nil && i < len(b.values); i++ {
			v, err := change.Change(b.values[i], b.lines[i])
			if err != nil {
				b.refused = append(b.refused, refusal{i, err})
				v = value.Value{}
			}
			b.values[i] = v
		}
		close(b.done)
	}
}

// piece is the text of a record, or why there is none.
type piece struct {
	Piece
	err error
}

// decode makes records of the pieces.
func (b *batch) decode(d Decoder) {
	d.Borrow(b.memory)
	for _, p := range b.pieces {
		v, err := value.Value{}, p.err
		if err == nil {
			v, err = d.Decode(p.Piece)
		}
		if err != nil {
			b.refused = append(b.refused, refusal{len(b.values), err})
			continue
		}
		b.values, b.lines = append(b.values, v), append(b.lines, p.Line)
	}
}

// split is produce for a reader whose records are decoded beside it.
func (c *copier) split(r Splitter) {
	defer close(c.ordered)
	defer close(c.work)
	for {
		b := c.batch()
		for len(b.pieces) < copyBatch && b.err == nil {
			p, err := r.Piece()
			if faults := fault.List(nil); err != nil && !errors.As(err, &faults) {
				b.err = err
				break
			}
			b.pieces = append(b.pieces, piece{p, err})
		}
		ended := b.err != nil
		if !c.send(c.ordered, b) || !c.send(c.work, b) || ended {
			return
		}
	}
}

func (c *copier) produce(r Reader) {
	defer close(c.ordered)
	defer close(c.work)
	borrower, borrows := r.(value.Borrower)
	for {
		b := c.batch()
		if borrows {
			borrower.Borrow(b.memory)
		}
		for len(b.values)+len(b.refused) < copyBatch && b.err == nil {
			v, err := r.Next()
			var faults fault.List // of one record: those behind it can be read
			if errors.As(err, &faults) {
				b.refused = append(b.refused, refusal{len(b.values), err})
				continue
			}
			if err != nil {
				b.err = err
				break
			}
			b.values = append(b.values, v)
			b.lines = append(b.lines, r.Place().Line)
		}
		ended := b.err != nil // once it is sent, the batch may be used for other records
		if !c.send(c.ordered, b) || !c.send(c.work, b) || ended {
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
