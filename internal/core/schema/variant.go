package schema

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// TypeAttribute in place of a field says that each element of a variant in XML names its branch by xsi:type (XML Schema 1.0, part 1,
// section 2.6.1). Of a variant that says nothing of it, an element without one is the first branch that is no single value.
const TypeAttribute = "xsi:type"

// OnlyOne in place of a field says that no value may be of two branches (oneOf of JSON Schema); otherwise it is of the first that fits.
const OnlyOne = "only one fits"

// TellingField is the field whose value tells the branch; empty where there is none.
func (f *Field) TellingField() string {
	if f.ToldBy == TypeAttribute || f.ToldBy == OnlyOne {
		return ""
	}
	return f.ToldBy
}

// Branch finds the branch of a variant that a value is: the one whose layout it has, the one that the value of a field tells, or
// else the first that fits. It is a fault when there is none. The value need not be of a branch's layout, and its texts need not
// be dates and numbers yet.
func (f *Field) Branch(v value.Value) (*Field, *fault.Fault) {
	if r := v.Record(); r != nil {
		for _, b := range f.Fields {
			if b.Kind == value.RecordKind && r.Layout == b.layout {
				return b, nil
			}
		}
	}
	if f.TellingField() != "" && v.Kind() == value.RecordKind {
		return f.Told(v)
	}
	var alike *Field // the only branch of the value's kind, whose faults tell most
	for _, b := range f.Fields {
		if !b.like(v) {
			continue
		}
		if b.fits(v) {
			return b, nil
		}
		if alike != nil {
			return nil, f.fault(fault.Type, "", "one of "+f.branchNames(), describe(v)+" that is none of them: "+alike.why(v))
		}
		alike = b
	}
	if alike != nil {
		return alike, nil
	}
	return nil, f.fault(fault.Type, "", "one of "+f.branchNames(), describe(v))
}

// Alone is a fault where a value that is a branch could be another one as well, and may not.
func (f *Field) Alone(branch *Field, v value.Value) *fault.Fault {
	if f.ToldBy != OnlyOne {
		return nil
	}
	for _, b := range f.Fields {
		if b != branch && b.like(v) && b.fits(v) {
			return f.fault(fault.Unknown, "", "one branch of "+f.branchNames(), "a value that is "+branch.Name+" and "+b.Name)
		}
	}
	return nil
}

// Told finds the branch of a variant by the value of the field that tells it.
func (f *Field) Told(v value.Value) (*Field, *fault.Fault) {
	by := v.Field(f.ToldBy)
	var known []string
	for _, b := range f.Fields {
		for _, c := range b.branchCodes(f.ToldBy) {
			if !by.IsMissing() && c.Value == by.String() {
				return b, nil
			}
			known = append(known, c.Value)
		}
	}
	found := by.Kind().String()
	if !by.IsMissing() {
		found = fault.Quote(by.String())
	}
	return nil, f.fault(fault.Unknown, "", f.ToldBy+" as one of "+strings.Join(known, ", "), found)
}

func (f *Field) branchNames() string {
	names := make([]string, len(f.Fields))
	for i, b := range f.Fields {
		names[i] = b.Name
	}
	return strings.Join(names, ", ")
}

// like says whether a value is of the field's kind, as a message may have it before its texts are read.
func (f *Field) like(v value.Value) bool {
	switch {
	case v.Kind() == value.Null:
		return f.Nullable || f.takesNull()
	case f.Kind == value.Null:
		return false
	case f.List() || f.Kind == value.ListKind:
		return v.Kind() == value.ListKind
	case f.Kind == value.RecordKind || f.Kind == value.MapKind:
		return v.Kind() == value.RecordKind
	case f.Kind == value.AnyKind || f.Kind == value.VariantKind:
		return true
	case f.Kind.Numeric():
		return v.Kind().Numeric()
	case f.Kind == value.Text || f.Kind == value.Boolean:
		return v.Kind() == f.Kind
	}
	return v.Kind() == f.Kind || v.Kind() == value.Text
}

// fits says whether a value, with its texts read as the field writes them, is without fault.
func (f *Field) fits(v value.Value) bool { return f.firstFault(v) == nil }

func (f *Field) why(v value.Value) string {
	if ft := f.firstFault(v); ft != nil {
		return ft.Error()
	}
	return ""
}

func (f *Field) firstFault(v value.Value) (first *fault.Fault) {
	report := func(ft *fault.Fault) {
		if first == nil {
			first = ft
		}
	}
	f.check(f.Typed(v, report), "", report)
	return first
}

// Typed gives an untyped value, as JSON without a schema has them, the layout and the types of the field, as far as it can: names
// that the field does not have are told to report where they are faults, or kept or passed over as the schema says. All else
// that does not fit stays as it is, for a check to tell.
func (f *Field) Typed(v value.Value, report func(*fault.Fault)) value.Value {
	return (&typing{texts: true, report: report}).of(f, v, "")
}

