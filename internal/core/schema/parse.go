package schema

import (
	"regexp"
	"strconv"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/value"
)

// MaxDepth bounds how deep records nest.
const MaxDepth = 64

func read(id string, d *partfile.Doc, find Finder) *Schema {
	d.Upgrade(Upgrade)
	n := d.Root()
	s := &Schema{ID: id, Title: n.Required("schema").Value, At: n.At(), source: d.Source}
	names := NotationNames()
	if s.Notation = notationNamed(n.Choice("notation", names...)); n.Text("notation").Line == 0 && n.Present() {
		n.Fault(fault.Required, `"notation" is missing; it is one of %s`, strings.Join(names, ", "))
	}
	for _, c := range n.List("samples") {
		s.Samples = append(s.Samples, c.At().Value)
	}
	for _, c := range n.List("not imported") {
		s.NotImported = append(s.NotImported, c.At().Value)
	}
	s.readNotationSettings(n.Map("notation settings"))
	p := parser{s: s, find: find, taken: new(int)}
	p.root(n)
	n.RejectUnknown()
	s.Root.WireFormat.StartsWith = s.Settings.Lines.StartsWith
	s.Root.compile()
	p.models(d, s.Root)
	p.keys(d, s.Root)
	s.Settle()
	p.lines(d, s.Root)
	return s
}

// root reads what one message is: a record, unless the part says otherwise.
func (p parser) root(n partfile.Node) {
	f := &Field{Name: p.s.ID, Kind: value.RecordKind, Min: 1, Max: 1, At: n.At(), part: n.Doc().Source}
	p.s.Root = f
	if n.Text("type").Line > 0 {
		p.kind(n, f)
	}
	if n.Text("occurs").Line > 0 {
		low, high := occurs(n)
		p.s.Message = Occurs{low, high}
	}
	if !p.s.Notation.Tree && (f.Kind != value.RecordKind || p.s.Message.List()) && n.Present() {
		n.Fault(fault.Setting, "a message in %s is a record", p.s.Notation.Name)
		f.Kind = value.RecordKind
	}
	f.Others, f.ToldBy, f.modelText, f.keyTexts = others(n), n.Text("told by").Value, n.Text("content model"), keyTexts(n)
	f.Nullable = n.Bool("nullable", false)
	if f.Kind != value.RecordKind {
		p.wireFormat(n, f)
		f.Constraints = p.constraints(n.Map("constraints"), f)
	}
	f.Fields = p.fields(n, 0)
	if len(f.Fields) == 0 && f.Nests() && n.Present() {
		n.Fault(fault.Required, "the schema has no fields")
	}
	p.nested(n, f)
}

// Settle settles for each record what becomes of fields that nobody named. It is called for schemas that are made by hand.
// What order elements stand in is settled, too.
func (s *Schema) Settle() {
	s.Root.settle(s.Settings.Others)
	s.Root.order(s.Settings.Ordered)
}

// MaxRecord bounds what a schema may allow one record to have, in bytes.
const MaxRecord = 1 << 30

// maxSkipped bounds the lines that are passed over at either end.
const maxSkipped = 1000

func one(n partfile.Node, key, def string) string {
	t := n.Text(key)
	switch {
	case t.Value == "":
		return def
	case t.Value == "tab":
		return "\t"
	case len(t.Value) != 1 || t.Value[0] >= 0x80 || strings.ContainsAny(t.Value, "\r\n"):
		n.Doc().Fault(t, fault.Expect(fault.Setting, "one ASCII character or tab", fault.Quote(t.Value)).InField(key))
		return def
	}
	return t.Value
}

type parser struct {
	s     *Schema
	find  Finder
	taken *int // fields from other schemas
}

func (p parser) fields(n partfile.Node, depth int) []*Field {
	if depth > MaxDepth {
		n.Fault(fault.Limit, "records nest deeper than %d", MaxDepth)
		return nil
	}
	var fields []*Field
	seen := map[string]bool{}
	for _, c := range n.List("fields") {
		f := p.field(c, depth)
		if seen[f.Name] {
			c.Fault(fault.Setting, "the field %q is there twice", f.Name)
			continue
		}
		seen[f.Name] = true
		fields = append(fields, f)
	}
	return fields
}

