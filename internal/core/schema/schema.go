// Package schema describes messages: a tree of fields with their types, how often they occur,
// what they must be and how each is written in its notation. A schema is immutable once parsed
// and is shared by all goroutines; a field's slot is its position in its record's shape.
package schema

import (
	"regexp"

	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/setting"
	"hollowreed/internal/core/value"
)

// Many as a field's Max means any number of times.
const Many = -1

// Schema is one part: the fields of a message and the settings of its notation.
type Schema struct {
	ID               string // the part's id: its file name without the ending
	Title            string
	Notation         *Notation
	Samples          []string
	NotImported      []string // what an import could not carry over from another description, in words
	Settings         Settings
	NotationSettings setting.Values // the settings as they stand in the part, those of the notation's own among them
	Root             *Field         // one message, or one of those in a list
	Message          Occurs         // how many of them stand in one document, as a list; the zero value says nothing
	At               partfile.Text
	source           string // the part's name
}

// Occurs says how often something stands in a list.
type Occurs struct{ Min, Max int }

// List says whether a message must be a list.
func (o Occurs) List() bool { return o.Max != 0 }

// Others says what becomes of fields that nobody named.
type Others string

// What becomes of fields that nobody named: they are passed over and counted, or they are faults. They are kept where the record
// has a map for them.
const (
	IgnoreOthers Others = "ignore"
	FaultOthers  Others = "fault"
)

// Settings say how a message as a whole is written.
type Settings struct {
	Encoding    string      // UTF-8 (default), ISO-8859-1 or windows-1252
	LineEnd     string      // CRLF, LF or any
	Characters  bool        // columns count characters; otherwise bytes
	Delimiter   string      // delimited: one character, default comma
	Quote       string      // delimited: one character, default the double quote
	Escape      string      // delimited: inside of quotes, what makes the next character stand for itself; else a quote is doubled
	Header      bool        // delimited: the first record holds the names
	BlankFaults bool        // delimited: blank lines are no records with too few fields, unless this is set
	StrayQuotes bool        // delimited: quotes inside of fields that are not quoted as a whole stand for themselves; else they are faults
	RootName    string      // XML: name of the outermost element
	RecordName  string      // XML: name of the element of one record
	Namespaces  []Namespace // XML: what names stand for
	Attributes  bool        // XML: single values of a record are attributes, whatever their fields say
	MaxRecord   int         // most bytes of one record; 0 is what the notation allows
	Missing     Missing     // JSON and XML: how what has no value is written
	NoDoctype   bool        // XML: document type declarations are refused
	EscapeNames bool        // XML: names that it does not allow are escaped, and no faults
	Ordered     bool        // XML: elements stand in the order of the fields, where their record has no content model of its own
	Others      Others      // JSON and XML: what becomes of fields that nobody named, unless their record says
	Lines       Lines       // fixed width and delimited: which lines are records
}

// Lines say which lines of a file are records; all of them when nothing is said.
type Lines struct {
	First, Last int    // lines to pass over at the beginning and at the end
	Comment     string // lines that begin with this are passed over
	StartsWith  string // lines that begin with this are records; others are passed over unless they are of a record inside
}

// Field is one field of a record.
type Field struct {
	Name        string
	Kind        value.Kind // of one occurrence
	Min, Max    int        // occurrences; Max Many means any number
	Nullable    bool
	Single      bool // of a list in JSON: a value by itself stands for a list of one
	Present     bool // of a list in JSON: it must be there, though it may be empty
	Notes       string
	WireFormat  WireFormat
	Constraints Constraints
	Of          string   // a record: the schema whose fields it has
	Fields      []*Field // of a record; of a map what stands at each name; of a list its items; of a variant its branches
	ToldBy      string   // a variant of records: the field whose value, one of the codes that a branch has for it, tells the branch; or TypeAttribute
	HoldsOthers bool     // a map in a record: it holds the record's fields that have no name of their own
	Others      Others   // a record: what becomes of fields that nobody named; empty for what the schema says
	At          partfile.Text
	Source      string // the part that describes the field, when it is another schema's

	wired     *wiring       // of a record in XML, where its fields are not all called as their elements are
	model     *Model        // of a record
	modelText partfile.Text // as it stands in the part
	keys      []Key         // of a record
	keyTexts  []keyText     // as they stand in the part

	layout *value.Layout
	part   string // the part in whose text the field is described
	slot   int
	kinds  []value.Kind // of a record, by slot: the kind that is all that a single scalar must be of; Absent where there is more to check
	strict bool         // a record in which fields that nobody named are faults
}

