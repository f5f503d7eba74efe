package json

import (
	"io"
	"unicode/utf8"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

const flushAt = 64 << 10

type writer struct {
	w     io.Writer
	buf   []byte
	many  bool
	lines bool
	n     int
	enc   Appender
	shell *notation.Envelope
}

// NewWriter writes one JSON document: an array when o.Many is set.
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	return &writer{w: w, many: o.Many, enc: appenderFor(o), shell: o.Envelope}, nil
}

// NewLinesWriter writes one JSON value a line.
func NewLinesWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	return &writer{w: w, lines: true, enc: appenderFor(o)}, nil
}

func appenderFor(o notation.Options) Appender {
	if o.Schema == nil {
		return Appender{}
	}
	return Appender{root: o.Schema.Root}
}

func (w *writer) Write(v value.Value) error {
	switch {
	case w.lines:
	case w.shell != nil && w.n == 0:
		w.openShell()
	case w.shell != nil:
		w.buf = append(w.buf, ',')
	case w.many && w.n == 0:
		w.buf = append(w.buf, "[\n"...)
	case w.many:
		w.buf = append(w.buf, ",\n"...)
	case w.n > 0:
		return fault.New(fault.Setting, "a second record, though the document is not a list")
	}
	w.n++
	w.buf = w.enc.Append(w.buf, v)
	if w.lines {
		w.buf = append(w.buf, '\n')
	}
	if len(w.buf) < flushAt {
		return nil
	}
	return w.flush()
}

// openShell begins the document around the list of records.
func (w *writer) openShell() {
	w.buf = append(appendString(append(w.buf, '{'), w.shell.Root), ":{"...)
	if r := w.shell.Attributes.Record(); r != nil {
		for i, name := range r.Layout.Names {
			w.buf = append(appendString(w.buf, name), ':')
			w.buf = append(w.enc.Append(w.buf, r.Fields[i]), ',')
		}
	}
	w.buf = append(appendString(w.buf, w.shell.List), ":["...)
}

func (w *writer) flush() error {
	_, err := w.w.Write(w.buf)
	w.buf = w.buf[:0]
	return err
}

// Close ends the document.
func (w *writer) Close() error {
	switch {
	case w.shell != nil:
		w.buf = append(w.buf, "]}}\n"...)
	case w.many && w.n == 0:
		w.buf = append(w.buf, "[]\n"...)
	case w.many:
		w.buf = append(w.buf, "\n]\n"...)
	case !w.lines && w.n > 0:
		w.buf = append(w.buf, '\n')
	}
	return w.flush()
}

// Appender writes values as JSON. It remembers the quoted names of the shapes that it meets; the
// zero Appender is ready, and belongs to one goroutine.
type Appender struct {
	root  *schema.Field
	last  *value.Layout
	names [][]byte
	known map[*value.Layout][][]byte
}

// Append appends one value. Absent fields are left out; an absent value by itself is null.
func (a *Appender) Append(b []byte, v value.Value) []byte { return a.append(b, v, a.root) }

func (a *Appender) append(b []byte, v value.Value, f *schema.Field) []byte {
	switch v.Kind() {
	case value.Absent, value.Null:
		return append(b, "null"...)
	case value.Boolean, value.Integer, value.Decimal:
		return v.AppendText(b)
	case value.Text:
		return appendString(b, v.Text())
	case value.RecordKind:
		return a.record(b, v.Record(), f)
	case value.ListKind:
		return a.list(b, v.Items(), f)
	}
	if f != nil && f.WireFormat.HasPattern {
		if text, ft := f.AppendWire(nil, v); ft == nil {
			return appendString(b, string(text))
		}
	}
	if v.Kind() == value.Binary {
		return appendString(b, schema.ScalarText(v))
	}
	return append(v.AppendText(append(b, '"')), '"')
}

func (a *Appender) list(b []byte, items []value.Value, f *schema.Field) []byte {
	b = append(b, '[')
	if f != nil && f.Kind == value.ListKind {
		f = f.Each()
	}
	for i, item := range items {
		if i > 0 {
			b = append(b, ',')
		}
		b = a.append(b, item, f)
	}
	return append(b, ']')
}

func (a *Appender) record(b []byte, r *value.Record, f *schema.Field) []byte {
	b, _ = a.members(append(b, '{'), r, f, true)
	return append(b, '}')
}

// members appends the fields of a record; those that have no name of their own stand among the others. first says whether none
// was appended yet, before and behind.
func (a *Appender) members(b []byte, r *value.Record, f *schema.Field, first bool) ([]byte, bool) {
	names := a.quoted(r.Layout)
	for i := range r.Fields {
		v := r.Fields[i]
		if v.Kind() == value.Absent {
			continue
		}
		if held := v.Record(); held != nil && i == r.Layout.Others-1 {
			b, first = a.members(b, held, child(f, r.Layout, i), first)
			continue
		}
		if !first {
			b = append(b, ',')
		}
		first = false
		b = append(b, names[i]...)
		b = a.append(b, v, child(f, r.Layout, i))
	}
	return b, first
}

// child is the field of a slot of a record, of which f is known: of a map it is that of all its values, and of a variant that of
// the branch.
func child(f *schema.Field, shape *value.Layout, i int) *schema.Field {
	switch {
	case f == nil:
		return nil
	case f.Layout() == shape && f.Kind == value.RecordKind:
		return f.Fields[i]
	case f.Kind == value.MapKind:
		return f.Each()
	case f.Kind == value.VariantKind:
		for _, b := range f.Fields {
			if b.Layout() == shape || b.Kind == value.MapKind {
				return child(b, shape, i)
			}
		}
	}
	return nil
}

func (a *Appender) quoted(s *value.Layout) [][]byte {
	if s == a.last {
		return a.names
	}
	names, ok := a.known[s]
	if !ok {
		names = make([][]byte, len(s.Names))
		for i, n := range s.Names {
			names[i] = append(appendString(nil, n), ':')
		}
		if a.known == nil || len(a.known) > maxShapes {
			a.known = map[*value.Layout][][]byte{}
		}
		a.known[s] = names
	}
	a.last, a.names = s, names
	return names
}

func appendString(b []byte, s string) []byte {
	for i := 0; i < len(s); i++ {
		if c := s[i]; c < ' ' || c == '"' || c == '\\' || c >= utf8.RuneSelf {
			q, _ := jsontext.AppendQuote(b, s) // only invalid UTF-8 is an error; it is replaced then
			return q
		}
	}
	b = append(b, '"')
	b = append(b, s...)
	return append(b, '"')
}