func (p parser) field(n partfile.Node, depth int) *Field {
	f := &Field{Name: n.Required("name").Value, At: n.At(), Notes: n.Text("notes").Value, Nullable: n.Bool("nullable", false), Single: n.Bool("single", false), Present: n.Bool("present", false), part: n.Doc().Source}
	p.kind(n, f)
	f.Min, f.Max = occurs(n)
	f.Constraints = p.constraints(n.Map("constraints"), f)
	f.Others, f.ToldBy, f.HoldsOthers = others(n), n.Text("told by").Value, n.Bool("others", false)
	f.modelText, f.keyTexts = n.Text("content model"), keyTexts(n)
	p.wireFormat(n, f)
	of := n.Text("of")
	switch f.Of = of.Value; {
	case of.Value != "" && f.Kind != value.RecordKind:
		n.Doc().Fault(of, fault.New(fault.Setting, "only a record is of another schema").InField(f.Name))
	case of.Value != "" && len(n.List("fields")) > 0:
		n.Doc().Fault(of, fault.New(fault.Setting, "the record has fields of its own and those of %s", fault.Quote(of.Value)).InField(f.Name))
	case of.Value != "":
		f.Fields = p.shared(of, n.Doc())
	case f.Nests():
		f.Fields = p.fields(n, depth+1)
	}
	p.nested(n, f)
	n.RejectUnknown()
	return f
}

// kind reads the type of one occurrence of a field.
func (p parser) kind(n partfile.Node, f *Field) {
	typ := n.Required("type")
	kind, ok := value.KindNamed(typ.Value)
	if !ok && typ.Value != "" {
		n.Doc().Fault(typ, fault.Expect(fault.Unknown, "a type ("+strings.Join(types, ", ")+")", fault.Quote(typ.Value)).InField(f.Name))
		kind = value.Text
	}
	f.Kind = kind
}

func others(n partfile.Node) Others {
	t := n.Text("other fields")
	if o := Others(t.Value); o == "" || o == IgnoreOthers || o == FaultOthers {
		return o
	}
	n.Doc().Fault(t, fault.Expect(fault.Setting, "ignore or fault", fault.Quote(t.Value)).InField("other fields"))
	return ""
}

// keyTexts are the keys of a record, by their names.
func keyTexts(n partfile.Node) (list []keyText) {
	names, texts := n.Map("keys").Pairs()
	for i := range names {
		list = append(list, keyText{names[i], texts[i]})
	}
	return list
}

// nested checks what stands below a field that is no record.
func (p parser) nested(n partfile.Node, f *Field) {
	wrong := func(code fault.Code, format string, args ...any) {
		n.Doc().Fault(f.At, fault.New(code, format, args...).InField(f.Name))
	}
	if f.ToldBy != "" && f.Kind != value.VariantKind {
		wrong(fault.Setting, `"told by" is for a variant`)
	}
	if f.HoldsOthers && (f.Kind != value.MapKind || f.List()) {
		wrong(fault.Setting, `"others" is for a map that occurs once: it holds the fields of the record that nobody named`)
	}
	if f.WireFormat.WhenEmpty != "" && (!f.Scalar() || f.WireFormat.Attribute) {
		wrong(fault.Setting, `"when empty" is for a single value that is no attribute`)
	}
	if f.WireFormat.InText && (f.Kind != value.ListKind || len(f.Fields) != 1 || !f.Fields[0].Scalar()) {
		wrong(fault.Setting, `"in one text" is for a list of single values`)
		f.WireFormat.InText = false
	}
	holders := 0
	for _, c := range f.Fields {
		if c.HoldsOthers {
			holders++
		}
	}
	switch {
	case holders > 1 || holders == 1 && f.Kind != value.RecordKind:
		wrong(fault.Setting, `one map of a record has "others"`)
	case f.Kind == value.MapKind && len(f.Fields) != 1:
		wrong(fault.Required, "a map has one field, which stands at each of its names; this one has %d", len(f.Fields))
		f.Fields = []*Field{p.filler(f)}
	case f.Kind == value.ListKind && (len(f.Fields) != 1 || !f.Fields[0].List()):
		wrong(fault.Required, "a list inside of a list has one field, which occurs more than once (0..n)")
		item := p.filler(f)
		item.Min, item.Max = 0, Many
		f.Fields = []*Field{item}
	case f.Kind == value.VariantKind:
		p.branches(f, wrong)
	}
}

