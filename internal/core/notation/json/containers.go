package json

import (
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// array reads the items of a field that is a list, or of what no schema describes.
func (d *decoder) array(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin, path := d.dec.InputOffset()-1, ""
	if d.check && f != nil {
		path = strings.TrimSuffix(string(d.dec.StackPointer()), "/-1")
	}
	items := []value.Value{}
	for d.dec.PeekKind() != ']' {
		v, err := d.one(f, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		items = append(items, v)
	}
	if d.check && f != nil {
		if ft := f.CheckOccurs(value.ListOf(items...)); ft != nil {
			d.faultAt(begin, path, f, ft)
		}
	}
	_, err := d.dec.ReadToken()
	return value.ListOf(items...), err
}

func (d *decoder) object(f *schema.Field, depth int) (value.Value, error) {
	switch {
	case f == nil:
		return d.free(depth)
	case f.Kind == value.MapKind:
		return d.entries(f, depth)
	case f.Kind != value.RecordKind:
		d.fault(f, fault.Expect(fault.Type, jsonType(f), "an object"))
		return d.free(depth)
	}
	return d.record(f, depth)
}

// record reads an object that a schema describes.
func (d *decoder) record(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin := d.dec.InputOffset() - 1
	rec := d.empty(f)
	fields, next := rec.Fields, 0
	others := schema.OthersBuilder{Field: f.HeldOthers()}
	for d.dec.PeekKind() != '}' {
		raw, err := d.single()
		if err != nil {
			return value.Value{}, err
		}
		c := d.field(f, raw, &next)
		if c == nil {
			if err := d.other(f, &others, raw, depth); err != nil {
				return value.Value{}, err
			}
			continue
		}
		v, err := d.read(c, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields[c.Slot()] = v
	}
	_, err := d.dec.ReadToken()
	others.Put(fields)
	v := value.RecordOf(rec)
	if d.check {
		faults := len(d.faults)
		d.missing(f, fields, begin)
		d.whole(f, v, begin, faults == len(d.faults))
	}
	return v, err
}

// whole checks what a record must be as a whole: its keys, and what may stand in it together, where no field is missing.
func (d *decoder) whole(f *schema.Field, v value.Value, begin int64, complete bool) {
	if d.begins != nil {
		d.begins[v.Record()] = d.at + begin
	}
	if f.Model() == nil && len(f.Keys()) == 0 {
		return
	}
	tell := func(ft *fault.Fault, in *value.Record) {
		ft.Place.Byte, ft.Place.Path = d.at+begin, d.under+string(d.dec.StackPointer())+ft.Place.Path
		if at, known := d.begins[in]; known {
			ft.Place.Byte = at
		}
		d.faults.Add(ft)
	}
	if complete {
		if ft := f.CheckModel(v.Record()); ft != nil {
			tell(ft, nil)
		}
	}
	f.CheckKeys(v, tell)
}

// empty is a record of a field, of the memory that is lent, or its own.
func (d *decoder) empty(f *schema.Field) *value.Record {
	if d.memory != nil {
		return d.memory.Record(f.Layout())
	}
	return &value.Record{Layout: f.Layout(), Fields: make([]value.Value, len(f.Fields))}
}

// other reads a field that the record lacks: it is kept, a fault, or passed over and counted.
func (d *decoder) other(f *schema.Field, others *schema.OthersBuilder, raw jsontext.Value, depth int) error {
	name := d.text(raw)
	if others.Field == nil {
		if f.Strict() {
			d.unknown(f, name, raw)
		} else if d.ignored != nil {
			d.ignored.Add(d.under + string(d.dec.StackPointer()))
		}
		return d.skip(depth)
	}
	d.name(others.Field, name, raw)
	v, err := d.read(others.Field.Each(), depth+1)
	others.Add(name, v)
	return err
}

// skip passes over a value, within the bounds of what is read.
func (d *decoder) skip(depth int) error {
	_, err := d.one(nil, depth+1)
	return err
}

// name checks a name of a map.
func (d *decoder) name(f *schema.Field, name string, raw jsontext.Value) {
	if !d.check {
		return
	}
	if ft := f.CheckName(name); ft != nil {
		d.fault(f, ft)
		d.back(raw)
	}
}

// entries reads an object whose names nobody knew before.
func (d *decoder) entries(f *schema.Field, depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	begin := d.dec.InputOffset() - 1
	var names []string
	var fields []value.Value
	for d.dec.PeekKind() != '}' {
		raw, err := d.single()
		if err != nil {
			return value.Value{}, err
		}
		name := d.text(raw)
		names = append(names, name)
		d.name(f, name, raw)
		v, err := d.read(f.Each(), depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields = append(fields, v)
	}
	_, err := d.dec.ReadToken()
	if d.check {
		if ft := f.CheckEntries(len(names)); ft != nil {
			d.faultAt(begin, string(d.dec.StackPointer()), f, ft)
		}
	}
	return value.NewRecord(d.shape(names), fields), err
}

// missing notes the fields that must be in an object and are not.
func (d *decoder) missing(f *schema.Field, fields []value.Value, begin int64) {
	for i, c := range f.Fields {
		if c.Required() && fields[i].Kind() == value.Absent {
			d.faultAt(begin, string(d.dec.StackPointer()), c, c.CheckOccurs(fields[i]))
		}
	}
}

// free reads an object that no schema describes.
func (d *decoder) free(depth int) (value.Value, error) {
	if _, err := d.dec.ReadToken(); err != nil {
		return value.Value{}, err
	}
	var names []string
	var fields []value.Value
	for d.dec.PeekKind() != '}' {
		raw, err := d.single()
		if err != nil {
			return value.Value{}, err
		}
		names = append(names, d.text(raw))
		v, err := d.one(nil, depth+1)
		if err != nil {
			return value.Value{}, err
		}
		fields = append(fields, v)
	}
	_, err := d.dec.ReadToken()
	return value.NewRecord(d.shape(names), fields), err
}

// shape remembers the shapes of objects, since most objects of a message look alike.
func (d *decoder) shape(names []string) *value.Layout {
	var key strings.Builder
	for _, n := range names {
		key.WriteString(strconv.Itoa(len(n)))
		key.WriteByte(':')
		key.WriteString(n)
	}
	if s, ok := d.shapes[key.String()]; ok {
		return s
	}
	s := value.NewLayout(names...)
	if len(d.shapes) < maxShapes {
		d.shapes[key.String()] = s
	}
	return s
}
