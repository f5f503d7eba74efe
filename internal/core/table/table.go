// Package table holds small tables that rules look values up in: a row is found by one key or
// several. A table is read from a part, is immutable, and finds a row in constant time.
package table

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// MaxRows bounds a table.
const MaxRows = 100_000

// None is what looking up gives where there is no row.
type None string

// The choices of what comes of a key that the table does not have.
const (
	Fault   None = "fault"
	Absent  None = "absent"
	Default None = "default" // the table's default row
)

// Nones lists the choices, the usual one first.
var Nones = []string{string(Fault), string(Absent), string(Default)}

// Table is one part.
type Table struct {
	ID, Title string
	Keys      []*schema.Field // the columns by which a row is found
	Row       *schema.Field   // the record of all columns
	None      None
	Rows      []value.Value
	At        partfile.Text
	other     value.Value // the default row
	index     map[string]value.Value
}

// Parse reads a table part. Its faults are noted with their places; rows that are at fault are left
// out.
func Parse(id string, d *partfile.Doc) *Table {
	n := d.Root()
	t := &Table{ID: id, Title: n.Required("table").Value, At: n.At(), index: map[string]value.Value{}}
	t.columns(n)
	t.None = None(n.Choice("none", Nones...))
	rows := n.List("rows")
	if len(rows) > MaxRows {
		n.Fault(fault.Limit, "the table has more than %d rows", MaxRows)
		rows = rows[:MaxRows]
	}
	for _, r := range rows {
		t.row(d, r)
	}
	if other := n.Map("default"); other.Present() {
		t.other, _ = t.record(d, other.Texts(), other.At(), true)
	} else if t.None == Default {
		n.Fault(fault.Required, "the table gives a default row, and has none")
	}
	n.RejectUnknown()
	return t
}

func (t *Table) columns(n partfile.Node) {
	var fields []*schema.Field
	seen := map[string]bool{}
	for _, c := range n.List("columns") {
		name := c.Required("name")
		kind, ok := value.KindNamed(c.Choice("type", "text", "integer", "decimal", "boolean", "date", "time", "timestamp"))
		if !ok || seen[name.Value] {
			c.Fault(fault.Setting, "a column needs a type, and a name that no other has")
			c.RejectUnknown()
			continue
		}
		seen[name.Value] = true
		f := schema.Scalar(name.Value, kind)
		if c.Bool("key", false) {
			t.Keys = append(t.Keys, f)
		} else {
			f.Min = 0
		}
		fields = append(fields, f)
		c.RejectUnknown()
	}
	t.Row = schema.Record("row", fields...)
	if len(t.Keys) == 0 && n.Present() {
		n.Fault(fault.Required, "the table has no key column").WithFix("Set key: true at the column by which a row is found")
	}
}

// row keeps a row; one whose key stands before already is a fault.
func (t *Table) row(d *partfile.Doc, n partfile.Node) {
	rec, ok := t.record(d, n.Texts(), n.At(), false)
	if !ok {
		return
	}
	keys := make([]value.Value, len(t.Keys))
	for i, f := range t.Keys {
		keys[i] = rec.Field(f.Name)
	}
	key := Key(keys)
	if _, twice := t.index[key]; twice {
		d.Fault(n.At(), fault.New(fault.Setting, "there is a row with %s already", t.Describe(keys)))
		return
	}
	t.index[key] = rec
	t.Rows = append(t.Rows, rec)
}

// record makes a row of its texts; a default row has no keys.
func (t *Table) record(d *partfile.Doc, texts []partfile.Text, at partfile.Text, other bool) (value.Value, bool) {
	fields := make([]value.Value, len(t.Row.Fields))
	wanted := len(t.Row.Fields)
	if other {
		wanted -= len(t.Keys)
	}
	if len(texts) != wanted {
		d.Fault(at, fault.Expect(fault.Setting, strconv.Itoa(wanted)+" values, one for each column", strconv.Itoa(len(texts))))
		return value.Value{}, false
	}
	ok := true
	for i, f := range t.Row.Fields {
		if other && f.Required() {
			continue
		}
		text := texts[0]
		texts = texts[1:]
		if text.Value == "" && !f.Required() {
			continue
		}
		v, fine := schema.ParseScalar(f.Kind, text.Value)
		if !fine || text.Value == "" {
			d.Fault(at, fault.Expect(fault.Type, f.Kind.String(), fault.Quote(text.Value)).InField(f.Name))
			ok = false
		}
		fields[i] = v
	}
	return value.NewRecord(t.Row.Layout(), fields), ok
}

// Key is a text that tells the keys of a row from all others.
func Key(keys []value.Value) string {
	var b strings.Builder
	for _, k := range keys {
		text, _ := value.Key(k)
		text = fault.Printable(text)
		b.WriteString(strconv.Itoa(len(text)) + ":" + text)
	}
	return b.String()
}

// KeyTexts are the texts of the keys that Key was given, as far as they can be told.
func KeyTexts(key string) (texts []string) {
	for key != "" {
		n, rest, ok := strings.Cut(key, ":")
		length, err := strconv.Atoi(n)
		if !ok || err != nil || length < 1 || length > len(rest) {
			return texts
		}
		texts, key = append(texts, rest[1:length]), rest[length:] // behind the letter of its kind
	}
	return texts
}

// Has says whether there is a row with these keys, given in the order of the key columns.
func (t *Table) Has(keys []value.Value) bool {
	_, ok := t.index[Key(keys)]
	return ok
}

// Find gives the row with these keys, or what the table says of a key that it does not have.
func (t *Table) Find(keys []value.Value) (value.Value, *fault.Fault) {
	row, ok := t.index[Key(keys)]
	switch {
	case ok:
		return row, nil
	case t.None == Absent:
		return value.Value{}, nil
	case t.None == Default:
		return t.other, nil
	}
	return value.Value{}, fault.Expect(fault.NotFound, "a row of the table "+t.ID, "none with "+t.Describe(keys)).WithFix("Add the row, or choose what the table gives for others")
}

// Describe names a key in words: class CAR and island Orma.
func (t *Table) Describe(keys []value.Value) string {
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = t.Keys[i].Name + " " + fault.Quote(k.String())
	}
	return strings.Join(parts, " and ")
}
