package json

import (
	"bytes"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// read reads all that stands for a field; f describes it, or is nil.
func (d *decoder) read(f *schema.Field, depth int) (value.Value, error) {
	if f == nil || !f.List() {
		return d.one(f, depth)
	}
	switch kind := d.dec.PeekKind(); {
	case kind == '[':
		return d.array(f, depth)
	case kind == 'n':
		return d.null(f, f.Nullable)
	case kind == 0:
		return d.one(nil, depth)
	case f.Single:
		v, err := d.one(f, depth+1)
		return value.ListOf(v), err
	case kind == '{':
		d.fault(f, fault.Expect(fault.Type, "an array", "an object"))
		return d.free(depth)
	}
	raw, err := d.single()
	if err != nil {
		return value.Value{}, err
	}
	d.fault(f, fault.Expect(fault.Type, "an array", found(d.scalarOf(raw))))
	d.back(raw)
	return value.ListOf(), nil
}

// one reads one occurrence of a field; f describes it, or is nil.
func (d *decoder) one(f *schema.Field, depth int) (value.Value, error) {
	if depth > notation.MaxDepth {
		return value.Value{}, errDepth
	}
	if f != nil && f.Kind == value.AnyKind {
		f = nil
	}
	kind := d.dec.PeekKind()
	switch {
	case kind == 'n' && f != nil && !f.List() && f.Nullable:
		return d.null(f, true)
	case f != nil && f.Kind == value.VariantKind:
		return d.variant(f, kind, depth)
	case kind == 'n' && f != nil:
		return d.null(f, f.Kind == value.Null)
	case kind == '{':
		return d.object(f, depth)
	case kind == '[' && f != nil && f.Kind == value.ListKind:
		return d.read(f.Each(), depth)
	case kind == '[':
		if f != nil {
			d.fault(f, fault.Expect(fault.Type, jsonType(f), "an array"))
		}
		return d.array(nil, depth)
	}
	raw, err := d.single()
	if err != nil {
		return value.Value{}, err
	}
	return d.scalar(f, raw), nil
}

// variant reads a value of the branch that it is: told by its kind where one branch has it, else by looking at the whole value
// first.
func (d *decoder) variant(f *schema.Field, kind jsontext.Kind, depth int) (value.Value, error) {
	if b := onlyOf(f, kind); b != nil {
		return d.read(b, depth)
	}
	raw, err := d.dec.ReadValue()
	if err != nil {
		return value.Value{}, err
	}
	raw = raw.Clone()
	begin := d.dec.InputOffset() - int64(len(raw))
	v, err := inside(raw, d, nil).read(nil, depth)
	if err != nil {
		return value.Value{}, err
	}
	b, ft := f.Branch(v)
	if ft == nil && d.check {
		ft = f.Alone(b, v)
	}
	if ft != nil {
		d.fault(f, ft)
		ft.Place.Byte = d.at + begin
		return v, nil
	}
	in := inside(raw, d, d.ignored)
	in.at, in.under = d.at+begin, d.under+string(d.dec.StackPointer())
	v, err = in.read(b, depth)
	d.faults = in.faults
	return v, err
}

// inside is a decoder of a value that was read already, with the faults of the one around it.
func inside(raw jsontext.Value, d *decoder, ignored *notation.Ignored) *decoder {
	return &decoder{dec: jsontext.NewDecoder(bytes.NewReader(raw)), shapes: d.shapes, check: d.check, ignored: ignored, faults: d.faults, at: d.at, under: d.under, begins: d.begins, slab: d.slab}
}

// onlyOf is the only branch that a value of a kind of token can be; nil where several can, and for null.
func onlyOf(f *schema.Field, kind jsontext.Kind) (only *schema.Field) {
	if kind == 'n' || f.TellingField() != "" {
		return nil
	}
	for _, b := range f.Fields {
		if !stands(b, kind) {
			continue
		}
		if only != nil {
			return nil
		}
		only = b
	}
	return only
}

// stands says whether a value that begins with a token can be a branch.
func stands(b *schema.Field, kind jsontext.Kind) bool {
	switch {
	case b.Kind == value.AnyKind || b.Kind == value.VariantKind || b.Single:
		return true
	case b.List() || b.Kind == value.ListKind:
		return kind == '['
	case b.Kind == value.RecordKind || b.Kind == value.MapKind:
		return kind == '{'
	case b.Kind.Numeric():
		return kind == '0'
	case b.Kind == value.Boolean:
		return kind == 't' || kind == 'f'
	}
	return kind == '"'
}

// null reads a null, which is a fault where the field allows none.
func (d *decoder) null(f *schema.Field, allowed bool) (value.Value, error) {
	raw, err := d.single()
	if err == nil && d.check && !allowed {
		ft := f.CheckOccurs(value.NullValue)
		if ft == nil { // an item of a list that may be null itself
			ft = fault.Expect(fault.Required, jsonType(f), "null")
		}
		d.fault(f, ft)
		d.back(raw)
	}
	return value.NullValue, err
}

func (d *decoder) scalar(f *schema.Field, raw jsontext.Value) value.Value {
	v := d.scalarOf(raw)
	if f == nil || v.Kind() == value.Null {
		return v
	}
	faults := len(d.faults)
	if f.Kind != v.Kind() || f.Kind != value.Text {
		v = d.typed(f, v)
	}
	if faults < len(d.faults) {
		d.back(raw)
	}
	if d.check && faults == len(d.faults) {
		if ft := f.CheckOne(v); ft != nil {
			d.fault(f, ft)
			d.back(raw)
		}
	}
	return v
}

// typed gives a JSON scalar the type of its field.
func (d *decoder) typed(f *schema.Field, v value.Value) value.Value {
	ok := false
	out := v
	switch {
	case f.Kind == value.Integer && v.Kind().Numeric():
		out, ok = value.AsInteger(v)
	case f.Kind == value.Decimal && v.Kind().Numeric():
		out, ok = value.AsDecimal(v), true
	case f.Kind == value.Boolean:
		ok = v.Kind() == value.Boolean
	case v.Kind() == value.Text && f.Kind != value.Text && !f.Kind.Numeric() && f.Kind != value.RecordKind:
		out, ok = f.Read(v.Text())
	}
	if !ok {
		d.fault(f, fault.Expect(fault.Type, jsonType(f), found(v)))
	}
	return out
}

func jsonType(f *schema.Field) string {
	switch f.Kind {
	case value.RecordKind, value.MapKind:
		return "an object"
	case value.ListKind:
		return "an array"
	case value.Integer, value.Decimal, value.Boolean:
		return f.DescribeWireFormat()
	case value.Text:
		return "a string"
	}
	return "a string with " + f.DescribeWireFormat()
}

func found(v value.Value) string {
	if v.Kind() == value.Text {
		return "the string " + fault.Quote(v.Text())
	}
	return v.String()
}

func (d *decoder) fault(f *schema.Field, ft *fault.Fault) {
	ft.Place.Byte = d.at + d.dec.InputOffset()
	ft.Place.Path = d.under + string(d.dec.StackPointer())
	if f != nil {
		f.LocateFault(ft)
	}
	d.faults.Add(ft)
}

// unknown notes a name that a record does not have.
func (d *decoder) unknown(f *schema.Field, name string, raw jsontext.Value) {
	if d.faults.Full() {
		d.faults.Add(&fault.Fault{})
		return
	}
	d.fault(nil, f.Asking(fault.Expect(fault.Unknown, "one of "+strings.Join(f.Layout().Names, ", "), fault.Quote(name))))
	d.back(raw)
}

// back puts the newest fault at the beginning of what was just read.
func (d *decoder) back(raw jsontext.Value) {
	if len(d.faults) <= fault.MaxKept {
		d.faults[len(d.faults)-1].Place.Byte -= int64(len(raw))
	}
}

// faultAt notes a fault of something that began before.
func (d *decoder) faultAt(offset int64, path string, f *schema.Field, ft *fault.Fault) {
	d.fault(f, ft)
	ft.Place.Byte, ft.Place.Path = d.at+offset, d.under+path
}
