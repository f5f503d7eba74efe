// Package compare says what differs between two schemas, or two revisions of one, and whom a
// difference breaks: those who read messages of the new one with the old, or those who write by
// the old one for the new.
package compare

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Kind is what became of a field or of one of its properties.
type Kind string

// The kinds of change.
const (
	Added    Kind = "added"
	Removed  Kind = "removed"
	Renamed  Kind = "renamed" // guessed
	Narrowed Kind = "narrowed"
	Widened  Kind = "widened"
	Changed  Kind = "changed" // neither wider nor narrower
	Moved    Kind = "moved"   // written at another place
)

// Change is one difference.
type Change struct {
	Path     string // of the field in the newer schema, or in the older when it was removed: order/line/qty
	Kind     Kind
	What     string // in words: type integer → decimal
	Was      string // the older name, of a renamed field
	Readers  bool   // breaks who reads new messages and knows the old schema
	Writers  bool   // breaks who writes old messages for the new schema
	Notation bool   // concerns only how the field is written
}

// Schemas compares an older schema with a newer one.
func Schemas(old, now *schema.Schema) []Change {
	c := &comparer{typed: old.Notation.Types || now.Notation.Types}
	if old.Notation != now.Notation {
		c.add(Change{Kind: Changed, What: "notation " + old.Notation.Name + " → " + now.Notation.Name, Readers: true, Writers: true, Notation: true})
	} else {
		c.settings(old, now)
	}
	c.message(old.Message, now.Message)
	c.field(nil, old.Root, now.Root)
	return c.changes
}

type comparer struct {
	changes []Change
	typed   bool // values are written with their types
}

// typed are the notations in which a number is no text: it stands there without quotes, or in a column of its type.

func (c *comparer) add(ch Change) { c.changes = append(c.changes, ch) }

func (c *comparer) record(path []string, old, now *schema.Field) {
	var gone []*schema.Field
	for _, f := range old.Fields {
		if now.Field(f.Name) == nil {
			gone = append(gone, f)
		}
	}
	c.other(join(path), "content model", old.ModelText(), now.ModelText())
	c.other(join(path), "keys", keysText(old), keysText(now))
	if o, n := closed(old), closed(now); o != n {
		c.ranged(join(path), "fields that it lacks are faults", yes(o), yes(n), o)
	}
	for _, f := range now.Fields {
		at := append(path[:len(path):len(path)], f.Name)
		before := old.Field(f.Name)
		if before == nil {
			if before = likeliest(f, gone); before != nil {
				gone = without(gone, before)
				c.add(Change{Path: join(at), Kind: Renamed, Was: before.Name, What: before.Name + " → " + f.Name, Readers: true, Writers: true})
			}
		}
		if before == nil {
			c.added(at, f, closed(old))
			continue
		}
		c.field(at, before, f)
	}
	for _, f := range gone {
		c.add(Change{Path: join(append(path[:len(path):len(path)], f.Name)), Kind: Removed, What: describe(f), Readers: f.Required(), Writers: true})
	}
}

func join(path []string) string { return strings.Join(path, "/") }

// added notes a new field; where fields that nobody named are faults to those who read by the old schema, it breaks them.
func (c *comparer) added(path []string, f *schema.Field, closed bool) {
	breaks := f.Required()
	if f.HoldsOthers { // what was passed over is kept now, if it fits
		breaks = f.Each().Kind != value.AnyKind
	}
	c.add(Change{Path: join(path), Kind: Added, What: describe(f), Readers: closed, Writers: breaks})
}

// closed says whether fields that nobody named are faults in a record.
func closed(f *schema.Field) bool { return f.Strict() && f.HeldOthers() == nil }

