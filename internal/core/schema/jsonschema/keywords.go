package jsonschema

import (
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

// What the keywords of a schema are about: those of a type say nothing of values of another (JSON Schema Validation 2020-12,
// section 6), those for all types speak of any value.
var (
	keywords = map[string][]string{
		"object":  {"properties", "patternProperties", "additionalProperties", "propertyNames", "required", "minProperties", "maxProperties", "unevaluatedProperties", "dependentRequired", "dependentSchemas", "dependencies"},
		"array":   {"items", "minItems", "maxItems", "uniqueItems", "prefixItems", "contains", "minContains", "maxContains", "additionalItems", "unevaluatedItems"},
		"string":  {"pattern", "maxLength", "minLength", "format", "contentEncoding"},
		"number":  {"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf"},
		"integer": {"minimum", "maximum", "exclusiveMinimum", "exclusiveMaximum", "multipleOf", "format"},
		"boolean": {},
	}
	forAll = []string{"enum", "const", "if", "not", "$dynamicRef", "$recursiveRef"}
)

const notChecked = "it is not checked"

// unheld are the keywords that a part cannot hold, with what becomes of them.
var unheld = map[string]string{
	"dependentRequired": notChecked, "dependentSchemas": notChecked, "dependencies": notChecked, "if": "conditions are not checked",
	"not": notChecked, "contains": notChecked, "minContains": notChecked, "maxContains": notChecked, "prefixItems": "the items of a list are all alike here",
	"unevaluatedProperties": notChecked, "unevaluatedItems": notChecked, "$dynamicRef": "it is not followed", "$recursiveRef": "it is not followed",
}

// unsaid notes what a schema says of values of the types that it allows, and a part cannot hold.
func (m *importer) unsaid(c context, kinds []string) {
	if c.node == nil {
		return
	}
	for _, name := range c.names {
		why, ok := unheld[name]
		switch v := c.get(name); {
		case !ok && name != "enum" && name != "const":
		case !slices.Contains(forAll, name) && len(kinds) > 0 && !slices.ContainsFunc(kinds, func(k string) bool { return slices.Contains(keywords[k], name) }):
		case name == "enum" || name == "const":
			m.allowedValues(c, name, kinds)
		case v.kind == 't' && strings.HasPrefix(name, "unevaluated") || name == "unevaluatedProperties" && m.closes(c):
		case (name == "minContains" || name == "maxContains") && c.get("contains").there():
		case name == "if" && !c.get("then").there() && !c.get("else").there():
		default:
			m.note(v, "%s: %s", name, why)
		}
	}
}

// allowedValues notes values that a schema allows alone, where a part does not compare them: objects and lists.
func (m *importer) allowedValues(c context, name string, kinds []string) {
	if !slices.Contains(kinds, "object") && !slices.Contains(kinds, "array") {
		return
	}
	m.note(c.get(name), "%s: which objects and lists are allowed is not checked", name)
}

// closes says whether unevaluatedProperties says the same as additionalProperties would: no other keyword describes fields of
// its own.
func (m *importer) closes(c context) bool {
	for _, name := range []string{"oneOf", "anyOf", "if", "dependentSchemas", "dependencies", "not", "$dynamicRef"} {
		if c.get(name).there() {
			return false
		}
	}
	return c.get("unevaluatedProperties").kind == 'f'
}

// implied are the types that a schema without a type speaks of. It allows values of all others, too; that is noted once.
func (m *importer) implied(c context) []string {
	if c.node == nil {
		return nil
	}
	if kinds := valueKinds(c); kinds != nil {
		return kinds
	}
	var kinds []string
	for _, k := range []string{"object", "array", "string", "number"} {
		if slices.ContainsFunc(keywords[k], func(name string) bool { return c.get(name).there() }) {
			kinds = append(kinds, k)
		}
	}
	if kinds == nil {
		return nil
	}
	if m.untypedAt == nil {
		m.untypedAt = &c
	}
	m.untypedPlaces++
	return kinds
}

// valueKinds are the types of the values that enum or const allow.
func valueKinds(c context) (kinds []string) {
	values := c.get("enum").list()
	if one := c.get("const"); one.there() {
		values = []*node{one.node}
	}
	for _, v := range values {
		if k := kindOf(v); !slices.Contains(kinds, k) {
			kinds = append(kinds, k)
		}
	}
	return kinds
}

// list are the items of an array.
func (c context) list() []*node {
	if c.node == nil {
		return nil
	}
	return c.items
}

// kindOf is the type of a value.
func kindOf(v *node) string {
	return map[byte]string{'"': "string", '0': "number", 't': "boolean", 'f': "boolean", 'n': "null", '{': "object", '[': "array"}[v.kind]
}

// noteUntyped tells, in one note for all of them, where only keywords tell of the type.
func (m *importer) noteUntyped() {
	if m.untypedAt == nil {
		return
	}
	others := ""
	if n := m.untypedPlaces - 1; n > 0 {
		others = fmt.Sprintf(", as at %d more places", n)
	}
	m.note(*m.untypedAt, "no type is said here%s: values of the type that the other keywords are about are expected, and no others", others)
	f := m.notes[len(m.notes)-1]
	m.notes = append(fault.List{f}, m.notes[:len(m.notes)-1]...)
}
