package contract

import (
	"bytes"
	"slices"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// Export is an OpenAPI document as callers get it: of version 3.1, with one address at which the API is called, in place of those that it
// names. All else keeps its order and its comments; a document in JSON stays one.
func Export(text []byte, address string) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil || len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, fault.New(fault.Syntax, "the document cannot be read")
	}
	root := doc.Content[0]
	upgrade(root)
	scalar := func(v string, style yaml.Style) *yaml.Node {
		return &yaml.Node{Kind: yaml.ScalarNode, Value: v, Style: style, Tag: "!!str"}
	}
	var keys yaml.Style // as the document writes its names
	if len(root.Content) > 0 {
		keys = root.Content[0].Style
	}
	server := &yaml.Node{Kind: yaml.MappingNode, Style: root.Style, Content: []*yaml.Node{scalar("url", keys), scalar(address, yaml.DoubleQuotedStyle)}}
	servers := &yaml.Node{Kind: yaml.SequenceNode, Style: root.Style, Content: []*yaml.Node{server}}
	at, behind := -1, 0
	for i := 0; i+1 < len(root.Content); i += 2 {
		switch root.Content[i].Value {
		case "servers":
			root.Content[i+1], at = servers, i
		case "info":
			behind = i + 2
		}
	}
	if at < 0 {
		root.Content = slices.Insert(root.Content, behind, scalar("servers", keys), servers)
	}
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&doc); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be written: %s", err)
	}
	return []byte(strings.TrimPrefix(b.String(), "---\n")), nil
}
