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

// Fits says whether a message has no fault, where that can be told at one look: a record of single values. False says nothing.
func (s *Schema) Fits(v value.Value) bool {
	r := v.Record()
	f := s.Root
	if r == nil || f.Kind != value.RecordKind || r.Layout != f.layout || f.model != nil || f.keys != nil {
		return false
	}
	for i, kind := range f.kinds {
		if v := r.Fields[i]; v.Kind() != kind || kind == value.Absent {
			if !f.Fields[i].plainly(v) {
				return false
			}
		}
	}
	return true
}

// plainly says whether a value of a single scalar has no fault, where that can be told at one look.
func (f *Field) plainly(v value.Value) bool {
	if v.Kind() == value.Absent {
		return !f.Required()
	}
	return f.Scalar() && !f.List() && v.Kind() == f.Kind && f.Constraints.fault(v) == nil
}

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
	if ft := f.checkItems(items); ft != nil {
		report(ft.At(fault.Place{Path: path}))
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
	case v.Kind() == value.Null && (f.Nullable || !f.List() && f.takesNull()):
	case f.Required():
		report(f.fault(fault.Required, path, "a value", v.Kind().String()))
	case v.Kind() == value.Null:
		report(f.fault(fault.Type, path, f.Kind.String()+" or nothing", "null"))
	}
}

func (f *Field) checkOne(v value.Value, path string, report func(*fault.Fault)) {
	switch f.Kind {
	case value.RecordKind:
		f.checkRecord(v, path, report)
		return
	case value.MapKind:
		f.checkMap(v, path, report)
		return
	case value.ListKind:
		f.Each().check(v, path, report)
		return
	case value.VariantKind:
		f.checkVariant(v, path, report)
		return
	case value.AnyKind:
		return
	}
	if !f.ofKind(v.Kind()) {
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
		f.checkKeys(v, path, report)
		return
	}
	for i, c := range f.Fields {
		if kind := f.kinds[i]; kind != value.Absent && r.Fields[i].Kind() == kind {
			continue
		}
		c.checkUnder(r.Fields[i], path, report)
	}
	f.checkKeys(v, path, report)
	if f.model != nil {
		if ft := f.CheckModel(r); ft != nil {
			ft.Place.Path = path + ft.Place.Path
			report(ft)
		}
	}
}

// CheckModel compares what a record of the field's layout has with its content model.
func (f *Field) CheckModel(r *value.Record) *fault.Fault {
	if f.model == nil {
		return nil
	}
	_, ft := f.Arrange(r)
	return ft
}