// variant compares the branches of variants. Messages do not hold their names.
func (c *comparer) variant(path []string, old, now *schema.Field) {
	at := join(path)
	if old.ToldBy != now.ToldBy {
		c.add(Change{Path: at, Kind: Changed, What: fmt.Sprintf("told by %s → %s", or(old.ToldBy), or(now.ToldBy)), Readers: true, Writers: true})
	}
	var gone []*schema.Field
	for _, b := range old.Fields {
		if now.Field(b.Name) == nil {
			gone = append(gone, b)
		}
	}
	var stayed []string // in their new order
	for _, b := range now.Fields {
		to := append(path[:len(path):len(path)], b.Name)
		before := old.Field(b.Name)
		if before == nil {
			if before = likeliest(b, gone); before != nil {
				gone = without(gone, before)
				c.add(Change{Path: join(to), Kind: Renamed, Was: before.Name, What: "branch " + before.Name + " → " + b.Name})
			}
		}
		if before == nil {
			c.add(Change{Path: join(to), Kind: Added, What: "branch " + describe(b), Readers: true})
			continue
		}
		stayed = append(stayed, before.Name)
		c.field(to, before, b)
	}
	for _, b := range gone {
		c.add(Change{Path: join(append(path[:len(path):len(path)], b.Name)), Kind: Removed, What: "branch " + describe(b), Writers: true})
	}
	before := slices.DeleteFunc(slices.Clone(old.Layout().Names), func(name string) bool { return !slices.Contains(stayed, name) })
	if !slices.Equal(before, stayed) { // of several that fit, the first is taken
		c.add(Change{Path: at, Kind: Changed, What: "order of branches " + strings.Join(before, ", ") + " → " + strings.Join(stayed, ", ")})
	}
}

// covers says whether every value of a field is one of a branch of a variant.
func (c *comparer) covers(variant, f *schema.Field) bool {
	return variant.ToldBy == "" && slices.ContainsFunc(variant.Fields, func(b *schema.Field) bool {
		of := *f
		of.Min, of.Max, of.Single, of.Present, of.Nullable = b.Min, b.Max, b.Single, b.Present, b.Nullable
		inner := &comparer{typed: c.typed}
		inner.field(nil, &of, b)
		return !slices.ContainsFunc(inner.changes, func(ch Change) bool { return ch.Writers })
	})
}

// message compares how many messages stand in one document.
func (c *comparer) message(old, now schema.Occurs) {
	switch {
	case old == now:
	case old.List() && now.List():
		c.occurs("", &schema.Field{Min: old.Min, Max: old.Max}, &schema.Field{Min: now.Min, Max: now.Max})
	case now.List():
		c.ranged("", "the message is a list", "", "yes", false)
	default:
		c.ranged("", "the message is a list", "yes", "", true)
	}
}

