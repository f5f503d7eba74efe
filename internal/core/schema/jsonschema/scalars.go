package jsonschema

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// formats are the formats of texts that are types of their own: those of JSON Schema, and date-time-local and time-local of the
// OpenAPI registry of formats, beside which stands a pattern, as validators do not know them.
var formats = map[string]value.Kind{
	"date": value.Date, "time": value.ZonedTime, "date-time": value.Timestamp, "duration": value.Duration,
	"date-time-local": value.LocalTimestamp, "time-local": value.Time, "year-month": value.YearMonth,
}

// plainFormats are those that only describe a text.
var plainFormats = []string{"password", "regex", "string"}

func (m *importer) text(c context, f *schema.Field) {
	f.Kind = value.Text
	format := c.get("format")
	if kind, ok := formats[c.text("format")]; ok {
		f.Kind = kind
		return
	}
	if c.text("contentEncoding") == "base16" {
		f.Kind, f.WireFormat.Hex = value.Binary, true
		return
	}
	if c.text("contentEncoding") == "base64" || c.text("format") == "byte" {
		f.Kind = value.Binary
		return
	}
	if name := c.text("format"); slices.Contains(schema.Formats(), name) {
		f.Constraints.Format = name
	} else if format.there() && !slices.Contains(plainFormats, name) {
		m.note(format, "the format %v is not checked", format.value)
	}
	f.Constraints.MinLength, f.Constraints.MaxLength = m.count(c, "minLength", 0), m.count(c, "maxLength", 0)
	m.patterns(c.get("pattern"), f)
	if most := c.get("maxLength"); most.there() && f.Constraints.MaxLength == 0 {
		m.pattern(most, "^.{0}$", f)
	}
	m.codes(c, f)
}

// patterns are one, or, of several schemas of allOf, those of all.
func (m *importer) patterns(c context, f *schema.Field) {
	if !c.there() {
		return
	}
	if c.kind != '[' {
		m.pattern(c, fmt.Sprint(c.value), f)
		return
	}
	for _, p := range c.items {
		m.pattern(c, fmt.Sprint(p.value), f)
	}
}

func (m *importer) pattern(c context, p string, f *schema.Field) {
	re, err := regexp.Compile(`^(?:` + whole(p) + `)$`)
	if err != nil {
		m.note(c, "the pattern is not checked: %s", err)
		return
	}
	f.Constraints.Like(re)
}

// whole makes a pattern that may match anywhere one that matches the whole text.
func whole(p string) string {
	if inner, ok := strings.CutPrefix(p, "^(?:"); ok && strings.HasSuffix(inner, ")$") {
		if inner = strings.TrimSuffix(inner, ")$"); !strings.ContainsAny(inner, "()") {
			return inner
		}
	}
	front, back := ".*", ".*"
	if rest, ok := strings.CutPrefix(p, "^"); ok {
		p, front = rest, ""
	}
	if rest, ok := strings.CutSuffix(p, "$"); ok && !strings.HasSuffix(rest, `\`) {
		p, back = rest, ""
	}
	if strings.Contains(p, "|") && front+back != "" {
		p = "(?:" + p + ")"
	}
	return front + p + back
}

// codes reads the values that a scalar may have.
func (m *importer) codes(c context, f *schema.Field) {
	values := c.get("enum")
	if one := c.get("const"); one.there() {
		values = context{c.doc, &node{kind: '[', items: []*node{one.node}}}
	}
	if !values.there() {
		return
	}
	null := false
	for _, v := range values.items {
		switch {
		case v.kind == 'n':
			null = true
		case ofKind(v, f.Kind):
			f.Constraints.Codes = append(f.Constraints.Codes, schema.Code{Value: fmt.Sprint(v.value)})
		}
	}
	f.Nullable = null && (f.Nullable || !c.get("type").there())
	if f.Constraints.Codes == nil {
		m.note(values, "%s: no value of its type is allowed, which is not checked", f.Name)
	}
}

// ofKind says whether a JSON value can be a value of a scalar field; texts are those of all types that JSON lacks.
func ofKind(v *node, kind value.Kind) bool {
	switch v.kind {
	case '0':
		return kind.Numeric()
	case 't', 'f':
		return kind == value.Boolean
	case '"':
		return !kind.Numeric() && kind != value.Boolean
	}
	return false
}

func (m *importer) integer(c context, f *schema.Field) {
	f.Kind = value.Integer
	m.bounds(c, f)
}

func (m *importer) decimal(c context, f *schema.Field) {
	f.Kind = value.Decimal
	m.bounds(c, f)
}

func (m *importer) boolean(c context, f *schema.Field) {
	f.Kind = value.Boolean
	m.codes(c, f)
}

// bounds reads what a number must be.
func (m *importer) bounds(c context, f *schema.Field) {
	for _, b := range []struct {
		keyword string
		to      *value.Value
	}{
		{"minimum", &f.Constraints.Minimum},
		{"maximum", &f.Constraints.Maximum},
		{"exclusiveMinimum", &f.Constraints.Above},
		{"exclusiveMaximum", &f.Constraints.Below},
		{"multipleOf", &f.Constraints.MultipleOf},
	} {
		n := c.get(b.keyword)
		if !n.there() {
			continue
		}
		v, ok := value.ParseDecimal(fmt.Sprint(n.value))
		if !ok {
			m.note(n, "%s: %s", b.keyword, notChecked)
			continue
		}
		if *b.to = v; f.Kind == value.Integer {
			whole, is := value.AsInteger(v)
			if !is {
				m.note(n, "%s: %s", b.keyword, notChecked)
				whole = value.Value{}
			}
			*b.to = whole
		}
	}
	m.places(c, f)
	m.codes(c, f)
}

// places makes a multipleOf of 1, 0.1, 0.01 … the number of decimal places.
func (m *importer) places(c context, f *schema.Field) {
	n := c.get("multipleOf")
	if !n.there() || f.Kind != value.Decimal {
		return
	}
	text := fmt.Sprint(n.value)
	frac, point := strings.CutPrefix(text, "0.")
	switch {
	case point && strings.Trim(frac, "0") == "1" && strings.HasSuffix(frac, "1"):
		f.Constraints.FractionDigits = len(frac)
	case text == "1":
		f.Constraints.FractionDigits = 0
	default:
		return
	}
	f.Constraints.MultipleOf = value.Value{}
}
