package xsd

import (
	"encoding/xml"
	"regexp"
)

const (
	ncName  = `[\p{L}_][\p{L}\p{N}\p{M}._·-]*`
	xmlName = `[\p{L}_:][\p{L}\p{N}\p{M}._:·-]*`
)

// builtins are the simple types of XML Schema 1.0 (part 2, section 3).
var builtins = makeBuiltins()

func makeBuiltins() map[string]*Simple {
	b := map[string]*Simple{}
	for name := range lexicals {
		b[name] = &Simple{Name: name, primitive: name, space: "collapse"}
	}
	b["string"] = &Simple{Name: "string", primitive: "string", space: "preserve"}
	b["anySimpleType"] = &Simple{Name: "anySimpleType", primitive: "string", space: "preserve"}
	derive := func(name, base, space, pattern, words string) {
		t := &Simple{Name: name, primitive: b[base].primitive, space: space, base: b[base]}
		if pattern != "" {
			t.facets.patterns = []*regexp.Regexp{regexp.MustCompile(`^(?:` + pattern + `)$`)}
			t.facets.patternText = []string{words}
		}
		b[name] = t
	}
	derive("normalizedString", "string", "replace", "", "")
	derive("token", "normalizedString", "collapse", "", "")
	derive("language", "token", "collapse", `[a-zA-Z]{1,8}(-[a-zA-Z0-9]{1,8})*`, "a language as en-GB")
	derive("Name", "token", "collapse", xmlName, "an XML name")
	derive("NCName", "Name", "collapse", ncName, "an XML name without a colon")
	derive("NMTOKEN", "token", "collapse", `[\p{L}\p{N}\p{M}._:·-]+`, "an XML name token")
	for _, name := range []string{"ID", "IDREF", "ENTITY"} {
		derive(name, "NCName", "collapse", "", "")
	}
	one := 1
	for name, item := range map[string]string{"NMTOKENS": "NMTOKEN", "IDREFS": "IDREF", "ENTITIES": "ENTITY"} {
		b[name] = &Simple{Name: name, space: "collapse", item: b[item], facets: facets{minLength: &one}}
	}
	whole := func(name, base, least, most string) {
		t := &Simple{Name: name, primitive: "decimal", space: "collapse", base: b[base]}
		t.facets.minIn, t.facets.hasMinIn = least, least != ""
		t.facets.maxIn, t.facets.hasMaxIn = most, most != ""
		b[name] = t
	}
	derive("integer", "decimal", "collapse", `[+-]?[0-9]+`, "a whole number")
	whole("nonPositiveInteger", "integer", "", "0")
	whole("negativeInteger", "nonPositiveInteger", "", "-1")
	whole("nonNegativeInteger", "integer", "0", "")
	whole("positiveInteger", "nonNegativeInteger", "1", "")
	whole("long", "integer", "-9223372036854775808", "9223372036854775807")
	whole("int", "long", "-2147483648", "2147483647")
	whole("short", "int", "-32768", "32767")
	whole("byte", "short", "-128", "127")
	whole("unsignedLong", "nonNegativeInteger", "0", "18446744073709551615")
	whole("unsignedInt", "unsignedLong", "0", "4294967295")
	whole("unsignedShort", "unsignedInt", "0", "65535")
	whole("unsignedByte", "unsignedShort", "0", "255")
	return b
}

// builtin finds a type of the XML Schema namespace.
func builtin(name xml.Name) *Type {
	if name.Space != nsXS {
		return nil
	}
	if name.Local == "anyType" {
		return anyType
	}
	if s := builtins[name.Local]; s != nil {
		return builtinTypes[name.Local]
	}
	return nil
}

var builtinTypes = func() map[string]*Type {
	m := map[string]*Type{}
	for name, s := range builtins {
		m[name] = &Type{Name: xml.Name{Space: nsXS, Local: name}, Simple: s}
	}
	for name, t := range m {
		if base := builtins[name].base; base != nil {
			t.Base = m[base.Name]
		} else if name != "anySimpleType" {
			t.Base = m["anySimpleType"]
		}
		t.Derived = "restriction"
	}
	return m
}()

// anyType is the type of which nothing is said: any attributes and any content.
var anyType = &Type{
	Name: xml.Name{Space: nsXS, Local: "anyType"}, Complex: true, Mixed: true,
	Content: repeat{&wildcard{any: true, process: "lax"}, 0, -1}, AnyAttr: &wildcard{any: true, process: "lax"},
}
