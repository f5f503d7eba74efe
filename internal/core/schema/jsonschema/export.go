package jsonschema

import (
	"bytes"
	stdjson "encoding/json"
	"regexp"
	"strings"

	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Export writes a schema as JSON Schema 2020-12, for messages in JSON. A list of records is said by
// many.
func Export(s *schema.Schema, many bool) []byte {
	s = s.As(json.Kind.Notation)
	root := *s.Root
	if s.Message.List() {
		root.Min, root.Max = s.Message.Min, s.Message.Max
	} else if many {
		root.Min, root.Max = 0, schema.Many
	}
	body := occurring(&root)
	top := append(object{{"$schema", "https://json-schema.org/draft/2020-12/schema"}, {"title", s.Title}}, body...)
	raw, err := stdjson.Marshal(top)
	if err != nil {
		panic(err) // texts, numbers and lists of them can always be written
	}
	var b bytes.Buffer
	if err := stdjson.Indent(&b, raw, "", "  "); err != nil {
		panic(err)
	}
	b.WriteByte('\n')
	return b.Bytes()
}

// object is a JSON object whose members keep their order.
type object []member

type member struct {
	name  string
	value any
}

// MarshalJSON writes the members in their order.
func (o object) MarshalJSON() ([]byte, error) {
	b := []byte{'{'}
	for i, m := range o {
		if i > 0 {
			b = append(b, ',')
		}
		name, err := stdjson.Marshal(m.name)
		if err != nil {
			return nil, err
		}
		v, err := stdjson.Marshal(m.value)
		if err != nil {
			return nil, err
		}
		b = append(append(append(b, name...), ':'), v...)
	}
	return append(b, '}'), nil
}

func record(f *schema.Field) object {
	properties := object{}
	required := []string{}
	for _, c := range f.Fields {
		if c.HoldsOthers {
			continue
		}
		properties = append(properties, member{c.Name, occurring(c)})
		if c.Required() {
			required = append(required, c.Name)
		}
	}
	o := object{{"type", "object"}, {"properties", properties}, {"required", required}}
	switch held := f.HeldOthers(); {
	case held != nil && (held.Constraints.Pattern != nil || held.Constraints.MaxLength > 0):
		return append(o, entries(held)[1:]...)
	case held != nil:
		return append(o, member{"additionalProperties", occurring(held.Each())})
	case f.Strict():
		return append(o, member{"additionalProperties", false})
	}
	return o
}

// entries is a map: what stands at each name, and what the names must be.
func entries(f *schema.Field) object {
	each, m := occurring(f.Each()), &f.Constraints
	o := object{{"type", "object"}}
	if p := m.PatternText(); p != "" {
		o = append(o, member{"patternProperties", object{{"^(?:" + p + ")$", each}}}, member{"additionalProperties", false})
	} else {
		o = append(o, member{"additionalProperties", each})
	}
	if m.MinLength > 0 || m.MaxLength > 0 || len(m.Codes) > 0 {
		names := *f
		names.Constraints.Pattern = nil
		o = append(o, member{"propertyNames", text(&names)})
	}
	return limits(o, "Properties", m)
}

// limits adds how many entries there may be.
func limits(o object, of string, m *schema.Constraints) object {
	if m.MinEntries > 0 {
		o = append(o, member{"min" + of, m.MinEntries})
	}
	if m.MaxEntries > 0 {
		o = append(o, member{"max" + of, m.MaxEntries})
	}
	return o
}

// variant is a choice of branches.
func variant(f *schema.Field) object {
	var list []any
	for _, b := range f.Fields {
		list = append(list, occurring(b))
	}
	if by := f.TellingField(); by != "" {
		return object{{"oneOf", list}, {"discriminator", object{{"propertyName", by}}}}
	}
	if f.ToldBy == schema.OnlyOne {
		return object{{"oneOf", list}}
	}
	return object{{"anyOf", list}}
}

// occurring is a field with how often it occurs.
func occurring(f *schema.Field) object {
	one := single(f)
	o := one
	if f.List() {
		o = object{{"type", "array"}, {"items", one}}
		if f.Min > 0 {
			o = append(o, member{"minItems", f.Min})
		}
		if f.Max != schema.Many {
			o = append(o, member{"maxItems", f.Max})
		}
		if f.Kind != value.MapKind {
			o = limits(o, "Items", &f.Constraints)
		}
		if f.Constraints.Unique {
			o = append(o, member{"uniqueItems", true})
		}
	}
	if f.Single && f.List() {
		o = object{{"anyOf", []any{o, one}}}
	}
	if f.Notes != "" {
		o = append(o, member{"description", f.Notes})
	}
	if f.Nullable {
		return object{{"anyOf", []any{o, object{{"type", "null"}}}}}
	}
	return o
}

func single(f *schema.Field) object {
	switch f.Kind {
	case value.RecordKind:
		return record(f)
	case value.MapKind:
		return entries(f)
	case value.VariantKind:
		return variant(f)
	case value.ListKind:
		return occurring(f.Each())
	case value.AnyKind:
		return object{}
	case value.Null:
		return object{{"type", "null"}}
	case value.Integer, value.Decimal:
		return numeric(f)
	case value.Boolean:
		return withCodes(object{{"type", "boolean"}}, f)
	case value.Binary:
		if f.WireFormat.Hex {
			return object{{"type", "string"}, {"contentEncoding", "base16"}, {"pattern", "^([0-9A-Fa-f]{2})*$"}}
		}
		return object{{"type", "string"}, {"contentEncoding", "base64"}}
	case value.Text:
		return text(f)
	}
	return temporal(f)
}

// withCodes adds the values that a field may have, as they stand in JSON.
func withCodes(o object, f *schema.Field) object {
	if len(f.Constraints.Codes) == 0 {
		return o
	}
	var list []any
	for _, c := range f.Constraints.Codes {
		switch {
		case f.Kind.Numeric():
			list = append(list, stdjson.Number(c.Value))
		case f.Kind == value.Boolean:
			list = append(list, c.Value == "true")
		default:
			list = append(list, c.Value)
		}
	}
	return append(o, member{"enum", list})
}

func text(f *schema.Field) object {
	o := object{{"type", "string"}}
	if f.Constraints.MinLength > 0 {
		o = append(o, member{"minLength", f.Constraints.MinLength})
	}
	if f.Constraints.MaxLength > 0 {
		o = append(o, member{"maxLength", f.Constraints.MaxLength})
	}
	if p := f.Constraints.PatternText(); p != "" {
		o = append(o, member{"pattern", "^(?:" + p + ")$"})
	}
	if also := f.Constraints.AlsoTexts(); also != nil {
		var all []any
		for _, p := range also {
			all = append(all, object{{"pattern", "^(?:" + p + ")$"}})
		}
		o = append(o, member{"allOf", all})
	}
	if f.Constraints.Format != "" {
		o = append(o, member{"format", f.Constraints.Format})
	}
	return withCodes(o, f)
}

func numeric(f *schema.Field) object {
	o := object{{"type", "number"}}
	if f.Kind == value.Integer {
		o = object{{"type", "integer"}}
	}
	for _, b := range []struct {
		keyword string
		v       value.Value
	}{
		{"minimum", f.Constraints.Minimum},
		{"maximum", f.Constraints.Maximum},
		{"exclusiveMinimum", f.Constraints.Above},
		{"exclusiveMaximum", f.Constraints.Below},
		{"multipleOf", f.Constraints.MultipleOf},
	} {
		if b.v.Kind() != value.Absent {
			o = append(o, member{b.keyword, stdjson.Number(b.v.String())})
		}
	}
	if f.Kind == value.Decimal && f.Constraints.FractionDigits >= 0 {
		o = append(o, member{"multipleOf", stdjson.Number(value.NewDecimal(1, -int32(f.Constraints.FractionDigits)).String())})
	}
	return withCodes(o, f)
}

// temporal writes dates and times in the form in which the field is written: by format where it is
// the standard one, by a pattern of digits otherwise.
func temporal(f *schema.Field) object {
	if f.WireFormat.Pattern != "" {
		return withCodes(object{{"type", "string"}, {"pattern", "^" + digits(f.WireFormat.Pattern) + "$"}}, f)
	}
	forms := []object{standardForm(f.Kind)}
	if f.WireFormat.ZoneOptional {
		forms = append(forms, standardForm(map[value.Kind]value.Kind{value.Timestamp: value.LocalTimestamp, value.Time: value.ZonedTime}[f.Kind]))
		return withCodes(object{{"anyOf", []any{forms[0], forms[1]}}}, f)
	}
	return withCodes(forms[0], f)
}

const (
	clockForm = `([01]\d|2[0-3]):[0-5]\d:[0-5]\d(\.\d{1,9})?`
	dateForm  = `\d{4}-(0[1-9]|1[0-2])-(0[1-9]|[12]\d|3[01])`
)

// patterns are the forms of types whose formats validators do not know.
var patterns = map[value.Kind]string{
	value.Time: clockForm, value.LocalTimestamp: dateForm + "T" + clockForm, value.YearMonth: `\d{4}-(0[1-9]|1[0-2])`,
}

// standardForm is the standard form of a date, a time or the like: by its format, or by a pattern where there is none.
func standardForm(kind value.Kind) object {
	o := object{{"type", "string"}}
	if form := patterns[kind]; form != "" {
		o = append(o, member{"pattern", "^" + form + "$"})
	}
	for name, of := range formats {
		if of == kind {
			o = append(o, member{"format", name})
		}
	}
	return o
}

var symbol = regexp.MustCompile(`[yMdHms]`)

func digits(pattern string) string {
	return symbol.ReplaceAllString(strings.ReplaceAll(regexp.QuoteMeta(pattern), `\-`, "-"), `\d`)
}
