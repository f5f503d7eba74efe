package schema

import (
	"strconv"
	"strings"

	"hollowreed/internal/core/value"
)

// Below is what stands in a value of the field for one of those below it: of a list the first item, of a map what stands at its
// first name, of a variant the value where it is that branch.
func (f *Field) Below(c *Field, v value.Value) value.Value {
	if f.List() && v.Kind() == value.ListKind {
		v = firstOf(v)
	}
	switch f.Kind {
	case value.ListKind:
		return v
	case value.MapKind:
		if r := v.Record(); r != nil && len(r.Fields) > 0 {
			return r.Fields[0]
		}
		return value.Value{}
	case value.VariantKind:
		if b, ft := f.Branch(v); ft != nil || b != c {
			return value.Value{}
		}
		return v
	}
	return v.Field(c.Name)
}

// Within is what stands at a path of names below a field, as Below has it.
func (f *Field) Within(v value.Value, path ...string) value.Value {
	for _, name := range path {
		c := f.Field(name)
		if c == nil {
			return value.Value{}
		}
		f, v = c, f.Below(c, v)
	}
	return v
}

func firstOf(v value.Value) value.Value {
	if items := v.Items(); len(items) > 0 {
		return items[0]
	}
	return value.Value{}
}

// mostNames bounds the names of a map that a summary lists.
const mostNames = 4

// Summary tells in a few words what a value of the field is, where it is no single one: how many items or entries, which branch.
func (f *Field) Summary(v value.Value) string {
	switch r := v.Record(); {
	case v.IsMissing():
		return ""
	case v.Kind() == value.ListKind:
		return counted(len(v.Items()), "item", "items")
	case f.Kind == value.MapKind && r != nil:
		names := r.Layout.Names
		if len(names) > mostNames {
			return strconv.Itoa(len(names)) + " entries: " + strings.Join(names[:mostNames], ", ") + " …"
		}
		return counted(len(names), "entry", "entries") + ": " + strings.Join(names, ", ")
	case f.Kind == value.VariantKind:
		if b, ft := f.Branch(v); ft == nil {
			return b.Name
		}
	case f.Kind == value.AnyKind && r != nil:
		return "record"
	}
	return ""
}
