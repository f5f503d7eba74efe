package schema

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"unicode"
	"unicode/utf8"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// Write writes the schema as a part file; Parse reads the same schema from it. Settings that stand
// at what holds anyway are left out.
func Write(s *Schema) []byte {
	var o partfile.Ordered
	o.Add("schema", s.Title)
	o.Add("notation", s.Notation.Name)
	o.Add("samples", s.Samples)
	o.Add("not imported", s.NotImported)
	o.Add("notation settings", s.Settings.out())
	o = append(o, s.TopOut()...)
	o.Add("fields", Encode(s.Root.Fields))
	return partfile.Encode(o)
}

// Titled is a name as a title: with a capital, and blanks for what joins its words.
func Titled(name string) string {
	name = strings.NewReplacer("_", " ", "-", " ").Replace(name)
	first, n := utf8.DecodeRuneInString(name)
	if n == 0 {
		return name
	}
	return string(unicode.ToTitle(first)) + name[n:]
}

func (w *Settings) out() partfile.Ordered {
	var o partfile.Ordered
	o.Add("encoding", unless(w.Encoding, "UTF-8"))
	o.Add("line end", unless(w.LineEnd, "any"))
	if w.Characters {
		o.Add("count", "characters")
	}
	o.Add("delimiter", tabbed(unless(w.Delimiter, ",")))
	o.Add("quote", tabbed(unless(w.Quote, `"`)))
	o.Add("escape", w.Escape)
	if !w.Header && w.Delimiter != "" {
		o.Add("header", "false")
	}
	if w.BlankFaults {
		o.Add("blank lines", "faults")
	}
	if w.StrayQuotes {
		o.Add("stray quotes", "kept")
	}
	o.Add("root", w.RootName)
	o.Add("record", w.RecordName)
	namespacesOut(w.Namespaces, &o)
	o.Add("max record bytes", number(w.MaxRecord, 0))
	if w.Attributes {
		o.Add("values as", "attributes")
	}
	o.Add("null as", unless(w.Missing.Null, AsNull))
	o.Add("empty as", unless(w.Missing.Empty, AsEmpty))
	o.Add("absent as", unless(w.Missing.Absent, Omitted))
	o.Add("other fields", unless(string(w.Others), string(IgnoreOthers)))
	if w.NoDoctype {
		o.Add("document type", "refused")
	}
	if w.EscapeNames {
		o.Add("other names", "escaped")
	}
	if w.Ordered {
		o.Add("element order", "as listed")
	}
	o.Add("skip first", number(w.Lines.First, 0))
	o.Add("skip last", number(w.Lines.Last, 0))
	o.Add("comment", w.Lines.Comment)
	o.Add("starts with", w.Lines.StartsWith)
	return o
}

func tabbed(s string) string {
	if s == "\t" {
		return "tab"
	}
	return s
}

func unless(s, def string) string {
	if s == def {
		return ""
	}
	return s
}

// Encode are fields as they stand in a part file.
func Encode(fields []*Field) []partfile.Ordered {
	list := make([]partfile.Ordered, len(fields))
	for i, f := range fields {
		list[i] = f.Out()
	}
	return list
}

// TopOut is what a part says of a message as a whole: how many there are, and what one is where it is no record.
func (s *Schema) TopOut() (o partfile.Ordered) {
	f := s.Root
	if s.Message.List() {
		o.Add("occurs", (&Field{Min: s.Message.Min, Max: s.Message.Max}).Occurs())
	}
	o.Add("other fields", string(f.Others))
	o.Add("content model", f.modelText.Value)
	o.Add("keys", f.KeyTexts())
	if f.Nullable {
		o.Add("nullable", "true")
	}
	if f.Kind == value.RecordKind {
		return o
	}
	o.Add("type", f.Kind.String())
	o.Add("told by", f.ToldBy)
	f.WireFormat.out(f, &o)
	o.Add("constraints", f.Constraints.out(f.Kind))
	return o
}

// Out is the field as it stands in a part file, with all below it.
func (f *Field) Out() partfile.Ordered {
	var o partfile.Ordered
	o.Add("name", f.Name)
	o.Add("type", f.Kind.String())
	o.Add("occurs", unless(f.Occurs(), "1"))
	if f.Nullable {
		o.Add("nullable", "true")
	}
	if f.Single {
		o.Add("single", "true")
	}
	if f.HoldsOthers {
		o.Add("others", "true")
	}
	o.Add("other fields", string(f.Others))
	o.Add("told by", f.ToldBy)
	o.Add("content model", f.modelText.Value)
	o.Add("keys", f.KeyTexts())
	if f.Present {
		o.Add("present", "true")
	}
	f.WireFormat.out(f, &o)
	o.Add("constraints", f.Constraints.out(f.Kind))
	o.Add("notes", f.Notes)
	if o.Add("of", f.Of); f.Of == "" {
		o.Add("fields", Encode(f.Fields))
	}
	return o
}

