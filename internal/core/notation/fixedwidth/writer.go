package fixedwidth

import (
	"bufio"
	"fmt"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/internal/charset"
	"hollowreed/internal/core/notation/internal/group"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type writer struct {
	w      *bufio.Writer
	schema *schema.Schema
	root   *group.Type
	put    group.Put
	encode *charmap.Charmap
	end    string
	line   []byte
	text   []byte
	n      int
}

// NewWriter writes records at the columns that the schema gives; a schema is required. A record
// with others inside is written as its line and the lines of those, in the order of the schema.
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	if o.Schema == nil || o.Schema.Width() == 0 {
		return nil, fault.New(fault.Setting, "fixed width cannot be written without a schema that has columns")
	}
	out := &writer{w: bufio.NewWriterSize(w, 64<<10), schema: o.Schema, root: group.Types(o.Schema.Root)[0], end: "\r\n"}
	if o.Schema.Settings.LineEnd == "LF" {
		out.end = "\n"
	}
	out.put = out.append
	out.encode = charset.Of(o.Schema.Settings.Encoding)
	return out, nil
}

// Write writes one record. A value that does not fit its columns is a fault; nothing of that
// record is written.
func (w *writer) Write(v value.Value) error {
	w.line = w.line[:0]
	lines, err := group.Write(w.root, v, w.put)
	if err != nil {
		return err.At(fault.Place{Line: w.n + lines, Column: err.Place.Column, Path: err.Place.Path})
	}
	w.n += lines
	_, failed := w.w.Write(w.line)
	return failed
}

// append appends one line.
func (w *writer) append(t *group.Type, v value.Value) *fault.Fault {
	start, column, begins := len(w.line), 1, t.Field.WireFormat.StartsWith
	gap := func(to int) {
		for ; column < to; column++ {
			c := byte(' ')
			if column <= len(begins) {
				c = begins[column-1]
			}
			w.line = append(w.line, c)
		}
	}
	for _, f := range t.Own {
		gap(f.WireFormat.From)
		if ft := w.field(f, group.Marked(f, v.Field(f.Name))); ft != nil {
			return ft.At(fault.Place{Column: f.WireFormat.From})
		}
		column = f.WireFormat.To + 1
	}
	gap(len(begins) + 1)
	if line := w.line[start:]; string(line[:len(begins)]) != begins {
		return fault.Expect(fault.Pattern, "a line that begins with "+fault.Quote(begins), fault.Quote(string(line))).At(fault.Place{Column: 1})
	}
	w.line = append(w.line, w.end...)
	return nil
}

func (w *writer) field(f *schema.Field, v value.Value) *fault.Fault {
	width := f.WireFormat.To - f.WireFormat.From + 1
	if v.IsMissing() {
		if f.Required() {
			return fault.Expect(fault.Required, "a value", v.Kind().String()).InField(f.Name)
		}
		w.pad(width, ' ')
		return nil
	}
	text, ft := f.AppendWire(w.text[:0], v)
	if ft != nil {
		return ft
	}
	if w.encode != nil {
		if text, ft = charset.Append(nil, w.encode, text); ft != nil {
			return ft.InField(f.Name)
		}
	}
	w.text = text
	n := len(text)
	if w.schema.Settings.Characters {
		n = utf8.RuneCount(text)
	}
	if n > width {
		return fault.Expect(fault.Length, fmt.Sprintf("at most %d columns", width), fault.Quote(string(text))).InField(f.Name)
	}
	w.fill(f, text, width-n)
	return nil
}

func (w *writer) fill(f *schema.Field, text []byte, padding int) {
	if f.WireFormat.Align != "right" {
		w.line = append(w.line, text...)
		w.pad(padding, f.WireFormat.Padding)
		return
	}
	if f.WireFormat.Padding == '0' && len(text) > 0 && text[0] == '-' {
		w.line = append(w.line, '-')
		text = text[1:]
	}
	w.pad(padding, f.WireFormat.Padding)
	w.line = append(w.line, text...)
}

func (w *writer) pad(n int, fill byte) {
	for range n {
		w.line = append(w.line, fill)
	}
}

// Close flushes what is written.
func (w *writer) Close() error { return w.w.Flush() }