// WireFormat says how a field is written in the schema's notation.
type WireFormat struct {
	From, To        int    // fixed width: columns from 1, both included
	Align           string // left or right
	Padding         byte   // fixed width padding
	ImpliedDecimals int    // digits after an implied decimal point
	Pattern         string // date and time pattern, as yyyyMMdd
	Hex             bool   // binary: two hexadecimal digits for each byte (RFC 4648, section 8); otherwise base64
	ZoneOptional    bool   // of a timestamp or a time: it may have a zone or none, and its value is of the type that has it or has none
	Mark            string // of numbers in text: the decimal mark, a comma or (empty) a point
	Grouping        string // the sign between groups of three digits; empty: none
	Attribute       bool   // XML: an attribute, not an element
	Content         bool   // XML: the element's own text
	InText          bool   // XML: a list of single values, which stand in one text with blanks between them (XML Schema 1.0, part 2, section 2.5.1.2)
	Group           bool   // XML: a record without an element of its own: its fields stand in that of the record around it
	Name            string // XML: what the element or attribute is called, where the field cannot be called so
	Exponent        bool   // XML: of a decimal, it may have an exponent, as 1.5E3 (XML Schema 1.0, part 2, section 3.2.5)
	WhenEmpty       string // XML: of a single value, what an element without any content says (XML Schema 1.0, part 1, section 3.3.1); empty: nothing
	WhiteSpace      string // XML: of a text, collapse or replace (XML Schema 1.0, part 2, section 4.3.6); empty: as it stands
	Wildcard        string // XML, of a map of other fields: the namespaces of which elements may be: ##other, ##local and URIs, or ##none; empty: any
	AnyAttribute    string // and those of which attributes may be
	StartsWith      string // fixed width, delimited: lines of this record begin with this
	Discriminator   string // fixed width, delimited: lines of this field's record have this value here
	pattern         []patternPart
	Blank           bool // an all-blank field is absent
	HasPattern      bool
}

// Constraints holds a field's constraints; zero members constrain nothing.
type Constraints struct {
	MinLength, MaxLength        int    // characters; 0 is none
	Format                      string // of a text: uuid, uri and the like, as JSON Schema has them
	MinEntries, MaxEntries      int    // of a map, or of a list that is there; 0 is none
	Minimum, Maximum            value.Value
	Above, Below                value.Value // bounds that are excluded themselves
	MultipleOf                  value.Value
	Unique                      bool // no two items of a list are equal
	TotalDigits, FractionDigits int  // most significant digits, most decimal places (Places -1: none stated)
	Pattern                     *regexp.Regexp
	Also                        []*regexp.Regexp // patterns that a text must be like, too
	Codes                       []Code
}

func (m *Constraints) none() bool {
	return m.MinLength == 0 && m.MaxLength == 0 && m.MinEntries == 0 && m.MaxEntries == 0 && !m.Unique && m.Format == "" &&
		m.Above.Kind() == value.Absent && m.Below.Kind() == value.Absent && m.MultipleOf.Kind() == value.Absent && m.Minimum.Kind() == value.Absent && m.Maximum.Kind() == value.Absent &&
		m.TotalDigits == 0 && m.FractionDigits < 0 && m.Pattern == nil && len(m.Codes) == 0
}

// Code is one allowed value with its meaning.
type Code struct{ Value, Meaning string }

// List says whether the field holds a list of occurrences.
func (f *Field) List() bool { return f.Max == Many || f.Max > 1 }

// Required says whether the field must be there.
func (f *Field) Required() bool { return f.Min > 0 || f.Present }

// Layout is the shape of the field's record.
func (f *Field) Layout() *value.Layout { return f.layout }

// Slot is the field's position in its record.
func (f *Field) Slot() int { return f.slot }

// Nests says whether other fields stand below the field: it is a record, a map, a list of lists or a variant.
func (f *Field) Nests() bool {
	switch f.Kind {
	case value.RecordKind, value.ListKind, value.MapKind, value.VariantKind:
		return true
	}
	return false
}

// Scalar says whether one occurrence of the field is a single value of one kind.
func (f *Field) Scalar() bool { return !f.Nests() && f.Kind != value.AnyKind }

// Each is what stands at each name of a map, or at each place of a list inside of a list.
func (f *Field) Each() *Field { return f.Fields[0] }

// HeldOthers is the map that holds the record's fields that have no name of their own; nil when there is none.
func (f *Field) HeldOthers() *Field {
	if f.layout == nil || f.layout.Others == 0 {
		return nil
	}
	return f.Fields[f.layout.Others-1]
}

// Named finds the field that has a name of its own in a record; nil when there is none.
func (f *Field) Named(name string) *Field {
	if c := f.Field(name); c != nil && !c.HoldsOthers {
		return c
	}
	return nil
}

// Strict says whether fields that nobody named are faults in the record.
func (f *Field) Strict() bool { return f.strict }

// Field finds a child by name; nil when there is none.
func (f *Field) Field(name string) *Field {
	if f.layout == nil {
		return nil
	}
	if i := f.layout.Slot(name); i >= 0 {
		return f.Fields[i]
	}
	return nil
}

// Record makes a record field of children, as the results of steps and queries are described.
func Record(name string, fields ...*Field) *Field {
	f := &Field{Name: name, Kind: value.RecordKind, Min: 1, Max: 1, Fields: fields}
	f.compile()
	return f
}

