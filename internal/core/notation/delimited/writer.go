package delimited

import (
	"bufio"
	"io"
	"strings"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/notation/internal/group"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type writer struct {
	w            *bufio.Writer
	schema       *schema.Schema
	delim, quote byte
	escape       string
	header       bool
	names        []string
	root         *group.Type // with lines of several types
	buf, text    []byte
	end          string
	encode       *charmap.Charmap // nil: UTF-8
	coded        []byte
	n            int
}

// NewWriter writes delimited records (RFC 4180), with CR LF and in UTF-8 unless the schema says otherwise. Without a schema the names are those
// of the first record.
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	out := &writer{w: bufio.NewWriterSize(w, 64<<10), schema: o.Schema, delim: ',', quote: '"', header: true, end: "\r\n"}
	if s := o.Schema; s != nil {
		out.delim, out.quote, out.header = s.Settings.Delimiter[0], s.Settings.Quote[0], s.Settings.Header
		out.escape, out.encode = s.Settings.Escape, charset.Of(s.Settings.Encoding)
		if end, said := map[string]string{"LF": "\n", "CR": "\r"}[s.Settings.LineEnd]; said {
			out.end = end
		}
		if out.names = s.Root.Layout().Names; s.Nested() && s.Notation.Cells && !out.header {
			out.root = group.Types(s.Root)[0]
		}
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
	w.endLine()
	return w.flush()
}

// Write writes one record. A nested record or list fits only where the schema says which lines
// are its own; otherwise it is a fault.
func (w *writer) Write(v value.Value) error {
	w.n++
	w.buf = w.buf[:0]
	if w.root != nil {
		if _, ft := group.Write(w.root, v, w.line); ft != nil {
			return ft
		}
		return w.flush()
	}
	r := v.Record()
	if r == nil {
		return fault.Expect(fault.Type, "a record", v.Kind().String()).At(fault.Place{Line: w.n})
	}
	if w.names == nil {
		w.names = r.Layout.Names
		if err := w.writeHeader(); err != nil {
			return err
		}
		w.buf = w.buf[:0]
	}
	if ft := w.extra(r); ft != nil {
		return ft
	}
	for i, name := range w.names {
		if ft := w.field(i, name, v.Field(name)); ft != nil {
			return ft
		}
	}
	w.endLine()
	return w.flush()
}

// line appends the line of one of several types.
func (w *writer) line(t *group.Type, v value.Value) *fault.Fault {
	start := len(w.buf)
	for i, f := range t.Own {
		if ft := w.scalar(i, f, group.Marked(f, v.Field(f.Name))); ft != nil {
			return ft
		}
	}
	if begins := t.Field.WireFormat.StartsWith; !strings.HasPrefix(string(w.buf[start:]), begins) {
		return fault.Expect(fault.Pattern, "a line that begins with "+fault.Quote(begins), fault.Quote(string(w.buf[start:])))
	}
	w.endLine()
	return nil
}

func (w *writer) field(i int, name string, v value.Value) *fault.Fault {
	if k := v.Kind(); k == value.RecordKind || k == value.ListKind {
		return fault.Expect(fault.Type, "a single value", "a "+k.String()).InField(name).At(fault.Place{Path: "/" + name}).
			WithFix("A delimited record has no place for it; map it to single fields first")
	}
	if w.schema == nil {
		w.cell(i, schema.ScalarText(v))
		return nil
	}
	return w.scalar(i, w.schema.Root.Field(name), v)
}

func (w *writer) scalar(i int, f *schema.Field, v value.Value) *fault.Fault {
	if v.IsMissing() {
		w.cell(i, "")
		return nil
	}
	text, ft := f.AppendWire(w.text[:0], v)
	if w.text = text; ft == nil {
		w.cell(i, string(text))
	}
	return ft
}

// extra finds a field that the header has no name for: it would be lost.
func (w *writer) extra(r *value.Record) *fault.Fault {
	if len(r.Layout.Names) == len(w.names) && &r.Layout.Names[0] == &w.names[0] {
		return nil
	}
	for i, name := range r.Layout.Names {
		if r.Fields[i].Kind() != value.Absent && !contains(w.names, name) {
			return fault.Expect(fault.Unknown, "names of the first record ("+strings.Join(w.names, ", ")+")", fault.Quote(name)).
				WithFix("Name a schema that has all the fields")
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

func (w *writer) cell(i int, s string) {
	if i > 0 {
		w.buf = append(w.buf, w.delim)
	}
	if !strings.ContainsRune(s, rune(w.quote)) && !strings.ContainsRune(s, rune(w.delim)) && !strings.ContainsAny(s, "\r\n") && !(s == "" && len(w.names) == 1) {
		w.buf = append(w.buf, s...)
		return
	}
	q := string(w.quote)
	inner := strings.ReplaceAll(s, q, q+q)
	if e := w.escape; e != "" && e != q {
		inner = strings.ReplaceAll(strings.ReplaceAll(s, e, e+e), q, e+q)
	}
	w.buf = append(append(w.buf, q...), inner...)
	w.buf = append(w.buf, w.quote)
}

func (w *writer) endLine() { w.buf = append(w.buf, w.end...) }

// flush writes a record. One with a character that the encoding does not have is a fault, and nothing of it is written.
func (w *writer) flush() error {
	if w.encode == nil {
		_, err := w.w.Write(w.buf)
		return err
	}
	coded, ft := charset.Append(w.coded[:0], w.encode, w.buf)
	if w.coded = coded; ft != nil {
		return ft.At(fault.Place{Line: w.n})
	}
	_, err := w.w.Write(coded)
	return err
}

// Close flushes what is written.
func (w *writer) Close() error { return w.w.Flush() }