// checkUnder builds the path of a child only when there is a fault to report.
func (f *Field) checkUnder(v value.Value, path string, report func(*fault.Fault)) {
	if f.Scalar() && !f.List() && v.Kind() == f.Kind && f.Constraints.fault(v) == nil {
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
	others := f.HeldOthers()
	for i, name := range r.Layout.Names {
		switch {
		case r.Fields[i].Kind() == value.Absent, f.Named(name) != nil, i == r.Layout.Others-1:
		case others != nil:
			others.Each().check(r.Fields[i], path+"/"+Escape(name), report)
		case f.strict:
			report(f.fault(fault.Unknown, path+"/"+Escape(name), "one of "+strings.Join(f.layout.Names, ", "), fault.Quote(name)))
		}
	}
}

// checkMap checks the names of a map, and what stands at each.
func (f *Field) checkMap(v value.Value, path string, report func(*fault.Fault)) {
	r := v.Record()
	if r == nil {
		report(f.fault(fault.Type, path, "a record of names and values", describe(v)))
		return
	}
	n := 0
	for i, name := range r.Layout.Names {
		if r.Fields[i].Kind() == value.Absent {
			continue
		}
		n++
		if ft := f.CheckName(name); ft != nil {
			report(ft.At(fault.Place{Path: path + "/" + Escape(name)}))
		}
		f.Each().check(r.Fields[i], f.under(path, name), report)
	}
	if ft := f.CheckEntries(n); ft != nil {
		report(ft.At(fault.Place{Path: path}))
	}
}

// under is the path of a name in a map; that of a map of other fields is the record's.
func (f *Field) under(path, name string) string {
	if f.HoldsOthers {
		path = path[:strings.LastIndexByte(path, '/')]
	}
	return path + "/" + Escape(name)
}

// CheckName compares a name of a map with what its names must be.
func (f *Field) CheckName(name string) *fault.Fault {
	if ft := f.Constraints.textFault(name); ft != nil {
		ft.Expected = "a name: " + ft.Expected
		return f.LocateFault(ft)
	}
	return nil
}

// CheckEntries compares the number of a map's entries with what it may be.
func (f *Field) CheckEntries(n int) *fault.Fault {
	m := &f.Constraints
	switch {
	case n < m.MinEntries:
		return f.fault(fault.Length, "", "at least "+counted(m.MinEntries, "entry", "entries"), strconv.Itoa(n))
	case m.MaxEntries > 0 && n > m.MaxEntries:
		return f.fault(fault.Length, "", "at most "+counted(m.MaxEntries, "entry", "entries"), strconv.Itoa(n))
	}
	return nil
}

func (f *Field) checkVariant(v value.Value, path string, report func(*fault.Fault)) {
	b, ft := f.Branch(v)
	if ft != nil {
		report(ft.At(fault.Place{Path: path}))
		return
	}
	if ft := f.Alone(b, v); ft != nil {
		report(ft.At(fault.Place{Path: path}))
		return
	}
	b.check(v, path, report)
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

// ofKind says whether a single value of a kind can stand for the field.
func (f *Field) ofKind(kind value.Kind) bool {
	return kind == f.Kind || f.Kind == value.Decimal && kind == value.Integer || f.WireFormat.ZoneOptional && kind == unzoned[f.Kind]
}

// CheckOne compares one occurrence of a single value with its type and constraints; readers that
// check while they read use it, since they know the place. Records and missing values pass.
func (f *Field) CheckOne(v value.Value) *fault.Fault {
	switch {
	case v.IsMissing() || !f.Scalar():
		return nil
	case !f.ofKind(v.Kind()):
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
	if f.List() && v.Kind() == value.ListKind {
		return f.checkItems(v.Items())
	}
	return nil
}

// checkItems compares the items of a list with how many there may be, and with each other where they must differ.
func (f *Field) checkItems(items []value.Value) *fault.Fault {
	n := len(items)
	if n < f.Min || f.Max != Many && n > f.Max {
		return f.fault(fault.Length, "", f.occursText(), count(n, "time"))
	}
	if f.Kind != value.MapKind {
		if ft := f.CheckEntries(n); ft != nil {
			return ft
		}
	}
	if i, j := f.equalItems(items); j > 0 {
		return f.fault(fault.Unknown, "", "items that differ", "two that are equal, at "+strconv.Itoa(i)+" and "+strconv.Itoa(j))
	}
	return nil
}

// equalItems finds the first two items that are equal, where they must differ; j is 0 when there are none.
func (f *Field) equalItems(items []value.Value) (i, j int) {
	if !f.Constraints.Unique {
		return 0, 0
	}
	seen := make(map[string]int, len(items))
	for j, item := range items {
		key, single := value.Key(item)
		if single {
			if i, twice := seen[key]; twice {
				return i, j
			}
			seen[key] = j
			continue
		}
		for i := range j {
			if value.Equal(items[i], item) {
				return i, j
			}
		}
	}
	return 0, 0
}

// takesNull says whether one occurrence may be null by its type.
func (f *Field) takesNull() bool {
	switch f.Kind {
	case value.Null, value.AnyKind:
		return true
	case value.VariantKind:
		for _, b := range f.Fields {
			if b.Nullable || b.takesNull() {
				return true
			}
		}
	}
	return false
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
	case value.Binary:
		return m.lengthFault(len(v.Text()), "byte")
	case value.Integer, value.Decimal:
		if ft := m.digitsFault(v); ft != nil {
			return ft
		}
	}
	if len(m.Codes) > 0 && !m.codeOf(v) {
		return fault.Expect(fault.Pattern, m.CodeText(), v.String())
	}
	return nil
}

// codeOf says whether a value that is no text is one of the codes.
func (m *Constraints) codeOf(v value.Value) bool {
	for _, c := range m.Codes {
		if code, ok := ParseScalar(v.Kind(), c.Value); ok && value.Equal(code, v) {
			return true
		}
		if v.Kind().Numeric() && value.Equal(value.Number(c.Value), v) {
			return true
		}
	}
	return false
}

func less(a, b value.Value) bool {
	c, err := value.Compare(a, b)
	return err == nil && c < 0
}

// lengthFault compares a length in a unit with what it may be.
func (m *Constraints) lengthFault(n int, unit string) *fault.Fault {
	switch {
	case n < m.MinLength:
		return fault.Expect(fault.Length, "at least "+count(m.MinLength, unit), strconv.Itoa(n))
	case m.MaxLength > 0 && n > m.MaxLength:
		return fault.Expect(fault.Length, "at most "+count(m.MaxLength, unit), strconv.Itoa(n))
	}
	return nil
}

func (m *Constraints) textFault(s string) *fault.Fault {
	if m.MinLength > 0 || m.MaxLength > 0 {
		if ft := m.lengthFault(utf8.RuneCountInString(s), "character"); ft != nil {
			return ft
		}
	}
	if m.Pattern != nil && !m.Pattern.MatchString(s) {
		return fault.Expect(fault.Pattern, "text like "+m.PatternText(), fault.Quote(s))
	}
	for _, p := range m.Also {
		if !p.MatchString(s) {
			return fault.Expect(fault.Pattern, "text like "+patternText(p), fault.Quote(s))
		}
	}
	if m.Format != "" {
		if ft := formatFault(m.Format, s); ft != nil {
			return ft
		}
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
	if m.Above.Kind() != value.Absent && !less(m.Above, v) {
		return fault.Expect(fault.Range, "more than "+m.Above.String(), v.String())
	}
	if m.Below.Kind() != value.Absent && !less(v, m.Below) {
		return fault.Expect(fault.Range, "less than "+m.Below.String(), v.String())
	}
	if m.MultipleOf.Kind() != value.Absent {
		if rest, err := value.Mod(v, m.MultipleOf); err != nil || value.Sign(rest) != 0 {
			return fault.Expect(fault.Range, "a multiple of "+m.MultipleOf.String(), v.String())
		}
	}
	if m.TotalDigits > 0 && max(value.Digits(v), value.Scale(v)) > m.TotalDigits && digits(value.Reduced(v)) > m.TotalDigits {
		return fault.Expect(fault.Length, "at most "+count(m.TotalDigits, "digit"), v.String())
	}
	if m.FractionDigits >= 0 && v.Kind() == value.Decimal && value.Scale(v) > m.FractionDigits && value.Scale(value.Reduced(v)) > m.FractionDigits {
		return fault.Expect(fault.Length, "at most "+count(m.FractionDigits, "decimal place"), v.String())
	}
	return nil
}

// digits are those of a number in decimal notation without a zero before the point (XML Schema 1.0, part 2, section 4.3.11).
func digits(v value.Value) int { return max(value.Digits(v), value.Scale(v)) }

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
	for _, b := range []struct {
		sign string
		v    value.Value
	}{{"> ", m.Above}, {"< ", m.Below}, {"multiple of ", m.MultipleOf}} {
		if b.v.Kind() != value.Absent {
			parts = append(parts, b.sign+b.v.String())
		}
	}
	if m.MinEntries > 0 || m.MaxEntries > 0 {
		parts = append(parts, m.entriesText())
	}
	if m.Format != "" {
		parts = append(parts, m.Format)
	}
	if m.Unique {
		parts = append(parts, "no two alike")
	}
	if m.MinLength > 0 || m.MaxLength > 0 {
		parts = append(parts, fmt.Sprintf("%d … %d characters", m.MinLength, m.MaxLength))
	}
	if m.Pattern != nil {
		parts = append(parts, m.PatternText())
	}
	for _, p := range m.AlsoTexts() {
		parts = append(parts, "and "+p)
	}
	if len(m.Codes) > 0 {
		parts = append(parts, m.CodeText())
	}
	if m.FractionDigits >= 0 {
		parts = append(parts, "at most "+count(m.FractionDigits, "place"))
	}
	return strings.Join(parts, ", ")
}

func (m *Constraints) entriesText() string {
	if m.MaxEntries == 0 {
		return "at least " + counted(m.MinEntries, "entry", "entries")
	}
	return fmt.Sprintf("%d … %d entries", m.MinEntries, m.MaxEntries)
}

// counted is count for a word whose plural is irregular.
func counted(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + many
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
