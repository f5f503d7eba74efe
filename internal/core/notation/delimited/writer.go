package delimited

import (
	"bufio"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type writer struct {
	w            *bufio.Writer
	schema       *schema.Schema
	delim, quote byte
	header       bool
	names        []string
	buf, text    []byte
	n            int
}

// NewWriter writes delimited records (RFC 4180) with CR LF. Without a schema the names are those
// of the first record.
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	out := &writer{w: bufio.NewWriterSize(w, 64<<10), schema: o.Schema, delim: ',', quote: '"', header: true}
	if s := o.Schema; s != nil {
		out.delim, out.quote, out.header = s.Settings.Delimiter[0], s.Settings.Quote[0], s.Settings.Header
		out.names = s.Root.Shape().Names
		return out, out.writeHeader()
	}
	return out, nil
}

func (w *writer) writeHeader() error {
	if !w.header {
		return nil
	}
	w.buf = w.buf[:0]
	for i, name := range w.names {
		w.cell(i, name)
	}
	return w.flushLine()
}

// Write writes one record. A nested record or list does not fit and is a fault.
func (w *writer) Write(v value.Value) error {
	w.n++
	r := v.Record()
	if r == nil {
		return fault.Expect(fault.Type, "a record", v.Kind().String()).At(fault.Place{Line: w.n})
	}
	if w.names == nil {
		w.names = r.Shape.Names
		if err := w.writeHeader(); err != nil {
			return err
		}
	}
	if ft := w.extra(r); ft != nil {
		return ft
	}
	w.buf = w.buf[:0]
	for i, name := range w.names {
		field := v.Field(name)
		if k := field.Kind(); k == value.RecordKind || k == value.ListKind {
			return fault.Expect(fault.Type, "a single value", "a "+k.String()).In(name).At(fault.Place{Path: "/" + name}).
				Mended("A delimited record has no place for it; map it to single fields first")
		}
		text, ft := w.written(name, field)
		if ft != nil {
			return ft
		}
		w.cell(i, text)
	}
	return w.flushLine()
}

// extra finds a field that the header has no name for: it would be lost.
func (w *writer) extra(r *value.Record) *fault.Fault {
	if len(r.Shape.Names) == len(w.names) && &r.Shape.Names[0] == &w.names[0] {
		return nil
	}
	for i, name := range r.Shape.Names {
		if r.Fields[i].Kind() != value.Absent && !contains(w.names, name) {
			return fault.Expect(fault.Unknown, "names of the first record ("+strings.Join(w.names, ", ")+")", fault.Quote(name)).
				Mended("Name a schema that has all the fields")
		}
	}
	return nil
}

func contains(names []string, name string) bool {
	for _, n := range names {
		if n == name {
			return true
		}
	}
	return false
}

func (w *writer) written(name string, v value.Value) (string, *fault.Fault) {
	if w.schema == nil || v.Missing() {
		return schema.ScalarText(v), nil
	}
	text, ft := w.schema.Root.Field(name).AppendWritten(w.text[:0], v)
	w.text = text
	return string(text), ft
}

func (w *writer) cell(i int, s string) {
	if i > 0 {
		w.buf = append(w.buf, w.delim)
	}
	if !strings.ContainsRune(s, rune(w.quote)) && !strings.ContainsRune(s, rune(w.delim)) && !strings.ContainsAny(s, "\r\n") && !(s == "" && len(w.names) == 1) {
		w.buf = append(w.buf, s...)
		return
	}
	q := string(w.quote)
	w.buf = append(append(w.buf, q...), strings.ReplaceAll(s, q, q+q)...)
	w.buf = append(w.buf, w.quote)
}

func (w *writer) flushLine() error {
	w.buf = append(w.buf, "\r\n"...)
	_, err := w.w.Write(w.buf)
	return err
}

// Close flushes what is written.
func (w *writer) Close() error { return w.w.Flush() }