// filler stands in place of a field that is missing.
func (p parser) filler(f *Field) *Field {
	return &Field{Name: "value", Kind: value.AnyKind, Min: 1, Max: 1, At: f.At, part: f.part, Constraints: Constraints{FractionDigits: -1}}
}

// branches checks that the branches of a variant can be told apart.
func (p parser) branches(f *Field, wrong func(code fault.Code, format string, args ...any)) {
	if least := map[bool]int{true: 1, false: 2}[f.ToldBy == TypeAttribute]; len(f.Fields) < least {
		wrong(fault.Required, "a variant has %s at least", counted(least, "branch", "branches"))
	}
	if len(f.Fields) == 0 {
		f.Fields = []*Field{p.filler(f)}
	}
	if f.TellingField() == "" {
		return
	}
	for _, b := range f.Fields {
		if c := b.branchCodes(f.ToldBy); b.Kind != value.RecordKind || len(c) == 0 {
			wrong(fault.Setting, "the branch %s is told by the value of %s: it is a record that has a field of that name, with codes", b.Name, fault.Quote(f.ToldBy))
		}
	}
}

// branchCodes are the values of a field that tell that a record is this branch.
func (f *Field) branchCodes(name string) []Code {
	for _, c := range f.Fields {
		if c.Name == name {
			return c.Constraints.Codes
		}
	}
	return nil
}

// occurs reads "1", "0..1", "1..n" or "2..5"; the default is exactly once.
func occurs(n partfile.Node) (low, high int) {
	t := n.Text("occurs")
	if t.Value == "" {
		return 1, 1
	}
	a, b, both := strings.Cut(t.Value, "..")
	low, err := strconv.Atoi(a)
	high = low
	if both && b == "n" {
		high = Many
	} else if both && err == nil {
		high, err = strconv.Atoi(b)
	}
	if err != nil || low < 0 || (high != Many && high < max(low, 1)) {
		n.Doc().Fault(t, fault.Expect(fault.Setting, "how often, as 1, 0..1, 1..n or 2..5", fault.Quote(t.Value)).InField("occurs"))
		return 1, 1
	}
	return low, high
}

func (p parser) constraints(n partfile.Node, f *Field) Constraints {
	m := Constraints{
		MinLength: n.Int("min length", 0), MaxLength: n.Int("max length", 0),
		TotalDigits: n.Int("total digits", 0), FractionDigits: n.Int("fraction digits", -1),
		MinEntries: n.Int("min entries", 0), MaxEntries: n.Int("max entries", 0),
	}
	for key, to := range map[string]*value.Value{
		"minimum": &m.Minimum, "maximum": &m.Maximum, "exclusive minimum": &m.Above, "exclusive maximum": &m.Below, "multiple of": &m.MultipleOf,
	} {
		*to = bound(n, key, f)
	}
	m.Unique = n.Bool("unique items", false)
	if n.Text("format").Value != "" {
		m.Format = n.Choice("format", Formats()...)
	}
	if t := n.Text("pattern"); t.Value != "" {
		re, err := regexp.Compile(`^(?:` + t.Value + `)$`)
		if err != nil {
			n.Doc().Fault(t, fault.New(fault.Syntax, "the pattern cannot be read: %s", err).InField(f.Name))
		}
		m.Pattern = re
	}
	for _, c := range n.List("also pattern") {
		t := c.At()
		if re, err := regexp.Compile(`^(?:` + t.Value + `)$`); err == nil {
			m.Also = append(m.Also, re)
		} else {
			n.Doc().Fault(t, fault.New(fault.Syntax, "the pattern cannot be read: %s", err).InField(f.Name))
		}
	}
	keys, meanings := n.Map("codes").Pairs()
	for i := range keys {
		m.Codes = append(m.Codes, Code{Value: keys[i].Value, Meaning: meanings[i].Value})
	}
	n.RejectUnknown()
	return m
}

func bound(n partfile.Node, key string, f *Field) value.Value {
	t := n.Text(key)
	if t.Value == "" {
		return value.Value{}
	}
	v, ok := ParseScalar(f.Kind, t.Value)
	if !ok {
		n.Doc().Fault(t, fault.Expect(fault.Type, f.Kind.String(), fault.Quote(t.Value)).InField(key))
	}
	return v
}

