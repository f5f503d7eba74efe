package contract

import (
	"bytes"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// WithServer is an OpenAPI document with one address at which the API is called, in place of those that it names. All else keeps its
// order and its comments; a document in JSON stays one.
func WithServer(text []byte, address string) ([]byte, error) {
	var doc yaml.Node
	if err := yaml.Unmarshal(text, &doc); err != nil || len(doc.Content) == 0 || doc.Content[0].Kind != yaml.MappingNode {
		return nil, fault.New(fault.Syntax, "the document cannot be read")
	}
	root := doc.Content[0]
	scalar := func(v string) *yaml.Node {
		return &yaml.Node{Kind: yaml.ScalarNode, Value: v, Style: yaml.DoubleQuotedStyle, Tag: "!!str"}
	}
	servers := &yaml.Node{Kind: yaml.SequenceNode, Style: root.Style, Content: []*yaml.Node{{Kind: yaml.MappingNode, Style: root.Style, Content: []*yaml.Node{scalar("url"), scalar(address)}}}}
	at := -1
	for i := 0; i+1 < len(root.Content); i += 2 {
		if root.Content[i].Value == "servers" {
			root.Content[i+1] = servers
			at = i
		}
	}
	if at < 0 {
		root.Content = append(root.Content, scalar("servers"), servers)
	}
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(&doc); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be written: %s", err)
	}
	return []byte(strings.TrimPrefix(b.String(), "---\n")), nil
}