// Occurs is how often the field occurs, as part files write it: 1, 0..1, 1..n or 2..5.
func (f *Field) Occurs() string {
	switch {
	case f.Max == Many:
		return strconv.Itoa(f.Min) + "..n"
	case f.Min == f.Max:
		return strconv.Itoa(f.Min)
	}
	return strconv.Itoa(f.Min) + ".." + strconv.Itoa(f.Max)
}

func (w *WireFormat) out(f *Field, o *partfile.Ordered) {
	o.Add("columns", w.Columns())
	align, fill := padding(f.Kind)
	if w.Align != "" {
		o.Add("align", unless(w.Align, align))
		o.Add("padding", tabbed(unless(string(w.Padding), fill)))
	}
	o.Add("starts with", w.StartsWith)
	o.Add("discriminator", w.Discriminator)
	o.Add("implied decimals", number(w.ImpliedDecimals, 0))
	if w.Mark != "" {
		o.Add("decimal mark", "comma")
	}
	for name, sign := range groupings {
		if sign != "" && sign == w.Grouping {
			o.Add("grouping", name)
		}
	}
	o.Add("pattern", w.Pattern)
	if w.Hex {
		o.Add("encoding", "hex")
	}
	if w.ZoneOptional {
		o.Add("zone", "optional")
	}
	if w.Attribute {
		o.Add("attribute", "true")
	}
	if w.Content {
		o.Add("content", "true")
	}
	if w.Exponent {
		o.Add("exponent", "allowed")
	}
	if w.InText {
		o.Add("in one text", "true")
	}
	if w.Group {
		o.Add("group", "true")
	}
	o.Add("xml name", w.Name)
	o.Add("white space", w.WhiteSpace)
	o.Add("when empty", w.WhenEmpty)
	o.Add("wildcard", w.Wildcard)
	o.Add("any attribute", w.AnyAttribute)
}

// Columns are the field's columns as part files write them, as 5-12; empty when it has none.
func (w *WireFormat) Columns() string {
	switch {
	case w.From == 0:
		return ""
	case w.From == w.To:
		return strconv.Itoa(w.From)
	}
	return strconv.Itoa(w.From) + "-" + strconv.Itoa(w.To)
}

func number(n, def int) string {
	if n == def {
		return ""
	}
	return strconv.Itoa(n)
}

func (m *Constraints) out(kind value.Kind) partfile.Ordered {
	var o partfile.Ordered
	o.Add("minimum", m.Minimum.String())
	o.Add("maximum", m.Maximum.String())
	o.Add("exclusive minimum", m.Above.String())
	o.Add("exclusive maximum", m.Below.String())
	o.Add("multiple of", m.MultipleOf.String())
	o.Add("min length", number(m.MinLength, 0))
	o.Add("max length", number(m.MaxLength, 0))
	o.Add("min entries", number(m.MinEntries, 0))
	o.Add("max entries", number(m.MaxEntries, 0))
	o.Add("total digits", number(m.TotalDigits, 0))
	if kind == value.Decimal {
		o.Add("fraction digits", number(m.FractionDigits, -1))
	}
	if m.Unique {
		o.Add("unique items", "true")
	}
	o.Add("format", m.Format)
	o.Add("pattern", m.PatternText())
	o.Add("also pattern", m.AlsoTexts())
	var codes partfile.Ordered
	for _, c := range m.Codes {
		codes = append(codes, partfile.Entry{Key: c.Value, Value: partfile.Text{Value: c.Meaning}})
	}
	o.Add("codes", codes)
	return o
}

// PatternText is the pattern as it was written; empty when there is none.
func (m *Constraints) PatternText() string {
	return patternText(m.Pattern)
}

// AlsoTexts are the further patterns as they were written.
func (m *Constraints) AlsoTexts() (texts []string) {
	for _, p := range m.Also {
		texts = append(texts, patternText(p))
	}
	return texts
}

func patternText(p *regexp.Regexp) string {
	if p == nil {
		return ""
	}
	return strings.TrimSuffix(strings.TrimPrefix(p.String(), "^(?:"), ")$")
}

// Like adds a pattern that a text must be like, beside those that there are.
func (m *Constraints) Like(p *regexp.Regexp) {
	if m.Pattern == nil {
		m.Pattern = p
	} else if m.Pattern.String() != p.String() && !slices.ContainsFunc(m.Also, func(o *regexp.Regexp) bool { return o.String() == p.String() }) {
		m.Also = append(m.Also, p)
	}
}
