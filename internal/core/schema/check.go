package schema

import (
	"cmp"
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
)

// Check compares a message with the schema and reports every fault, each with its path in the
// message. Good input costs no allocation.
func (s *Schema) Check(v value.Value, report func(*fault.Fault)) { s.Root.check(v, "", report) }

// CheckField compares one value with the field.
func (f *Field) CheckField(v value.Value, report func(*fault.Fault)) { f.check(v, "", report) }

func (f *Field) check(v value.Value, path string, report func(*fault.Fault)) {
	if v.IsMissing() {
		f.checkMissing(v, path, report)
		return
	}
	if !f.List() {
		f.checkOne(v, path, report)
		return
	}
	if v.Kind() != value.ListKind {
		report(f.fault(fault.Type, path, "a list", describe(v)))
		return
	}
	items := v.Items()
	if len(items) < f.Min || f.Max != Many && len(items) > f.Max {
		report(f.fault(fault.Length, path, f.occursText(), count(len(items), "time")))
	}
	for i, item := range items {
		f.checkItem(item, path, i, report)
	}
}

func (f *Field) checkItem(item value.Value, path string, i int, report func(*fault.Fault)) {
	f.checkOne(item, "", func(ft *fault.Fault) {
		ft.Place.Path = path + "/" + strconv.Itoa(i) + ft.Place.Path
		report(ft)
	})
}

func (f *Field) checkMissing(v value.Value, path string, report func(*fault.Fault)) {
	switch {
	case v.Kind() == value.Null && f.Nullable:
	case f.Min > 0:
		report(f.fault(fault.Required, path, "a value", v.Kind().String()))
	case v.Kind() == value.Null:
		report(f.fault(fault.Type, path, f.Kind.String()+" or nothing", "null"))
	}
}

func (f *Field) checkOne(v value.Value, path string, report func(*fault.Fault)) {
	if f.Kind == value.RecordKind {
		f.checkRecord(v, path, report)
		return
	}
	if v.Kind() != f.Kind && !(f.Kind == value.Decimal && v.Kind() == value.Integer) {
		report(f.fault(fault.Type, path, f.Kind.String(), describe(v)))
		return
	}
	if ft := f.Constraints.fault(v); ft != nil {
		report(f.LocateFault(ft).At(fault.Place{Path: path}))
	}
}

func (f *Field) checkRecord(v value.Value, path string, report func(*fault.Fault)) {
	r := v.Record()
	if r == nil {
		report(f.fault(fault.Type, path, "a record", describe(v)))
		return
	}
	if r.Layout != f.layout {
		f.checkForeign(r, path, report)
		return
	}
	for i, c := range f.Fields {
		if c.free && r.Fields[i].Kind() == c.Kind {
			continue
		}
		c.checkUnder(r.Fields[i], path, report)
	}
}

// checkUnder builds the path of a child only when there is a fault to report.
func (f *Field) checkUnder(v value.Value, path string, report func(*fault.Fault)) {
	if f.Kind != value.RecordKind && !f.List() && v.Kind() == f.Kind && f.Constraints.fault(v) == nil {
		return
	}
	f.check(v, path+"/"+Escape(f.Name), report)
}

func (f *Field) checkForeign(r *value.Record, path string, report func(*fault.Fault)) {
	for _, c := range f.Fields {
		v := value.Value{}
		if i := r.Layout.Slot(c.Name); i >= 0 {
			v = r.Fields[i]
		}
		c.checkUnder(v, path, report)
	}
	for i, name := range r.Layout.Names {
		if f.Field(name) == nil && r.Fields[i].Kind() != value.Absent {
			report(f.fault(fault.Unknown, path+"/"+Escape(name), "one of "+strings.Join(f.layout.Names, ", "), fault.Quote(name)))
		}
	}
}

func (f *Field) fault(code fault.Code, path, expected, found string) *fault.Fault {
	return f.LocateFault(fault.Expect(code, expected, found)).At(fault.Place{Path: path})
}

// Part is the part in whose text the field is described: its schema's, or that of the schema from which it is taken.
func (f *Field) Part() string { return cmp.Or(f.Source, f.part) }

// LocateFault names the field in a fault, and the place in the schema's part that describes it.
func (f *Field) LocateFault(ft *fault.Fault) *fault.Fault {
	ft.Field = f.Name
	return f.Asking(ft)
}

// Asking names in a fault the place in the schema's part that describes the field, where it is not the field itself that is
// wrong: what stands beside it, or a line as a whole.
func (f *Field) Asking(ft *fault.Fault) *fault.Fault {
	ft.Rule = fault.Place{Source: f.Part(), Line: f.At.Line, Column: f.At.Column}
	return ft
}

// CheckOne compares one occurrence of a single value with its type and constraints; readers that
// check while they read use it, since they know the place. Records and missing values pass.
func (f *Field) CheckOne(v value.Value) *fault.Fault {
	switch {
	case v.IsMissing() || f.Kind == value.RecordKind:
		return nil
	case v.Kind() != f.Kind && !(f.Kind == value.Decimal && v.Kind() == value.Integer):
		return f.fault(fault.Type, "", f.Kind.String(), describe(v))
	}
	if ft := f.Constraints.fault(v); ft != nil {
		return f.LocateFault(ft)
	}
	return nil
}

