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
	body := record(s.Root)
	if many {
		body = object{{"type", "array"}, {"items", body}}
	}
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
		properties = append(properties, member{c.Name, occurring(c)})
		if c.Required() {
			required = append(required, c.Name)
		}
	}
	return object{{"type", "object"}, {"properties", properties}, {"required", required}, {"additionalProperties", false}}
}

// occurring is a field with how often it occurs.
func occurring(f *schema.Field) any {
	one := single(f)
	var o object
	switch {
	case !f.List():
		o = one
	default:
		o = object{{"type", "array"}, {"items", one}}
		if f.Min > 0 {
			o = append(o, member{"minItems", f.Min})
		}
		if f.Max != schema.Many {
			o = append(o, member{"maxItems", f.Max})
		}
	}
	if f.Single && f.List() {
		o = object{{"anyOf", []any{o, one}}}
	}
	if f.Notes != "" {
		o = append(o, member{"description", f.Notes})
	}
	if f.Nullable || f.Min == 0 && f.Nullable {
		return object{{"anyOf", []any{o, object{{"type", "null"}}}}}
	}
	return o
}

func single(f *schema.Field) object {
	switch f.Kind {
	case value.RecordKind:
		return record(f)
	case value.Integer, value.Decimal:
		return numeric(f)
	case value.Boolean:
		return object{{"type", "boolean"}}
	case value.Binary:
		return object{{"type", "string"}, {"contentEncoding", "base64"}}
	case value.Text:
		return text(f)
	}
	return temporal(f)
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
	if len(f.Constraints.Codes) > 0 {
		var codes []string
		for _, c := range f.Constraints.Codes {
			codes = append(codes, c.Value)
		}
		o = append(o, member{"enum", codes})
	}
	return o
}

func numeric(f *schema.Field) object {
	o := object{{"type", "number"}}
	if f.Kind == value.Integer {
		o = object{{"type", "integer"}}
	}
	for _, b := range []struct {
		keyword string
		v       value.Value
	}{{"minimum", f.Constraints.Minimum}, {"maximum", f.Constraints.Maximum}} {
		if b.v.Kind() != value.Absent {
			o = append(o, member{b.keyword, stdjson.Number(b.v.String())})
		}
	}
	if f.Kind == value.Decimal && f.Constraints.FractionDigits >= 0 {
		o = append(o, member{"multipleOf", stdjson.Number(value.NewDecimal(1, -int32(f.Constraints.FractionDigits)).String())})
	}
	return o
}

// temporal writes dates and times in the form in which the field is written: by format where it is
// the standard one, by a pattern of digits otherwise.
func temporal(f *schema.Field) object {
	if f.WireFormat.Pattern != "" {
		return object{{"type", "string"}, {"pattern", "^" + digits(f.WireFormat.Pattern) + "$"}}
	}
	for name, kind := range formats {
		if kind == f.Kind && kind != value.Time { // RFC 3339 times have a zone, ours have none
			return object{{"type", "string"}, {"format", name}}
		}
	}
	return object{{"type", "string"}, {"pattern", `^([01]\d|2[0-3]):[0-5]\d(:[0-5]\d(\.\d+)?)?$`}}
}

var symbol = regexp.MustCompile(`[yMdHms]`)

func digits(pattern string) string {
	return symbol.ReplaceAllString(strings.ReplaceAll(regexp.QuoteMeta(pattern), `\-`, "-"), `\d`)
}
