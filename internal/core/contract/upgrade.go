package contract

import (
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"
)

// upgrade makes a document of OpenAPI 3.0 one of 3.1: its schemas become those of JSON Schema 2020-12, which write null, limits, examples
// and bytes otherwise (OpenAPI 3.1, section 4.8.24). What it says stays the same; one of 3.1 stays as it is.
func upgrade(root *yaml.Node) {
	version := member(root, "openapi")
	if version == nil || !strings.HasPrefix(version.Value, "3.0") {
		return
	}
	version.Value = "3.1.0"
	schemasIn(root, "", upgradeSchema)
}

// schemasIn visits the schemas that a value of a document holds, under a name.
func schemasIn(n *yaml.Node, under string, visit func(*yaml.Node)) {
	if under == "example" || under == "examples" || under == "default" || under == "enum" || strings.HasPrefix(under, "x-") {
		return // values, and no descriptions
	}
	if n.Kind == yaml.SequenceNode {
		for _, c := range n.Content {
			schemasIn(c, "", visit)
		}
	}
	if n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name, v := n.Content[i].Value, n.Content[i+1]
		switch {
		case name == "schema":
			walkSchema(v, visit)
		case name == "schemas" && under == "components":
			eachMember(v, func(v *yaml.Node) { walkSchema(v, visit) })
		default:
			schemasIn(v, name, visit)
		}
	}
}

func eachMember(n *yaml.Node, visit func(*yaml.Node)) {
	for i := 1; n.Kind == yaml.MappingNode && i < len(n.Content); i += 2 {
		visit(n.Content[i])
	}
}

// walkSchema visits a schema and those inside it.
func walkSchema(n *yaml.Node, visit func(*yaml.Node)) {
	if n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		switch v := n.Content[i+1]; n.Content[i].Value {
		case "properties":
			eachMember(v, func(v *yaml.Node) { walkSchema(v, visit) })
		case "items", "additionalProperties", "not":
			walkSchema(v, visit)
		case "allOf", "oneOf", "anyOf":
			for _, c := range v.Content {
				walkSchema(c, visit)
			}
		}
	}
	visit(n)
}

// upgradeSchema writes one schema as JSON Schema does.
func upgradeSchema(n *yaml.Node) {
	if yes(take(n, "nullable")) {
		nullable(n)
	}
	for _, side := range []struct{ limit, exclusive string }{{"minimum", "exclusiveMinimum"}, {"maximum", "exclusiveMaximum"}} {
		if at := member(n, side.exclusive); at == nil || at.Tag != "!!bool" {
			continue
		}
		if is := yes(take(n, side.exclusive)); is {
			if limit := take(n, side.limit); limit != nil {
				put(n, side.exclusive, limit)
			}
		}
	}
	if example := take(n, "example"); example != nil && member(n, "examples") == nil {
		put(n, "examples", &yaml.Node{Kind: yaml.SequenceNode, Style: n.Style, Content: []*yaml.Node{example}})
	}
	switch format := member(n, "format"); {
	case format == nil:
	case format.Value == "byte":
		take(n, "format")
		put(n, "contentEncoding", text(n, "base64"))
	case format.Value == "binary":
		take(n, "format")
		put(n, "contentMediaType", text(n, "application/octet-stream"))
	}
}

// nullable lets null stand where a type is written; without one the setting said nothing (OpenAPI 3.0.3, section 4.7.24).
func nullable(n *yaml.Node) {
	of := member(n, "type")
	if of == nil || of.Kind != yaml.ScalarNode {
		return
	}
	one := *of
	*of = yaml.Node{Kind: yaml.SequenceNode, Style: yaml.FlowStyle, Content: []*yaml.Node{&one, {Kind: yaml.ScalarNode, Value: "null", Tag: "!!str", Style: yaml.DoubleQuotedStyle}}}
	if values := member(n, "enum"); values != nil && !slices.ContainsFunc(values.Content, func(v *yaml.Node) bool { return v.Tag == "!!null" }) {
		values.Content = append(values.Content, &yaml.Node{Kind: yaml.ScalarNode, Value: "null", Tag: "!!null"})
	}
}

func yes(n *yaml.Node) bool { return n != nil && n.Value == "true" }

func member(n *yaml.Node, name string) *yaml.Node {
	for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return n.Content[i+1]
		}
	}
	return nil
}

// take takes a member out; nil where there is none.
func take(n *yaml.Node, name string) *yaml.Node {
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			v := n.Content[i+1]
			n.Content = slices.Delete(n.Content, i, i+2)
			return v
		}
	}
	return nil
}

func put(n *yaml.Node, name string, v *yaml.Node) { n.Content = append(n.Content, text(n, name), v) }

// text is a text as a mapping writes its names.
func text(n *yaml.Node, s string) *yaml.Node {
	t := &yaml.Node{Kind: yaml.ScalarNode, Value: s, Tag: "!!str"}
	if len(n.Content) > 0 {
		t.Style = n.Content[0].Style
	} else if n.Style&yaml.FlowStyle != 0 {
		t.Style = yaml.DoubleQuotedStyle
	}
	return t
}
