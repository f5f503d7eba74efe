// Package xml reads and writes XML 1.0 documents. Of a document type declaration the internal subset is read, unless a schema
// refuses it, and nothing is ever fetched. Without a schema attributes become fields named @name, text beside
// children becomes #text, repeated elements become lists and prefixes stay as they are written.
package xml

import (
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

type reader struct {
	in      *xmltext.Reader
	names   *names
	schema  *schema.Schema
	limit   int64
	begun   bool
	done    bool
	place   fault.Place
	start   int64
	faults  fault.List
	check   bool
	ignored *notation.Ignored
	exact   bool   // values of JSON are read as they were written
	listed  bool   // the root element says that it is a list of records
	escapes bool   // names are escaped where XML does not allow them
	ahead   bool   // an element is read ahead, to be read again
	own     string // the namespace of the outermost element, where wildcards ask for it

	memory *value.Memory                 // that records are taken from; nil: they have their own
	spare  []*frame                      // that have ended
	begins map[*value.Record]fault.Place // where the elements of records begin; nil where no key asks for it
}

// NewReader reads a document. With a schema that names a record element, each such element below
// the root is a record; else the whole document is one.
func NewReader(r io.Reader, o notation.Options) (notation.Reader, error) {
	x := newReader(r, o)
	return &x, nil
}

func newReader(r io.Reader, o notation.Options) reader {
	x := reader{schema: o.Schema, limit: int64(o.Limit()), check: o.Check && o.Schema != nil, names: newNames(o.Schema), ignored: o.Ignored, escapes: escapes(o.Schema), exact: o.Exact && o.Schema == nil}
	if o.Schema != nil && o.Schema.Wildcards() {
		x.own = o.Schema.OwnNamespace()
	}
	if x.check && o.Schema.Root.HasKeys() {
		x.begins = map[*value.Record]fault.Place{}
	}
	x.in = xmltext.New(r, xmltext.Options{Source: o.Source, Namespaces: true, NoDoctype: o.Schema != nil && o.Schema.Settings.NoDoctype, MaxDepth: notation.MaxDepth, MaxToken: o.Limit()})
	return x
}

func (x *reader) records() bool { return x.listed || x.schema != nil && x.schema.RecordElement() != "" }

// Borrow makes records be taken from memory that is lent.
func (x *reader) Borrow(m *value.Memory) { x.memory = m }

func (x *reader) Many() bool         { return x.records() }
func (x *reader) Raw() string        { return "" }
func (x *reader) Place() fault.Place { return x.place }

func (x *reader) Next() (value.Value, error) {
	if x.done {
		return value.Value{}, io.EOF
	}
	if !x.begun {
		x.begun = true
		if err := x.first(); err != nil {
			return value.Value{}, err
		}
		if !x.records() {
			return x.document()
		}
	}
	return x.record()
}

// first finds the root element.
func (x *reader) first() error {
	if _, err := x.token(); err != nil {
		return err
	}
	x.listed = x.exact && x.hint(messageAttr) == "list"
	if want := x.rootName(); want != "" && want != x.name() {
		return fault.Expect(fault.Unknown, "the root element "+want, x.name()).At(x.in.Place())
	}
	return nil
}

func (x *reader) rootName() string {
	if x.schema == nil {
		return ""
	}
	return x.schema.Settings.RootName
}

func (x *reader) document() (value.Value, error) {
	x.begin()
	if x.schema != nil {
		v, err := x.rooted()
		return x.ended(v, err)
	}
	if x.exact {
		return x.exactDocument()
	}
	name := x.name()
	v, err := x.free()
	if err != nil {
		return value.Value{}, err
	}
	return x.ended(value.NewRecord(value.NewLayout(name), []value.Value{v}), nil)
}

// rooted reads the element that is the message.
func (x *reader) rooted() (value.Value, error) {
	if x.schema.Root.Kind == value.RecordKind {
		return x.typed(x.schema.Root)
	}
	return x.one(x.schema.Root)
}

func (x *reader) begin() {
	x.place, x.start, x.faults = x.in.Place(), x.in.Begin, nil
	clear(x.begins)
}

// ended makes sure that nothing stands behind the root element.
func (x *reader) ended(v value.Value, err error) (value.Value, error) {
	if err != nil {
		return value.Value{}, err
	}
	x.done = true
	if _, err := x.token(); err != io.EOF {
		return value.Value{}, err
	}
	return x.result(v)
}

func (x *reader) result(v value.Value) (value.Value, error) {
	if x.faults != nil {
		return value.Value{}, x.faults
	}
	return v, nil
}

func (x *reader) record() (value.Value, error) {
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.End:
			return x.endOfRecords()
		case xmltext.Text:
			if strings.TrimSpace(x.in.Text) != "" {
				return value.Value{}, fault.Expect(fault.Syntax, "an element", fault.Quote(x.in.Text)).At(x.in.Place())
			}
		case xmltext.Start:
			x.begin()
			if x.listed {
				return x.exactly()
			}
			if n := x.name(); n != x.schema.RecordElement() {
				x.fault(nil, x.schema.Root.Asking(fault.Expect(fault.Unknown, "the element "+x.schema.RecordElement(), n)))
			}
			v, err := x.rooted()
			if err != nil {
				return value.Value{}, err
			}
			return x.result(v)
		}
	}
}

func (x *reader) endOfRecords() (value.Value, error) {
	x.faults = nil // those of the last record are said
	if _, err := x.ended(value.Value{}, nil); err != nil {
		return value.Value{}, err
	}
	return value.Value{}, io.EOF
}

// token reads the next token, within the bytes that a record may have.
func (x *reader) token() (xmltext.Kind, error) {
	k, err := x.in.Next()
	if err == nil && x.in.End-x.start > x.limit {
		err = fault.New(fault.Limit, "a record is longer than %d bytes", x.limit).At(x.place)
	}
	return k, err
}

func (x *reader) fault(f *schema.Field, ft *fault.Fault) {
	if f != nil {
		f.LocateFault(ft)
	}
	if ft.Place.Line == 0 {
		p := x.in.Place()
		p.Path = x.in.Path()
		ft.At(p)
	}
	x.faults.Add(ft)
}

// unknown notes an element or an attribute that a record neither has nor passes over.
func (x *reader) unknown(f *schema.Field, expected, found string) {
	if x.faults.Full() {
		x.faults.Add(&fault.Fault{})
		return
	}
	x.fault(nil, f.Asking(fault.Expect(fault.Unknown, expected, found)))
}