// Scalar makes a required field that occurs once.
func Scalar(name string, kind value.Kind) *Field {
	return &Field{Name: name, Kind: kind, Min: 1, Max: 1, Constraints: Constraints{FractionDigits: -1}}
}

// Optional returns the field as one that need not be there.
func (f *Field) Optional() *Field { f.Min = 0; return f }

func (f *Field) compile() {
	names := make([]string, len(f.Fields))
	f.kinds = make([]value.Kind, len(f.Fields))
	others := 0
	for i, c := range f.Fields {
		names[i], c.slot = c.Name, i
		if c.Scalar() && !c.List() && c.Constraints.none() {
			f.kinds[i] = c.Kind
		}
		if c.Nests() && c.layout == nil {
			c.compile()
		}
		if c.HoldsOthers && f.Kind == value.RecordKind {
			others = i + 1
		}
	}
	f.layout = value.NewLayout(names...)
	f.layout.Others = others
	f.wire()
}

// settle says of each record what becomes of fields that nobody named, where it does not say so itself.
func (f *Field) settle(others Others) {
	f.strict = f.Kind == value.RecordKind && (f.Others == FaultOthers || f.Others == "" && others == FaultOthers)
	for _, c := range f.Fields {
		c.settle(others)
	}
}

// Walk calls visit for the field and all below it, with the path of names from it.
func (f *Field) Walk(visit func(path []string, f *Field)) { f.walk(nil, visit) }

func (f *Field) walk(path []string, visit func([]string, *Field)) {
	visit(path, f)
	for _, c := range f.Fields {
		c.walk(append(path[:len(path):len(path)], c.Name), visit)
	}
}

// Find finds a field by its path of names below f.
func (f *Field) Find(path ...string) *Field {
	for _, name := range path {
		if f = f.Field(name); f == nil {
			return nil
		}
	}
	return f
}

// InText is the schema of messages that are texts already, not bytes in its encoding: where a character was a byte,
// columns count characters.
func (s *Schema) InText() *Schema {
	if s.Settings.Encoding == "UTF-8" {
		return s
	}
	text := *s
	text.Settings.Encoding, text.Settings.Characters = "UTF-8", true
	return &text
}

// As is the schema for a message in a notation. How fields are written is said for the schema's
// own notation; in any other one values stand in standard form. Shapes stay the same.
func (s *Schema) As(notation *Notation) *Schema {
	if s.Notation.Family == notation.Family || notation.Columns {
		return s
	}
	plain := *s
	plain.Notation = notation
	plain.Settings = Settings{
		Encoding: "UTF-8", LineEnd: "any", Delimiter: ",", Quote: `"`, Header: true,
		RootName: s.Settings.RootName, RecordName: s.Settings.RecordName, Namespaces: s.Settings.Namespaces,
		Attributes: s.Settings.Attributes, Missing: s.Settings.Missing, MaxRecord: s.Settings.MaxRecord, Others: s.Settings.Others, Ordered: s.Settings.Ordered, NoDoctype: s.Settings.NoDoctype, EscapeNames: s.Settings.EscapeNames,
	}
	plain.Root = s.Root.plain(notation.Elements && s.Settings.Attributes)
	return &plain
}

func (f *Field) plain(attributes bool) *Field {
	c := *f
	c.WireFormat = WireFormat{
		Blank: f.WireFormat.Blank, Hex: f.WireFormat.Hex, ZoneOptional: f.WireFormat.ZoneOptional, Attribute: f.WireFormat.Attribute, Content: f.WireFormat.Content, InText: f.WireFormat.InText, Group: f.WireFormat.Group, Name: f.WireFormat.Name,
		Exponent: f.WireFormat.Exponent, WhenEmpty: f.WireFormat.WhenEmpty, WhiteSpace: f.WireFormat.WhiteSpace, Wildcard: f.WireFormat.Wildcard, AnyAttribute: f.WireFormat.AnyAttribute,
	}
	if attributes && f.Scalar() && !f.List() && !f.Nullable && !f.WireFormat.Content {
		c.WireFormat.Attribute = true
	}
	c.Fields = make([]*Field, len(f.Fields))
	for i, inner := range f.Fields {
		c.Fields[i] = inner.plain(attributes)
	}
	return &c
}

// Compiled gives a field made by hand, and all below it, their shapes and makes their patterns
// ready. It must be called before the field is used, and returns it.
func (f *Field) Compiled() *Field {
	f.Walk(func(_ []string, c *Field) {
		c.layout = nil
		if c.WireFormat.Pattern != "" {
			c.WireFormat.HasPattern = true
			c.WireFormat.pattern, _ = compilePattern(c.WireFormat.Pattern)
		}
		if c.WireFormat.Align == "" {
			align, fill := padding(c.Kind)
			c.WireFormat.Align, c.WireFormat.Padding = align, fill[0]
		}
		c.WireFormat.Blank = c.Min == 0
	})
	f.compile()
	return f
}