// spaces lists the namespaces of a schema's names.
func spaces(s *schema.Schema) string {
	list := make([]string, len(s.Settings.Namespaces))
	for i, n := range s.Settings.Namespaces {
		list[i] = strings.TrimSpace(n.Prefix + " " + n.URI)
	}
	sort.Strings(list)
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// narrow are the settings of notations that make messages faults, with the value that does.
var narrow = map[string]string{"document type": "refused", "blank lines": "faults", "stray quotes": "faults"}

// settings compares how messages are written as a whole.
func (c *comparer) settings(old, now *schema.Schema) {
	for _, s := range old.NotationSettings.List {
		o, n := old.NotationSettings.Get(s.Name), now.NotationSettings.Get(s.Name)
		switch {
		case o == n, s.Name == schema.OthersSetting.Name, s.Name == schema.OrderSetting.Name: // these are said of each record
		case narrow[s.Name] != "":
			c.ranged("", s.Name, o, n, narrow[s.Name] != n)
		default:
			c.moved(s.Name, or(o), or(n))
		}
	}
	if o, n := spaces(old), spaces(now); o != n {
		c.moved("namespaces", o, n)
	}
}

// moved notes that messages as a whole are written another way.
func (c *comparer) moved(name, old, now string) {
	c.add(Change{Kind: Moved, What: name + " " + old + " → " + now, Readers: true, Writers: true, Notation: true})
}

func describe(f *schema.Field) string {
	s := f.Kind.String()
	if o := f.Occurs(); o != "1" {
		s += " " + o
	}
	return s
}

// likeliest guesses which of the fields that are gone a new one was: one of the same shape whose
// name is alike.
func likeliest(f *schema.Field, gone []*schema.Field) *schema.Field {
	var best *schema.Field
	most := 0.0
	for _, g := range gone {
		if g.Kind != f.Kind || g.List() != f.List() {
			continue
		}
		score := alike(g.Name, f.Name)
		if f.Kind == value.RecordKind {
			score = max(score, common(g, f))
		}
		if g.WireFormat.From > 0 && g.WireFormat.Columns() == f.WireFormat.Columns() {
			score = 1
		}
		if score > most {
			best, most = g, score
		}
	}
	if most < 0.6 {
		return nil
	}
	return best
}

// alike is how much of two names is the same, from 0 to 1: the share of their letter pairs
// (Sørensen and Dice), case and separators aside.
func alike(a, b string) float64 {
	a, b = plain(a), plain(b)
	if a == b {
		return 1
	}
	if len(a) < 2 || len(b) < 2 {
		return 0
	}
	pairs := map[string]int{}
	for i := range len(a) - 1 {
		pairs[a[i:i+2]]++
	}
	same := 0
	for i := range len(b) - 1 {
		if p := b[i : i+2]; pairs[p] > 0 {
			pairs[p]--
			same++
		}
	}
	return 2 * float64(same) / float64(len(a)+len(b)-2)
}

func plain(s string) string {
	return strings.Map(func(r rune) rune {
		if r == '_' || r == '-' || r == ' ' || r == '.' {
			return -1
		}
		return r
	}, strings.ToLower(s))
}

// common is the share of fields that two records have in common.
func common(a, b *schema.Field) float64 {
	same := 0
	for _, f := range a.Fields {
		if b.Field(f.Name) != nil {
			same++
		}
	}
	return 2 * float64(same) / float64(max(1, len(a.Fields)+len(b.Fields)))
}

func without(list []*schema.Field, f *schema.Field) []*schema.Field {
	var out []*schema.Field
	for _, g := range list {
		if g != f {
			out = append(out, g)
		}
	}
	return out
}

func (c *comparer) field(path []string, old, now *schema.Field) {
	at := join(path)
	c.kind(at, old, now)
	c.occurs(at, old, now)
	if old.Single != now.Single && now.List() {
		c.ranged(at, "a value by itself for a list of one", yes(old.Single), yes(now.Single), now.Single)
	}
	if old.Present != now.Present {
		c.ranged(at, "must be there, though it may be empty", yes(old.Present), yes(now.Present), old.Present)
	}
	if old.Nullable != now.Nullable {
		c.ranged(at, "null allowed", yes(old.Nullable), yes(now.Nullable), now.Nullable)
	}
	c.must(at, &old.Constraints, &now.Constraints)
	if o, n := written(old), written(now); o != n {
		c.add(Change{Path: at, Kind: Moved, What: "written " + o + " → " + n, Readers: true, Writers: true, Notation: true})
	}
	if old.Kind != now.Kind {
		return
	}
	switch old.Kind {
	case value.RecordKind:
		c.record(path, old, now)
	case value.MapKind, value.ListKind:
		c.field(append(path[:len(path):len(path)], now.Each().Name), old.Each(), now.Each())
	case value.VariantKind:
		c.variant(path, old, now)
	}
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// reads says whether values of one type can be read as those of another without loss.
func (c *comparer) reads(as, of value.Kind) bool {
	if c.typed && as == value.Text && (of.Numeric() || of == value.Boolean) {
		return false
	}
	return slices.Contains(wider[of], as)
}

// wider lists the types that each type can be read as without loss.
var wider = map[value.Kind][]value.Kind{
	value.Integer: {value.Decimal, value.Text}, value.Decimal: {value.Text}, value.Boolean: {value.Text},
	value.Date: {value.Text}, value.Time: {value.Text}, value.Timestamp: {value.Text}, value.LocalTimestamp: {value.Text},
	value.ZonedTime: {value.Text}, value.Duration: {value.Text}, value.YearMonth: {value.Text}, value.Binary: {value.Text},
}

func (c *comparer) kind(at string, old, now *schema.Field) {
	if old.Kind == now.Kind {
		return
	}
	what := "type " + old.Kind.String() + " → " + now.Kind.String()
	switch {
	case now.Kind == value.AnyKind, now.Kind == value.VariantKind && c.covers(now, old):
		c.add(Change{Path: at, Kind: Widened, What: what, Readers: true})
	case old.Kind == value.AnyKind, old.Kind == value.VariantKind && c.covers(old, now):
		c.add(Change{Path: at, Kind: Narrowed, What: what, Writers: true})
	case c.reads(now.Kind, old.Kind):
		c.add(Change{Path: at, Kind: Widened, What: what, Readers: true})
	case c.reads(old.Kind, now.Kind):
		c.add(Change{Path: at, Kind: Narrowed, What: what, Writers: true})
	default:
		c.add(Change{Path: at, Kind: Changed, What: what, Readers: true, Writers: true})
	}
}

func (c *comparer) occurs(at string, old, now *schema.Field) {
	if old.Min == now.Min && old.Max == now.Max {
		return
	}
	what := "occurs " + old.Occurs() + " → " + now.Occurs()
	more := now.Min < old.Min || most(now) > most(old)
	less := now.Min > old.Min || most(now) < most(old)
	ch := Change{Path: at, Kind: Changed, What: what, Readers: more, Writers: less}
	switch {
	case old.List() != now.List(): // one value is not a list of one
		ch.Readers, ch.Writers = true, true
	case more && !less:
		ch.Kind = Widened
	case less && !more:
		ch.Kind = Narrowed
	}
	c.add(ch)
}

func most(f *schema.Field) int {
	if f.Max == schema.Many {
		return 1 << 30
	}
	return f.Max
}

// ranged notes a constraint that became wider or narrower.
func (c *comparer) ranged(at, name, old, now string, wider bool) {
	ch := Change{Path: at, Kind: Narrowed, What: fmt.Sprintf("%s %s → %s", name, or(old), or(now)), Writers: true}
	if wider {
		ch.Kind, ch.Readers, ch.Writers = Widened, true, false
	}
	c.add(ch)
}

func or(s string) string {
	if s == "" {
		return "any"
	}
	return s
}

func (c *comparer) must(at string, old, now *schema.Constraints) {
	c.bound(at, "minimum", old.Minimum, now.Minimum, -1)
	c.bound(at, "maximum", old.Maximum, now.Maximum, 1)
	c.size(at, "min length", old.MinLength, now.MinLength, now.MinLength < old.MinLength)
	c.size(at, "max length", old.MaxLength, now.MaxLength, larger(now.MaxLength, old.MaxLength))
	c.size(at, "total digits", old.TotalDigits, now.TotalDigits, larger(now.TotalDigits, old.TotalDigits))
	c.size(at, "decimal places", old.FractionDigits+1, now.FractionDigits+1, larger(now.FractionDigits+1, old.FractionDigits+1))
	c.bound(at, "exclusive minimum", old.Above, now.Above, -1)
	c.bound(at, "exclusive maximum", old.Below, now.Below, 1)
	c.size(at, "min entries", old.MinEntries, now.MinEntries, now.MinEntries < old.MinEntries)
	c.size(at, "max entries", old.MaxEntries, now.MaxEntries, larger(now.MaxEntries, old.MaxEntries))
	if old.Unique != now.Unique {
		c.ranged(at, "unique items", yes(old.Unique), yes(now.Unique), old.Unique)
	}
	c.other(at, "multiple of", text(old.MultipleOf), text(now.MultipleOf))
	c.other(at, "format", old.Format, now.Format)
	c.other(at, "pattern", old.PatternText(), now.PatternText())
	c.other(at, "also pattern", strings.Join(old.AlsoTexts(), " and "), strings.Join(now.AlsoTexts(), " and "))
	c.codes(at, old.Codes, now.Codes)
}

// other compares a constraint of which nobody knows whether it is wider or narrower than another; empty is none.
func (c *comparer) other(at, name, old, now string) {
	if old != now {
		c.add(Change{Path: at, Kind: otherKind(old, now), What: fmt.Sprintf("%s %s → %s", name, or(old), or(now)), Readers: old != "", Writers: now != ""})
	}
}

func keysText(f *schema.Field) string {
	var texts []string
	for _, k := range f.Keys() {
		texts = append(texts, k.Name+": "+k.Text())
	}
	return strings.Join(texts, "; ")
}

func text(v value.Value) string {
	if v.Kind() == value.Absent {
		return ""
	}
	return v.String()
}

func otherKind(old, now string) Kind {
	switch {
	case old == "":
		return Narrowed
	case now == "":
		return Widened
	}
	return Changed
}

// larger compares two upper limits of which 0 is none.
func larger(a, b int) bool { return b != 0 && (a == 0 || a > b) }

func (c *comparer) size(at, name string, old, now int, wider bool) {
	if old == now {
		return
	}
	text := func(n int) string {
		if name == "decimal places" {
			n--
		}
		if n < 0 || n == 0 && name != "decimal places" {
			return ""
		}
		return fmt.Sprint(n)
	}
	c.ranged(at, name, text(old), text(now), wider)
}

// bound compares a lower (way -1) or an upper bound (way 1).
func (c *comparer) bound(at, name string, old, now value.Value, way int) {
	if old.Kind() == value.Absent && now.Kind() == value.Absent || value.Equal(old, now) {
		return
	}
	wider := now.Kind() == value.Absent
	if !wider && old.Kind() != value.Absent {
		o, err := value.Compare(now, old)
		wider = err == nil && o == way
	}
	c.ranged(at, name, old.String(), now.String(), wider)
}

func (c *comparer) codes(at string, old, now []schema.Code) {
	gone, fresh := beside(old, now), beside(now, old)
	switch {
	case len(old) == 0 && len(now) > 0:
		c.ranged(at, "codes", "", names(now), false)
	case len(now) == 0 && len(old) > 0:
		c.ranged(at, "codes", names(old), "", true)
	default:
		if len(fresh) > 0 {
			c.add(Change{Path: at, Kind: Widened, What: "codes added: " + names(fresh), Readers: true})
		}
		if len(gone) > 0 {
			c.add(Change{Path: at, Kind: Narrowed, What: "codes removed: " + names(gone), Writers: true})
		}
	}
}

// beside are the codes of a that are not in b.
func beside(a, b []schema.Code) []schema.Code {
	known := map[string]bool{}
	for _, c := range b {
		known[c.Value] = true
	}
	var out []schema.Code
	for _, c := range a {
		if !known[c.Value] {
			out = append(out, c)
		}
	}
	return out
}

func names(codes []schema.Code) string {
	list := make([]string, len(codes))
	for i, c := range codes {
		list[i] = c.Value
	}
	sort.Strings(list)
	return strings.Join(list, ", ")
}

// written says how a field is written, for the comparison of two.
func written(f *schema.Field) string {
	w := &f.WireFormat
	var parts []string
	for _, p := range []string{w.Columns(), w.Pattern} {
		if p != "" {
			parts = append(parts, p)
		}
	}
	if w.From > 0 {
		parts = append(parts, w.Align+" filled with "+fmt.Sprintf("%q", w.Padding))
	}
	if w.Mark != "" || w.Grouping != "" {
		parts = append(parts, fmt.Sprintf("decimal mark %q, grouping %q", w.Mark, w.Grouping))
	}
	if w.ImpliedDecimals > 0 {
		parts = append(parts, fmt.Sprintf("%d implied places", w.ImpliedDecimals))
	}
	if w.Attribute {
		parts = append(parts, "as an attribute")
	}
	if w.Content {
		parts = append(parts, "as the element's text")
	}
	if w.Group {
		parts = append(parts, "without an element of its own")
	}
	if w.Hex {
		parts = append(parts, "in hexadecimal digits")
	}
	if w.ZoneOptional {
		parts = append(parts, "with a zone or none")
	}
	for _, p := range []struct{ what, text string }{
		{"called ", w.Name},
		{"white space ", w.WhiteSpace},
		{"elements of ", w.Wildcard},
		{"attributes of ", w.AnyAttribute},
		{"lines that begin with ", w.StartsWith},
		{"lines with ", w.Discriminator},
	} {
		if p.text != "" {
			parts = append(parts, p.what+p.text)
		}
	}
	if len(parts) == 0 {
		return "plainly"
	}
	return strings.Join(parts, ", ")
}

// Breaks says whom the change breaks, to be put behind its words; empty for nobody.
func (c Change) Breaks() string {
	switch {
	case c.Readers && c.Writers:
		return " (breaks readers and writers)"
	case c.Readers:
		return " (breaks readers)"
	case c.Writers:
		return " (breaks writers)"
	}
	return ""
}
