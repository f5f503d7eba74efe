package contract

import (
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// node is a value of a document with its place in it.
type node struct {
	*yaml.Node
	pointer string // RFC 6901
}

// there says whether there is a value.
func (n node) there() bool { return n.Node != nil }

func escape(name string) string {
	return strings.ReplaceAll(strings.ReplaceAll(name, "~", "~0"), "/", "~1")
}

// get is the member of a mapping.
func (n node) get(name string) node {
	if n.Node == nil || n.Kind != yaml.MappingNode {
		return node{}
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value == name {
			return node{n.Content[i+1], n.pointer + "/" + escape(name)}
		}
	}
	return node{}
}

// members visits the members of a mapping in their order.
func (n node) members(visit func(name string, v node)) {
	if n.Node == nil || n.Kind != yaml.MappingNode {
		return
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		name := n.Content[i].Value
		visit(name, node{n.Content[i+1], n.pointer + "/" + escape(name)})
	}
}

// items visits the items of a sequence.
func (n node) items(visit func(v node)) {
	if n.Node == nil || n.Kind != yaml.SequenceNode {
		return
	}
	for i, c := range n.Content {
		visit(node{c, n.pointer + "/" + strconv.Itoa(i)})
	}
}

// text is a scalar's text.
func (n node) text() string {
	if n.Node == nil || n.Kind != yaml.ScalarNode {
		return ""
	}
	return n.Value
}

func (n node) yes() bool { return n.text() == "true" }

func (n node) texts() (list []string) {
	n.items(func(v node) { list = append(list, v.text()) })
	return list
}

// place is where the node stands.
func (n node) place(source string) fault.Place {
	if n.Node == nil {
		return fault.Place{Source: source}
	}
	return fault.Place{Source: source, Line: n.Line, Column: n.Column, Path: n.pointer}
}
