package jsonschema

import (
	"fmt"
	"regexp"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// formats are the formats of texts that are types of their own.
var formats = map[string]value.Kind{"date": value.Date, "time": value.Time, "date-time": value.Timestamp}

func (m *importer) text(c context, f *schema.Field) {
	f.Kind = value.Text
	format := c.get("format")
	if kind, ok := formats[c.text("format")]; ok {
		f.Kind = kind
		return
	}
	if c.text("contentEncoding") == "base64" || c.text("format") == "byte" {
		f.Kind = value.Binary
		return
	}
	if format.there() {
		m.note(format, "the format %v is not checked", format.value)
	}
	f.Constraints.MinLength, f.Constraints.MaxLength = m.count(c, "minLength", 0), m.count(c, "maxLength", 0)
	if p := c.get("pattern"); p.there() {
		re, err := regexp.Compile(`^(?:` + whole(c.text("pattern")) + `)$`)
		if err != nil {
			m.note(p, "the pattern is not checked: %s", err)
		} else {
			f.Constraints.Pattern = re
		}
	}
	m.codes(c, f)
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

func (m *importer) codes(c context, f *schema.Field) {
	values := c.get("enum")
	if one := c.get("const"); one.there() {
		values = context{c.doc, &node{kind: '[', items: []*node{one.node}}}
	}
	if !values.there() {
		return
	}
	for _, v := range values.items {
		s, ok := v.value.(string)
		switch {
		case v.kind == 'n':
			f.Nullable = true
		case !ok:
			m.note(values, "the values allowed for %s are not all texts; they are not checked", f.Name)
			f.Constraints.Codes = nil
			return
		default:
			f.Constraints.Codes = append(f.Constraints.Codes, schema.Code{Value: s})
		}
	}
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
	for _, keyword := range []string{"enum", "const"} {
		if v := c.get(keyword); v.there() {
			m.note(v, "%s: %s", keyword, notChecked)
		}
	}
}

func (m *importer) bounds(c context, f *schema.Field) {
	for _, b := range []struct {
		keyword string
		to      *value.Value
		over    int64 // what an integer beyond an exclusive bound differs by
	}{
		{"minimum", &f.Constraints.Minimum, 0},
		{"maximum", &f.Constraints.Maximum, 0},
		{"exclusiveMinimum", &f.Constraints.Minimum, 1},
		{"exclusiveMaximum", &f.Constraints.Maximum, -1},
	} {
		n := c.get(b.keyword)
		if !n.there() {
			continue
		}
		v, ok := value.ParseDecimal(fmt.Sprint(n.value))
		whole, integer := value.AsInteger(v)
		switch {
		case !ok || b.over != 0 && (f.Kind != value.Integer || !integer):
			m.note(n, "%s: %s", b.keyword, notChecked)
		case b.over != 0:
			*b.to, _ = value.Add(whole, value.Int(b.over))
		case f.Kind == value.Integer && !integer:
			m.note(n, "%s: %s", b.keyword, notChecked)
		case f.Kind == value.Integer:
			*b.to = whole
		default:
			*b.to = v
		}
	}
	m.places(c, f)
	for _, keyword := range []string{"enum", "const"} {
		if v := c.get(keyword); v.there() {
			m.note(v, "%s of numbers: %s", keyword, notChecked)
		}
	}
}

// places reads a multipleOf of 1, 0.1, 0.01 … as the number of decimal places.
func (m *importer) places(c context, f *schema.Field) {
	n := c.get("multipleOf")
	if !n.there() {
		return
	}
	text := fmt.Sprint(n.value)
	if frac, ok := strings.CutPrefix(text, "0."); ok && strings.Trim(frac, "0") == "1" && strings.HasSuffix(frac, "1") {
		f.Constraints.FractionDigits = len(frac)
		return
	}
	if text == "1" {
		f.Constraints.FractionDigits = 0
		return
	}
	m.note(n, "multipleOf: %s", notChecked)
}
