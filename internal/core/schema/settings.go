package schema

import (
	"slices"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// The settings of how messages are written that more than one notation has. A notation lists those that it has, and others of
// its own.
var (
	EncodingSetting   = setting.Setting{Name: "encoding", Label: "Encoding", Type: setting.Choice, Choices: []string{"UTF-8", "ISO-8859-1", "windows-1252"}, Default: "UTF-8"}
	LineEndSetting    = setting.Setting{Name: "line end", Label: "Records end in", Type: setting.Choice, Choices: []string{"any", "CRLF", "LF", "CR"}, Default: "any"}
	CountSetting      = setting.Setting{Name: "count", Label: "Columns count", Type: setting.Choice, Choices: []string{"bytes", "characters"}, Default: "bytes"}
	FirstSetting      = setting.Setting{Name: "skip first", Label: "Lines to skip first", Type: setting.Number, Greatest: maxSkipped, Hint: "0"}
	LastSetting       = setting.Setting{Name: "skip last", Label: "Lines to skip last", Type: setting.Number, Greatest: maxSkipped, Hint: "0"}
	CommentSetting    = setting.Setting{Name: "comment", Label: "Comments begin with", Type: setting.Text, Hint: "none"}
	StartsWithSetting = setting.Setting{Name: "starts with", Label: "Records begin with", Type: setting.Text, Hint: "anything"}
	MaxRecordSetting  = setting.Setting{Name: "max record bytes", Label: "Record size at most (bytes)", Type: setting.Number, Greatest: MaxRecord, Hint: "16777216"}

	HeaderSetting    = setting.Setting{Name: "header", Label: "First record holds names", Type: setting.Flag, Default: "true"}
	DelimiterSetting = setting.Setting{Name: "delimiter", Label: "Delimiter", Type: setting.Character, Default: ",", Suggested: []string{",", ";", "tab", "|"}}
	QuoteSetting     = setting.Setting{Name: "quote", Label: "Quote", Type: setting.Character, Default: `"`}
	EscapeSetting    = setting.Setting{Name: "escape", Label: "Escape inside of quotes", Type: setting.Character, Hint: "a quote is doubled"}
	BlankSetting     = setting.Setting{Name: "blank lines", Label: "Blank lines are", Type: setting.Choice, Choices: []string{"skipped", "faults"}, Default: "skipped", Help: "Skipped and counted, or faults. Where a record has one field only, a blank line is a record"}
	StraySetting     = setting.Setting{Name: "stray quotes", Label: "Quotes inside of fields are", Type: setting.Choice, Choices: []string{"faults", "kept"}, Default: "faults", Help: "What stands in a field that is not quoted as a whole"}

	RootSetting       = setting.Setting{Name: "root", Label: "Root element", Type: setting.Text, Hint: "any"}
	RecordSetting     = setting.Setting{Name: "record", Label: "Element of one record", Type: setting.Text, Hint: "the root is the record", Help: "A list of records becomes a root with one such element for each; taken away again on the way back"}
	NamespacesSetting = setting.Setting{Name: "namespaces", Label: "Namespaces, one a line", Type: setting.Lines, Hint: "ev urn:skerry:event", Help: "A prefix of names and what it stands for; alone, for names without one"}
	ValuesAsSetting   = setting.Setting{Name: "values as", Label: "Single values as", Type: setting.Choice, Choices: []string{"elements", "attributes"}, Default: "elements"}

	NullAsSetting  = setting.Setting{Name: "null as", Label: "Null as", Type: setting.Choice, Choices: []string{AsNull, AsEmpty, Omitted}, Default: AsNull}
	EmptyAsSetting = setting.Setting{Name: "empty as", Label: "Empty as", Type: setting.Choice, Choices: []string{AsEmpty, AsNull, Omitted}, Default: AsEmpty}
	OthersSetting  = setting.Setting{Name: "other fields", Label: "Fields that the schema lacks", Type: setting.Choice, Choices: []string{string(IgnoreOthers), string(FaultOthers)}, Default: string(IgnoreOthers), Help: "Passed over and counted, or a fault. A map that holds other fields keeps them"}
	DoctypeSetting = setting.Setting{Name: "document type", Label: "Document type declarations", Type: setting.Choice, Choices: []string{"accepted", "refused"}, Default: "accepted", Help: "Of one that is accepted only what it declares itself is read; nothing is fetched"}
	// OtherNamesSetting is what becomes of names in XML that XML does not allow.
	OtherNamesSetting = setting.Setting{Name: "other names", Label: "Names that XML does not allow", Type: setting.Choice, Choices: []string{"faults", "escaped"}, Default: "faults", Help: "Escaped as in SQL/XML: a blank is _x0020_"}
	OrderSetting      = setting.Setting{Name: "element order", Label: "Elements stand", Type: setting.Choice, Choices: []string{"in any order", "as listed"}, Default: "in any order", Help: "Of records that have no content model of their own"}
	// KeysSetting are the keys of a record; MessageKeysSetting those of the message as a whole.
	KeysSetting        = keysSetting("keys")
	MessageKeysSetting = keysSetting("message keys")
	AbsentAsSetting    = setting.Setting{Name: "absent as", Label: "Absent as", Type: setting.Choice, Choices: []string{Omitted, AsNull}, Default: Omitted}
)

func keysSetting(name string) setting.Setting {
	return setting.Setting{
		Name: name, Label: "Keys, one a line", Type: setting.Lines, Wide: true, Hint: "line lines/line by no",
		Help: "A name, and entries below by the values that tell them apart. With \"if present\" behind it they may be missing; with \"among lines/line by no\" they are those of other entries",
	}
}

// common are the settings above that stand in a part as they are; a schema keeps those that only another notation has.
var common = setting.List{
	EncodingSetting, LineEndSetting, CountSetting, FirstSetting, LastSetting, CommentSetting, StartsWithSetting, MaxRecordSetting,
	HeaderSetting, DelimiterSetting, QuoteSetting, EscapeSetting, BlankSetting, StraySetting, RootSetting, RecordSetting, ValuesAsSetting, NullAsSetting, EmptyAsSetting, AbsentAsSetting, OthersSetting, OrderSetting, DoctypeSetting, OtherNamesSetting,
}

// allSettings are the settings that a part of a notation may have.
func (n *Notation) allSettings() setting.List {
	list := slices.Clip(common)
	for _, s := range n.Settings {
		if s.Name != NamespacesSetting.Name && list.Find(s.Name) == nil {
			list = append(list, s)
		}
	}
	return list
}

// settingsOf are the settings as readers and writers ask for them.
func settingsOf(v setting.Values) Settings {
	return Settings{
		Encoding: v.Get("encoding"), LineEnd: v.Get("line end"), Characters: v.Get("count") == "characters", MaxRecord: v.Int("max record bytes"),
		Delimiter: character(v.Get("delimiter")), Quote: character(v.Get("quote")), Escape: character(v.Get("escape")), Header: v.Is("header"),
		BlankFaults: v.Get("blank lines") == "faults", StrayQuotes: v.Get("stray quotes") == "kept",
		RootName: v.Get("root"), RecordName: v.Get("record"), Attributes: v.Get("values as") == "attributes",
		Missing: Missing{Null: v.Get("null as"), Empty: v.Get("empty as"), Absent: v.Get("absent as")}, Others: Others(unless(v.Get("other fields"), string(IgnoreOthers))), Ordered: v.Get("element order") == "as listed",
		NoDoctype: v.Get("document type") == "refused", EscapeNames: v.Get("other names") == "escaped",
		Lines: Lines{First: v.Int("skip first"), Last: v.Int("skip last"), Comment: v.Get("comment"), StartsWith: v.Get("starts with")},
	}
}

// character is the character that a setting names.
func character(text string) string {
	if text == "tab" {
		return "\t"
	}
	return text
}

// FieldSettings are the settings of a field: what every field has, how the notation writes it, and what it must be.
func (s *Schema) FieldSettings(f *Field) setting.List {
	list := setting.List{
		{Name: "type", Label: "Type", Type: setting.Choice, Choices: s.types(), Redraw: true},
		{Name: "occurs", Label: "Occurs", Type: setting.Text, Hint: "1", Suggested: []string{"1", "0..1", "1..n", "0..n"}},
		{Name: "nullable", Label: "Null is allowed", Type: setting.Flag},
	}
	if s.Notation.Field != nil {
		list = append(list, s.Notation.Field(s, f)...)
	}
	list = append(list, nesting(f)...)
	list = append(list, constraints(f)...)
	if f.Kind == value.RecordKind && !s.Notation.Lines {
		list = append(list, setting.Setting{Name: "of", Label: "Fields of schema", Type: setting.Part, Of: "schema", None: "its own", Redraw: true, Wide: true})
	}
	return append(list, setting.Setting{Name: "notes", Label: "Notes", Type: setting.Lines})
}

func (s *Schema) types() []string {
	if s.Notation.Tree {
		return types
	}
	return flat
}

// types are the names of the types that a field can have.
var types = []string{"text", "integer", "decimal", "boolean", "date", "time", "timestamp", "local timestamp", "zoned time", "year-month", "duration", "binary", "record", "map", "list", "variant", "any", "null"}

// flat are the types of notations whose records hold no others.
var flat = types[:13]

// nesting are the settings of a field that others stand below.
func nesting(f *Field) (list setting.List) {
	switch f.Kind {
	case value.RecordKind:
		list = setting.List{{Name: "other fields", Label: "Fields that it lacks", Type: setting.Choice, Choices: []string{"", string(IgnoreOthers), string(FaultOthers)}, Hint: "as the schema says"}, KeysSetting}
	case value.VariantKind:
		list = setting.List{{Name: "told by", Label: "Told by", Type: setting.Text, Hint: "the first branch that fits", Help: "A field that every branch has, with codes; in XML also xsi:type; or that only one fits", Suggested: []string{TypeAttribute, OnlyOne}}}
	case value.MapKind:
		if !f.List() {
			list = setting.List{{Name: "others", Label: "Holds the fields that the record lacks", Type: setting.Flag}}
		}
	}
	return list
}

// constraints are the settings of what a field must be, as its type has them.
func constraints(f *Field) (list setting.List) {
	if f.Kind.Numeric() || f.Temporal() {
		list = append(list, setting.Setting{Name: "minimum", Label: "Minimum", Type: setting.Text, Hint: "any"}, setting.Setting{Name: "maximum", Label: "Maximum", Type: setting.Text, Hint: "any"})
	}
	if f.Kind.Numeric() {
		list = append(list,
			setting.Setting{Name: "exclusive minimum", Label: "More than", Type: setting.Text, Hint: "anything"}, setting.Setting{Name: "exclusive maximum", Label: "Less than", Type: setting.Text, Hint: "anything"},
			setting.Setting{Name: "multiple of", Label: "Multiple of", Type: setting.Text, Hint: "anything"})
	}
	if f.List() {
		list = append(list, setting.Setting{Name: "unique items", Label: "No two items are equal", Type: setting.Flag})
	}
	if f.Kind == value.Decimal {
		list = append(list, setting.Setting{Name: "total digits", Label: "Total digits", Type: setting.Number, Hint: "any"}, setting.Setting{Name: "fraction digits", Label: "Decimal places", Type: setting.Number, Hint: "any"})
	}
	if f.Kind == value.MapKind {
		list = append(list, setting.Setting{Name: "min entries", Label: "Entries at least", Type: setting.Number, Hint: "0"}, setting.Setting{Name: "max entries", Label: "Entries at most", Type: setting.Number, Hint: "any"},
			setting.Setting{Name: "pattern", Label: "Pattern of names", Type: setting.Text, Wide: true, Hint: "[A-Z]{3}"})
	}
	if f.Kind == value.Binary {
		list = append(list, setting.Setting{Name: "min length", Label: "Bytes at least", Type: setting.Number, Hint: "0"}, setting.Setting{Name: "max length", Label: "Bytes at most", Type: setting.Number, Hint: "any"})
	}
	if f.Kind == value.Text {
		list = append(list,
			setting.Setting{Name: "min length", Label: "Minimum length", Type: setting.Number, Hint: "0"}, setting.Setting{Name: "max length", Label: "Maximum length", Type: setting.Number, Hint: "any"},
			setting.Setting{Name: "pattern", Label: "Pattern", Type: setting.Text, Wide: true, Hint: "[A-Z]{2}[0-9]+"},
			setting.Setting{Name: "also pattern", Label: "And like each of these patterns, one a line", Type: setting.Lines},
			setting.Setting{Name: "format", Label: "Format", Type: setting.Choice, Choices: append([]string{""}, Formats()...), Hint: "any text"},
			setting.Setting{Name: "codes", Label: "Codes, one a line with its meaning", Type: setting.Lines, Hint: "R rising"})
	}
	return list
}

// Temporal says whether the field is a date, a time or a timestamp.
func (f *Field) Temporal() bool {
	return f.Kind == value.Date || f.Kind == value.Time || f.Kind == value.Timestamp
}

// DateSettings are how a date is written as text.
func DateSettings(f *Field) (list setting.List) {
	if f.Kind == value.Binary {
		list = append(list, setting.Setting{Name: "encoding", Label: "Written as", Type: setting.Choice, Choices: []string{"base64", "hex"}, Default: "base64"})
	}
	if f.Kind == value.Timestamp || f.Kind == value.Time {
		list = append(list, setting.Setting{Name: "zone", Label: "A zone", Type: setting.Choice, Choices: []string{"", "optional"}, Hint: map[bool]string{true: "must be there", false: "is not there"}[f.Kind == value.Timestamp]})
	}
	if f.Temporal() {
		list = append(list, setting.Setting{Name: "date pattern", Label: "Written as", Type: setting.Text, Wide: true, Hint: "standard form, as 2031-03-09"})
	}
	return list
}

// NumberSettings are how a number is written as text.
func NumberSettings(f *Field) (list setting.List) {
	if f.Kind == value.Decimal {
		list = append(list, setting.Setting{Name: "decimal mark", Label: "Decimal mark", Type: setting.Choice, Choices: []string{"point", "comma"}, Default: "point", Help: "1234.5 or 1234,5"})
	}
	if f.Kind.Numeric() {
		list = append(list, setting.Setting{Name: "grouping", Label: "Groups of digits", Type: setting.Choice, Choices: []string{"none", "point", "comma", "space", "no-break space", "apostrophe"}, Default: "none"})
	}
	return list
}

// LineSettings are how lines of several types are told apart: those of a record inside by how they begin, or by a field that marks
// them.
func LineSettings(s *Schema, f *Field) setting.List {
	switch {
	case f.Kind == value.RecordKind:
		return setting.List{{Name: "starts with", Label: "Its lines begin with", Type: setting.Text, Wide: true, Hint: "the field that marks them"}}
	case s.Nested():
		return setting.List{{Name: "discriminator", Label: "Discriminator: lines with this value here", Type: setting.Text, Wide: true, Hint: "nothing"}}
	}
	return nil
}

// PlaceSettings are where a single value stands in a document of elements.
func PlaceSettings(f *Field) setting.List {
	if !f.Scalar() && !f.WireFormat.InText || f.List() {
		return nil
	}
	return setting.List{{Name: "place", Label: "In XML it is", Type: setting.Choice, Choices: Places, Default: Places[0], Wide: true}}
}

// ElementSettings are how a field stands among the elements of its record.
func ElementSettings(f *Field) setting.List {
	list := setting.List{{Name: "xml name", Label: "Name in XML", Type: setting.Text, Hint: f.Name}}
	if f.Kind == value.Decimal {
		list = append(list, setting.Setting{Name: "exponent", Label: "An exponent", Type: setting.Choice, Choices: []string{"none", "allowed"}, Default: "none", Help: "1.5E3 for 1500"})
	}
	if f.Scalar() && !f.WireFormat.Attribute {
		list = append(list, setting.Setting{Name: "when empty", Label: "An empty element is", Type: setting.Text, Hint: "empty"})
	}
	if f.Kind == value.ListKind && f.Each().Scalar() {
		list = append(list, setting.Setting{Name: "in one text", Label: "Its values stand in one text", Type: setting.Flag, Redraw: true, Help: "With blanks between them; otherwise each is an element"})
	}
	if f.Kind == value.RecordKind {
		list = append(list,
			setting.Setting{Name: "content model", Label: "Content model", Type: setting.Text, Wide: true, Hint: "id, (card | transfer), line+", Help: "The order of the elements: , for this order, | for one of them, & for any order, and ? * + or {2,5} for how often"},
			setting.Setting{Name: "group", Label: "No element of its own", Type: setting.Flag, Help: "Its elements stand in that of the record around it"})
	}
	return list
}

// Places are where a single value can stand in a document of elements.
var Places = []string{"an element", "an attribute", "the element's text"}

// ColumnSettings are how a field stands in its columns.
func ColumnSettings(f *Field) setting.List {
	if f.Kind == value.RecordKind {
		return nil
	}
	list := setting.List{{Name: "columns", Label: "Columns", Type: setting.Text, Hint: "5-12"}}
	if f.Temporal() {
		return list
	}
	align, fill := padding(f.Kind)
	if fill == " " {
		fill = "spaces"
	}
	list = append(list, setting.Setting{Name: "align", Label: "Aligned", Type: setting.Choice, Choices: []string{align, other(align)}, Default: align},
		setting.Setting{Name: "padding", Label: "Padding", Type: setting.Character, Hint: fill})
	if f.Kind == value.Decimal {
		list = append(list, setting.Setting{Name: "implied decimals", Label: "Implied decimals", Type: setting.Number, Hint: "0"})
	}
	return list
}

// readNotationSettings reads how messages of the schema are written.
func (s *Schema) readNotationSettings(w partfile.Node) {
	s.NotationSettings = s.Notation.allSettings().Read(w)
	s.Settings = settingsOf(s.NotationSettings)
	s.Settings.Namespaces = readNamespaces(w)
	l := s.Settings.Lines
	if !s.Notation.Columns && l.Last > 0 {
		w.Fault(fault.Setting, `"skip last" is for fixed width`)
	}
	if !s.Notation.Lines && (l.First > 0 || l.Comment != "" || l.StartsWith != "") {
		w.Fault(fault.Setting, `"skip first", "comment" and "starts with" are for fixed width and delimited`)
	}
	w.RejectUnknown()
}
