package json

import (
	"bytes"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// slabSize is how much room for texts is taken at once, in bytes.
const slabSize = 16 << 10

// single reads a null, a boolean, a number, a string or a name. The bytes are valid until the next call.
func (d *decoder) single() (jsontext.Value, error) {
	if kind := d.dec.PeekKind(); kind == '}' || kind == ']' { // a token that is not in its place is told best by itself
		_, err := d.dec.ReadToken()
		return nil, err
	}
	return d.dec.ReadValue()
}

// text is the text of a string or name that was just read.
func (d *decoder) text(raw jsontext.Value) string {
	inner := raw[1 : len(raw)-1]
	if plain(inner) {
		return d.keep(inner, 1)
	}
	b, err := jsontext.AppendUnquote(nil, raw)
	if err != nil { // the decoder has read it already
		return string(inner)
	}
	return string(b)
}

// plain says whether a string holds no escapes.
func plain(inner []byte) bool { return bytes.IndexByte(inner, '\\') < 0 }

// keep gives bytes that were just read, but for so many behind them, as a text that stays: a piece of the line that is being read,
// or a copy.
func (d *decoder) keep(b []byte, behind int) string {
	if d.line != "" {
		end := int(d.dec.InputOffset()) - behind
		return d.line[end-len(b) : end]
	}
	if len(b) > slabSize/8 {
		return string(b)
	}
	if d.slab.Cap()-d.slab.Len() < len(b) {
		d.slab = &strings.Builder{}
		d.slab.Grow(slabSize)
	}
	from := d.slab.Len()
	d.slab.Write(b)
	return d.slab.String()[from:]
}

// field is the field of a record that a name stands for; nil where it has none. Next is where the field most likely stands: behind
// the one before.
func (d *decoder) field(f *schema.Field, raw jsontext.Value, next *int) *schema.Field {
	inner := raw[1 : len(raw)-1]
	if *next < len(f.Fields) {
		if c := f.Fields[*next]; c.Name == string(inner) && !c.HoldsOthers && plain(inner) {
			*next++
			return c
		}
	}
	c := f.Named(d.text(raw))
	if c != nil {
		*next = c.Slot() + 1
	}
	return c
}

// scalarOf is the value of a token.
func (d *decoder) scalarOf(raw jsontext.Value) value.Value {
	switch raw.Kind() {
	case 'n':
		return value.NullValue
	case 't', 'f':
		return value.Bool(raw[0] == 't')
	case '0':
		return value.Number(d.keep(raw, 0))
	}
	return value.NewText(d.text(raw))
}