// Shaped gives a value that is to be written the layout of the field. Texts stay texts, and names that the field does not have and
// that it does not keep are always told: they would be lost.
func (f *Field) Shaped(v value.Value, report func(*fault.Fault)) value.Value {
	return (&typing{writing: true, report: report}).of(f, v, "")
}

// typing gives values the layouts of fields.
type typing struct {
	texts   bool // dates and the like are read from texts
	writing bool // no name may be passed over
	report  func(*fault.Fault)
}

func (t *typing) of(f *Field, v value.Value, path string) value.Value {
	if !f.List() {
		return t.one(f, v, path)
	}
	if v.Kind() != value.ListKind {
		if f.Single && !v.IsMissing() {
			return value.ListOf(t.one(f, v, path))
		}
		return v
	}
	items := make([]value.Value, len(v.Items()))
	for i, item := range v.Items() {
		items[i] = t.one(f, item, path+"/"+strconv.Itoa(i))
	}
	return value.ListOf(items...)
}

func (t *typing) one(f *Field, v value.Value, path string) value.Value {
	switch {
	case v.IsMissing() || f.Kind == value.AnyKind:
		return v
	case f.Kind == value.ListKind:
		return t.of(f.Each(), v, path)
	case f.Kind == value.VariantKind:
		if b, ft := f.Branch(v); ft == nil {
			return t.of(b, v, path)
		}
		return v
	case f.Kind == value.MapKind && v.Kind() == value.RecordKind:
		return t.entries(f, v.Record(), path)
	case f.Kind == value.RecordKind && v.Kind() == value.RecordKind:
		return t.record(f, v.Record(), path)
	case f.Nests() || v.Kind() == f.Kind:
		return v
	}
	return t.scalar(f, v)
}

func (t *typing) scalar(f *Field, v value.Value) value.Value {
	switch {
	case f.Kind == value.Decimal && v.Kind() == value.Integer:
		return value.AsDecimal(v)
	case !t.texts:
	case f.Kind == value.Integer && v.Kind() == value.Decimal:
		if whole, ok := value.AsInteger(v); ok {
			return whole
		}
	case v.Kind() == value.Text && !f.Kind.Numeric() && f.Kind != value.Boolean:
		if read, ok := f.Read(v.Text()); ok {
			return read
		}
	}
	return v
}

func (t *typing) entries(f *Field, r *value.Record, path string) value.Value {
	fields := make([]value.Value, len(r.Fields))
	for i, name := range r.Layout.Names {
		fields[i] = t.of(f.Each(), r.Fields[i], f.under(path, name))
	}
	return value.NewRecord(r.Layout, fields)
}

func (t *typing) record(f *Field, r *value.Record, path string) value.Value {
	if r.Layout == f.layout {
		return value.RecordOf(r)
	}
	fields := make([]value.Value, len(f.Fields))
	others := OthersBuilder{Field: f.HeldOthers()}
	add := func(name string, v value.Value) {
		c, at := f.Named(name), path+"/"+Escape(name)
		switch {
		case v.Kind() == value.Absent:
		case c != nil:
			fields[c.slot] = t.of(c, v, at)
		case others.Field != nil:
			others.Add(name, t.of(others.Field.Each(), v, at))
		case f.strict || t.writing:
			t.report(f.fault(fault.Unknown, at, "one of "+strings.Join(f.layout.Names, ", "), fault.Quote(name)))
		}
	}
	for i, name := range r.Layout.Names {
		if i != r.Layout.Others-1 {
			add(name, r.Fields[i])
		}
	}
	if kept := r.Others().Record(); kept != nil {
		for i, name := range kept.Layout.Names {
			add(name, kept.Fields[i])
		}
	}
	others.Put(fields)
	return value.NewRecord(f.layout, fields)
}

// OthersBuilder gathers the fields of one record that have no name of their own. Its Field is the map that holds them, or nil:
// then they are not kept.
type OthersBuilder struct {
	Field  *Field
	names  []string
	values []value.Value
}

// Add keeps a field, if there is a map for it.
func (b *OthersBuilder) Add(name string, v value.Value) {
	if b.Field != nil && v.Kind() != value.Absent {
		b.names, b.values = append(b.names, name), append(b.values, v)
	}
}

// Append keeps a field; one that is there already becomes a list, as elements do that no schema describes.
func (b *OthersBuilder) Append(name string, v value.Value) {
	for i, n := range b.names {
		if n == name {
			if b.values[i].Kind() == value.ListKind {
				b.values[i] = value.ListOf(append(b.values[i].Items(), v)...)
			} else {
				b.values[i] = value.ListOf(b.values[i], v)
			}
			return
		}
	}
	b.Add(name, v)
}

// Put puts the map among the fields of the record; it is absent where there were none.
func (b *OthersBuilder) Put(fields []value.Value) {
	if len(b.names) > 0 {
		fields[b.Field.slot] = value.NewRecord(value.NewLayout(b.names...), b.values)
	}
}
