package fixedwidth

import (
	"bufio"
	"fmt"
	"io"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

type writer struct {
	w      *bufio.Writer
	schema *schema.Schema
	encode *charmap.Charmap
	end    string
	line   []byte
	text   []byte
	n      int
}

// NewWriter writes records at the columns that the schema gives; a schema is required.
func NewWriter(w io.Writer, o notation.Options) (notation.Writer, error) {
	if o.Schema == nil || o.Schema.Width() == 0 {
		return nil, fault.New(fault.Setting, "fixed width cannot be written without a schema that has columns")
	}
	out := &writer{w: bufio.NewWriterSize(w, 64<<10), schema: o.Schema, end: "\r\n"}
	if o.Schema.Settings.LineEnd == "LF" {
		out.end = "\n"
	}
	switch o.Schema.Settings.Encoding {
	case "ISO-8859-1":
		out.encode = charmap.ISO8859_1
	case "windows-1252":
		out.encode = charmap.Windows1252
	}
	return out, nil
}

// Write writes one record as one line. A value that does not fit its columns is a fault; nothing
// of that record is written.
func (w *writer) Write(v value.Value) error {
	w.n++
	if v.Kind() != value.RecordKind {
		return fault.Expect(fault.Type, "a record", v.Kind().String()).At(fault.Place{Line: w.n})
	}
	w.line = w.line[:0]
	column := 1
	for _, f := range w.schema.Root.Fields {
		for ; column < f.Written.From; column++ {
			w.line = append(w.line, ' ')
		}
		if ft := w.field(f, v.Field(f.Name)); ft != nil {
			return ft.At(fault.Place{Line: w.n, Column: f.Written.From})
		}
		column = f.Written.To + 1
	}
	w.line = append(w.line, w.end...)
	_, err := w.w.Write(w.line)
	return err
}

func (w *writer) field(f *schema.Field, v value.Value) *fault.Fault {
	width := f.Written.To - f.Written.From + 1
	if v.Missing() {
		if f.Required() {
			return fault.Expect(fault.Required, "a value", v.Kind().String()).In(f.Name)
		}
		w.pad(width, ' ')
		return nil
	}
	text, ft := f.AppendWritten(w.text[:0], v)
	if ft != nil {
		return ft
	}
	if w.encode != nil {
		if text, ft = encode(w.encode, text); ft != nil {
			return ft.In(f.Name)
		}
	}
	w.text = text
	n := len(text)
	if w.schema.Settings.Characters {
		n = utf8.RuneCount(text)
	}
	if n > width {
		return fault.Expect(fault.Length, fmt.Sprintf("at most %d columns", width), fault.Quote(string(text))).In(f.Name)
	}
	w.put(f, text, width-n)
	return nil
}

func (w *writer) put(f *schema.Field, text []byte, padding int) {
	if f.Written.Align != "right" {
		w.line = append(w.line, text...)
		w.pad(padding, f.Written.Fill)
		return
	}
	if f.Written.Fill == '0' && len(text) > 0 && text[0] == '-' {
		w.line = append(w.line, '-')
		text = text[1:]
	}
	w.pad(padding, f.Written.Fill)
	w.line = append(w.line, text...)
}

func (w *writer) pad(n int, fill byte) {
	for range n {
		w.line = append(w.line, fill)
	}
}

func encode(c *charmap.Charmap, text []byte) ([]byte, *fault.Fault) {
	out := make([]byte, 0, len(text))
	for _, r := range string(text) {
		b, ok := c.EncodeRune(r)
		if !ok {
			return nil, fault.Expect(fault.Encoding, "characters of "+c.String(), fault.Quote(string(r)))
		}
		out = append(out, b)
	}
	return out, nil
}

// Close flushes what is written.
func (w *writer) Close() error { return w.w.Flush() }