// CheckOccurs compares all that stands for the field in one record with how often it must be there.
func (f *Field) CheckOccurs(v value.Value) (ft *fault.Fault) {
	if v.IsMissing() {
		f.checkMissing(v, "", func(found *fault.Fault) { ft = found })
		return ft
	}
	if n := len(v.Items()); f.List() && v.Kind() == value.ListKind && (n < f.Min || f.Max != Many && n > f.Max) {
		return f.fault(fault.Length, "", f.occursText(), count(n, "time"))
	}
	return nil
}

// Escape writes a name as a reference token of a JSON Pointer (RFC 6901).
func Escape(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

func describe(v value.Value) string {
	switch v.Kind() {
	case value.Text:
		return "the text " + fault.Quote(v.Text())
	case value.RecordKind, value.ListKind:
		return "a " + v.Kind().String()
	}
	return v.Kind().String() + " " + v.String()
}

func (f *Field) occursText() string {
	if f.Max == Many {
		return fmt.Sprintf("at least %d occurrences", f.Min)
	}
	return fmt.Sprintf("%d to %d occurrences", f.Min, f.Max)
}

func (m *Constraints) fault(v value.Value) *fault.Fault {
	if m.Minimum.Kind() != value.Absent && less(v, m.Minimum) {
		return fault.Expect(fault.Range, "at least "+m.Minimum.String(), v.String())
	}
	if m.Maximum.Kind() != value.Absent && less(m.Maximum, v) {
		return fault.Expect(fault.Range, "at most "+m.Maximum.String(), v.String())
	}
	switch v.Kind() {
	case value.Text:
		return m.textFault(v.Text())
	case value.Integer, value.Decimal:
		return m.digitsFault(v)
	}
	return nil
}

func less(a, b value.Value) bool {
	c, err := value.Compare(a, b)
	return err == nil && c < 0
}

func (m *Constraints) textFault(s string) *fault.Fault {
	if m.MinLength > 0 || m.MaxLength > 0 {
		n := utf8.RuneCountInString(s)
		if n < m.MinLength {
			return fault.Expect(fault.Length, "at least "+count(m.MinLength, "character"), strconv.Itoa(n))
		}
		if m.MaxLength > 0 && n > m.MaxLength {
			return fault.Expect(fault.Length, "at most "+count(m.MaxLength, "character"), strconv.Itoa(n))
		}
	}
	if m.Pattern != nil && !m.Pattern.MatchString(s) {
		return fault.Expect(fault.Pattern, "text like "+m.PatternText(), fault.Quote(s))
	}
	for _, c := range m.Codes {
		if c.Value == s {
			return nil
		}
	}
	if len(m.Codes) > 0 {
		return fault.Expect(fault.Pattern, m.CodeText(), fault.Quote(s))
	}
	return nil
}

func (m *Constraints) digitsFault(v value.Value) *fault.Fault {
	if m.TotalDigits > 0 && value.Digits(v) > m.TotalDigits {
		return fault.Expect(fault.Length, "at most "+count(m.TotalDigits, "digit"), v.String())
	}
	if m.FractionDigits >= 0 && v.Kind() == value.Decimal && value.Scale(v) > m.FractionDigits {
		return fault.Expect(fault.Length, "at most "+count(m.FractionDigits, "decimal place"), v.String())
	}
	return nil
}

// CodeText lists the codes for a person: R rising · F falling.
func (m *Constraints) CodeText() string {
	parts := make([]string, len(m.Codes))
	for i, c := range m.Codes {
		parts[i] = strings.TrimSpace(c.Value + " " + c.Meaning)
	}
	return strings.Join(parts, " · ")
}

// Text describes the constraints for a person; empty when there are none.
func (m *Constraints) Text() string {
	var parts []string
	low, high := m.Minimum.Kind() != value.Absent, m.Maximum.Kind() != value.Absent
	switch {
	case low && high:
		parts = append(parts, m.Minimum.String()+" … "+m.Maximum.String())
	case low:
		parts = append(parts, "≥ "+m.Minimum.String())
	case high:
		parts = append(parts, "≤ "+m.Maximum.String())
	}
	if m.MinLength > 0 || m.MaxLength > 0 {
		parts = append(parts, fmt.Sprintf("%d … %d characters", m.MinLength, m.MaxLength))
	}
	if m.Pattern != nil {
		parts = append(parts, m.PatternText())
	}
	if len(m.Codes) > 0 {
		parts = append(parts, m.CodeText())
	}
	if m.FractionDigits >= 0 {
		parts = append(parts, "at most "+count(m.FractionDigits, "place"))
	}
	return strings.Join(parts, ", ")
}

func count(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return strconv.Itoa(n) + " " + what + "s"
}

// PlainPath is the path of a fault without positions in lists, as rules write it.
func PlainPath(path string) string {
	var names []string
	for part := range strings.SplitSeq(strings.Trim(path, "/"), "/") {
		if _, err := strconv.Atoi(part); err != nil {
			names = append(names, part)
		}
	}
	return strings.Join(names, "/")
}
