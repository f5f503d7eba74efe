package group

import (
	"errors"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Lines reads the lines of a message, one after another.
type Lines interface {
	// Take takes the next line. The errors are those of notation.Reader.
	Take() error
	Place() fault.Place
	Raw() string
	// Is says whether the line at hand is of a type that has lines.
	Is(t *Type) bool
	// Read reads the line at hand into the fields of a type's record. The places of its faults are
	// whole but for the path of the record.
	Read(t *Type, into *value.Record) fault.List
}

type reader struct {
	lines Lines
	root  *Type
	limit int
	check bool

	held  bool // a line was taken that belongs to the next record
	open  []frame
	place fault.Place
	raw   []string
	size  int

	faults fault.List
	begins map[*value.Record]fault.Place // of the lines of records; nil where no key asks for it
}

// NewReader puts the records of a message together; limit is the most bytes of one.
func NewReader(l Lines, root *Type, o notation.Options) notation.Reader {
	r := &reader{lines: l, root: root, limit: o.Limit(), check: o.Check}
	if o.Check && root.Field.HasKeys() {
		r.begins = map[*value.Record]fault.Place{}
	}
	return r
}

func (r *reader) Many() bool         { return true }
func (r *reader) Place() fault.Place { return r.place }
func (r *reader) Raw() string        { return strings.Join(r.raw, "\n") }

// Next puts the lines of one record together. All faults of the record are reported together.
func (r *reader) Next() (value.Value, error) {
	r.open, r.faults, r.raw, r.size = r.open[:0], nil, r.raw[:0], 0
	clear(r.begins)
	for {
		if !r.held {
			err := r.lines.Take()
			if bad := fault.List(nil); errors.As(err, &bad) {
				r.keep()
				r.faults.Add(bad...)
				continue
			}
			if err == io.EOF && (len(r.open) > 0 || r.faults != nil) {
				return r.end()
			}
			if err != nil {
				return value.Value{}, err
			}
		}
		if r.held = !r.line(); r.held {
			return r.end()
		}
	}
}

// keep keeps the text of the line at hand with the record.
func (r *reader) keep() {
	raw := r.lines.Raw()
	if len(r.raw) == 0 {
		r.place = r.lines.Place()
	}
	over := r.over()
	if r.size += len(raw) + 1; !r.over() {
		r.raw = append(r.raw, raw)
	} else if !over {
		r.faults.Add(fault.New(fault.Limit, "the lines of one record take more than %d bytes", r.limit).At(r.lines.Place()).
			WithFix("If the lines inside are meant to be records of their own, pass over the line around them"))
	}
}

// line puts the line at hand into the record. It is false when the line begins the next one.
func (r *reader) line() bool {
	if len(r.open) == 0 {
		return r.begin()
	}
	if level, slot := r.fits(true); slot >= 0 {
		r.into(level, slot)
		return true
	}
	if r.root.Line && r.lines.Is(r.root) || !r.root.Line && r.opens(r.root.Inner[0]) {
		return false
	}
	r.keep()
	if level, slot := r.fits(false); slot >= 0 {
		r.again(level, slot)
		return true
	}
	r.fault(r.root.Field.Asking(fault.Expect(fault.Unknown, told(r.open), fault.Quote(r.lines.Raw()))))
	return true
}

// begin begins a record with the line at hand.
func (r *reader) begin() bool {
	r.open = append(r.open, newFrame(r.root, 0))
	if !r.root.Line {
		if _, slot := r.fits(true); slot >= 0 {
			r.into(0, slot)
			return true
		}
	}
	r.keep()
	if r.root.Line && r.lines.Is(r.root) {
		r.read()
		return true
	}
	r.fault(r.root.Field.Asking(fault.Expect(fault.Unknown, told(r.open), fault.Quote(r.lines.Raw()))))
	return true
}

// opens says whether the line at hand can begin a record of the type.
func (r *reader) opens(t *Type) bool {
	if t.Line {
		return r.lines.Is(t)
	}
	return len(t.Inner) > 0 && r.opens(t.Inner[0])
}

// fits finds the open record, and the type in it, that the line at hand begins; the innermost
// first. With room, only where one more may stand.
func (r *reader) fits(room bool) (level, slot int) {
	for level = len(r.open) - 1; level >= 0; level-- {
		f := &r.open[level]
		for i, t := range f.kind.Inner {
			if r.opens(t) && (!room || f.room(i, level+1 < len(r.open) && r.open[level+1].slot == i)) {
				return level, i
			}
		}
	}
	return 0, -1
}

// into ends the records inside of a level and begins one there with the line at hand.
func (r *reader) into(level, slot int) {
	r.closeTo(level)
	r.keep()
	for {
		t := r.open[len(r.open)-1].kind.Inner[slot]
		r.open = append(r.open, newFrame(t, slot))
		if t.Line {
			r.read()
			return
		}
		slot = 0
	}
}

// again reports a line that there is no room for.
func (r *reader) again(level, slot int) {
	f := &r.open[level]
	t := f.kind.Inner[slot]
	r.fault(t.Field.LocateFault(fault.Expect(fault.Length, t.Field.Name+" "+t.Field.Occurs()+" times", "one more line of it")))
}

// over says whether the record is larger than may be: the rest of it is passed over.
func (r *reader) over() bool { return r.size > r.limit }

func (r *reader) fault(ft *fault.Fault) {
	if r.over() {
		return
	}
	p := r.lines.Place()
	p.Column, p.Path = 1, path(r.open)
	r.faults.Add(ft.At(p))
}

// read reads the line at hand into the innermost record.
func (r *reader) read() {
	if r.over() {
		return
	}
	f := &r.open[len(r.open)-1]
	if r.begins != nil {
		r.begins[f.rec] = r.lines.Place()
	}
	for _, ft := range r.lines.Read(f.kind, f.rec) {
		if ft.Place.Path = path(r.open); ft.Field != "" {
			ft.Place.Path += "/" + schema.Escape(ft.Field)
		}
		r.faults.Add(ft)
	}
}

// closeTo ends the records inside of a level.
func (r *reader) closeTo(level int) {
	for len(r.open)-1 > level {
		r.closeLast()
	}
}

func (r *reader) closeLast() value.Value {
	n := len(r.open) - 1
	f := &r.open[n]
	v := f.close()
	if r.check && !r.over() {
		p := r.lines.Place()
		r.faults = f.missing(path(r.open), p, r.faults)
		r.keys(f.kind.Field, v)
	}
	if n > 0 && !r.over() {
		up := &r.open[n-1]
		up.lists[f.slot] = append(up.lists[f.slot], v)
	}
	r.open = r.open[:n]
	return v
}

// keys checks the keys of a record that is complete.
func (r *reader) keys(f *schema.Field, v value.Value) {
	f.CheckKeys(v, func(ft *fault.Fault, in *value.Record) {
		inside := ft.Place.Path
		if ft.Place = r.lines.Place(); in != nil && r.begins[in].Line > 0 {
			ft.Place = r.begins[in]
		}
		ft.Place.Path = path(r.open) + inside
		r.faults.Add(ft)
	})
}

// end gives the record, or its faults.
func (r *reader) end() (value.Value, error) {
	v := value.Value{}
	for len(r.open) > 0 {
		v = r.closeLast()
	}
	if r.faults != nil {
		return value.Value{}, r.faults
	}
	return v, nil
}