func (p parser) wireFormat(n partfile.Node, f *Field) {
	w := &f.WireFormat
	w.From, w.To = columns(n)
	align, fill := padding(f.Kind)
	w.Align = n.Choice("align", align, other(align))
	w.Padding = one(n, "padding", fill)[0]
	w.ImpliedDecimals = n.Int("implied decimals", 0)
	p.number(n, f)
	w.Blank = f.Min == 0
	w.Attribute = n.Bool("attribute", false)
	w.Content = n.Bool("content", false)
	w.Hex = n.Text("encoding").Value != "" && n.Choice("encoding", "base64", "hex") == "hex"
	w.ZoneOptional = n.Text("zone").Value != "" && n.Choice("zone", "required", "optional") == "optional"
	w.Exponent = n.Text("exponent").Value != "" && n.Choice("exponent", "none", "allowed") == "allowed"
	w.InText, w.WhenEmpty = n.Bool("in one text", false), n.Text("when empty").Value
	w.Group, w.Name, w.Wildcard = n.Bool("group", false), n.Text("xml name").Value, n.Text("wildcard").Value
	w.AnyAttribute = n.Text("any attribute").Value
	if t := n.Text("white space"); t.Value != "" {
		w.WhiteSpace = n.Choice("white space", "collapse", "replace")
	}
	w.StartsWith, w.Discriminator = n.Text("starts with").Value, n.Text("discriminator").Value
	t := n.Text("pattern")
	if t.Value == "" {
		return
	}
	w.Pattern, w.HasPattern = t.Value, true
	if err := CheckPattern(f.Kind, t.Value); err != nil {
		n.Doc().Fault(t, err.InField(f.Name))
		return
	}
	w.pattern, _ = compilePattern(t.Value)
}

// groupings are the signs that may stand between groups of three digits, by their names in parts.
var groupings = map[string]string{"": "", "none": "", "point": ".", "comma": ",", "space": " ", "no-break space": "\u00a0", "apostrophe": "'"}

// number reads how numbers are written in text.
func (p parser) number(n partfile.Node, f *Field) {
	w := &f.WireFormat
	mark, group := n.Text("decimal mark"), n.Text("grouping")
	if mark.Value == "" && group.Value == "" {
		return
	}
	sign, known := groupings[group.Value]
	switch {
	case !f.Kind.Numeric():
		n.Doc().Fault(n.At(), fault.New(fault.Setting, "a %s has no decimal mark and no grouping", f.Kind).WithFix("Take it out, or make the field a number").InField(f.Name))
	case mark.Value != "" && mark.Value != "point" && mark.Value != "comma":
		n.Doc().Fault(mark, fault.Expect(fault.Setting, "point or comma", fault.Quote(mark.Value)).InField(f.Name))
	case !known:
		n.Doc().Fault(group, fault.Expect(fault.Setting, "point, comma, space, no-break space, apostrophe or none", fault.Quote(group.Value)).InField(f.Name))
	case sign == "," && mark.Value == "comma" || sign == "." && mark.Value != "comma":
		n.Doc().Fault(group, fault.New(fault.Setting, "the decimal mark and the grouping are the same sign").InField(f.Name))
	default:
		if w.Grouping = sign; mark.Value == "comma" {
			w.Mark = ","
		}
	}
}

// padding is how a field of a kind stands in its columns, unless it is said.
func padding(kind value.Kind) (align, fill string) {
	if kind.Numeric() {
		return "right", "0"
	}
	return "left", " "
}

func other(align string) string {
	if align == "left" {
		return "right"
	}
	return "left"
}

func columns(n partfile.Node) (from, to int) {
	t := n.Text("columns")
	if t.Value == "" {
		return 0, 0
	}
	a, b, both := strings.Cut(t.Value, "-")
	from, err := strconv.Atoi(a)
	to = from
	if both && err == nil {
		to, err = strconv.Atoi(b)
	}
	if err != nil || from < 1 || to < from || to > 1<<20 {
		n.Doc().Fault(t, fault.Expect(fault.Setting, "columns, as 5-12", fault.Quote(t.Value)))
		return 0, 0
	}
	return from, to
}
