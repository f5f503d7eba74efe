package jsonschema

import (
	"bytes"
	stdjson "encoding/json"
	"errors"
	"io"
	"sort"
	"strconv"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// Bounds on a document that is held as a tree.
const (
	MaxBytes = 64 << 20
	MaxDepth = 512
)

// node is one value of a JSON document, with its place. value is what package encoding/json would
// give: nil, bool, string, json.Number, and for containers nothing.
type node struct {
	kind    byte // as in jsontext.Kind: n t f " 0 { [
	value   any
	names   []string
	members map[string]*node
	items   []*node
	off     int
	line    int // of YAML documents, which have no offsets
	column  int
	doc     *document // nil in schemas that were joined of others
}

// document is a parsed JSON document.
type document struct {
	name  string
	root  *node
	lines []int // offsets at which the lines begin

	names *index // nil until something is looked for by its name
}

// refAlone says whether keywords beside a $ref mean nothing, as in JSON Schema up to draft 7 and in OpenAPI 3.0.
func (d *document) refAlone() bool {
	for _, draft := range []string{"draft-03", "draft-04", "draft-06", "draft-07"} {
		if strings.Contains(d.root.text("$schema"), draft) {
			return true
		}
	}
	return strings.HasPrefix(d.root.text("openapi"), "3.0")
}

// parse reads a JSON document (RFC 8259). The error is a *fault.Fault.
func parse(name string, text []byte) (*document, error) {
	d := &document{name: name, lines: []int{0}}
	for i, c := range text {
		if c == '\n' {
			d.lines = append(d.lines, i+1)
		}
	}
	if len(text) > MaxBytes {
		return nil, fault.New(fault.Limit, "the document is larger than %d MB", MaxBytes>>20).At(fault.Place{Source: name})
	}
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	dec := jsontext.NewDecoder(bytes.NewReader(text))
	root, err := d.read(dec, 0)
	if err == nil {
		if _, more := dec.ReadToken(); more != io.EOF {
			err = fault.Expect(fault.Syntax, "the end of the document", "more text").At(d.place(int(dec.InputOffset())))
		}
	}
	if err != nil {
		return nil, d.syntax(err)
	}
	d.root = root
	return d, nil
}

func (d *document) syntax(err error) error {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f
	}
	var s *jsontext.SyntacticError
	if errors.As(err, &s) {
		return fault.New(fault.Syntax, "%s", s.Err).At(d.place(int(s.ByteOffset)))
	}
	return fault.New(fault.Syntax, "%s", strings.TrimPrefix(err.Error(), "jsontext: ")).At(d.place(0))
}

// place is the line and column, in characters of the line's bytes, of an offset.
func (d *document) place(off int) fault.Place {
	line := sort.SearchInts(d.lines, off+1)
	return fault.Place{Source: d.name, Line: line, Column: off - d.lines[line-1] + 1, Byte: int64(off)}
}

// at is the place of a node.
func (d *document) at(n *node) fault.Place {
	if n.line > 0 {
		return fault.Place{Source: d.name, Line: n.line, Column: n.column}
	}
	return d.place(n.off)
}

func (d *document) read(dec *jsontext.Decoder, depth int) (*node, error) {
	kind := dec.PeekKind()
	tok, err := dec.ReadToken()
	if err != nil {
		return nil, err
	}
	n := &node{kind: byte(kind), off: int(dec.InputOffset()), doc: d}
	if depth > MaxDepth {
		return nil, fault.New(fault.Limit, "values nest deeper than %d", MaxDepth).At(d.place(n.off))
	}
	switch kind {
	case 't', 'f':
		n.value = tok.Bool()
	case '"':
		n.value = tok.String()
	case '0':
		n.value = stdjson.Number(tok.String())
	case '{', '[':
		n.off--
		return n, d.inside(dec, n, depth)
	}
	n.off -= width(dec, tok, kind)
	return n, nil
}

// width is how many bytes a scalar token took in the text.
func width(dec *jsontext.Decoder, tok jsontext.Token, kind jsontext.Kind) int {
	if kind != '"' {
		return len(tok.String())
	}
	quoted, err := jsontext.AppendQuote(nil, tok.String())
	if err != nil {
		return 0
	}
	return len(quoted)
}

func (d *document) inside(dec *jsontext.Decoder, n *node, depth int) error {
	n.members = map[string]*node{}
	for {
		kind := dec.PeekKind()
		if kind == '}' || kind == ']' {
			_, err := dec.ReadToken()
			return err
		}
		name := ""
		if n.kind == '{' {
			tok, err := dec.ReadToken()
			if err != nil {
				return err
			}
			name = tok.String()
		}
		c, err := d.read(dec, depth+1)
		if err != nil {
			return err
		}
		if n.kind == '[' {
			n.items = append(n.items, c)
			continue
		}
		n.names = append(n.names, name)
		n.members[name] = c
	}
}

// parseYAML reads a YAML document whose values are those of JSON.
func parseYAML(name string, text []byte) (*document, error) {
	d := &document{name: name, lines: []int{0}}
	if len(text) > MaxBytes {
		return nil, fault.New(fault.Limit, "the document is larger than %d MB", MaxBytes>>20).At(fault.Place{Source: name})
	}
	var y yaml.Node
	if err := yaml.Unmarshal(text, &y); err != nil || len(y.Content) == 0 {
		return nil, fault.New(fault.Syntax, "this is neither JSON nor YAML: %v", err).At(fault.Place{Source: name})
	}
	var err error
	d.root, err = d.fromYAML(y.Content[0], 0)
	return d, err
}

func (d *document) fromYAML(y *yaml.Node, depth int) (*node, error) {
	n := &node{line: y.Line, column: y.Column, members: map[string]*node{}, doc: d}
	if depth > MaxDepth || y.Kind == yaml.AliasNode {
		return nil, fault.New(fault.Limit, "values nest deeper than %d, or by aliases", MaxDepth).At(d.at(n))
	}
	switch y.Kind {
	case yaml.MappingNode:
		n.kind = '{'
		for i := 0; i+1 < len(y.Content); i += 2 {
			c, err := d.fromYAML(y.Content[i+1], depth+1)
			if err != nil {
				return nil, err
			}
			n.names = append(n.names, y.Content[i].Value)
			n.members[y.Content[i].Value] = c
		}
	case yaml.SequenceNode:
		n.kind = '['
		for _, item := range y.Content {
			c, err := d.fromYAML(item, depth+1)
			if err != nil {
				return nil, err
			}
			n.items = append(n.items, c)
		}
	default:
		n.scalar(y)
	}
	return n, nil
}

func (n *node) scalar(y *yaml.Node) {
	switch y.Tag {
	case "!!null":
		n.kind = 'n'
	case "!!bool":
		n.value, n.kind = y.Value == "true", y.Value[0]
	case "!!int", "!!float":
		n.value, n.kind = stdjson.Number(y.Value), '0'
	default:
		n.value, n.kind = y.Value, '"'
	}
}

// plain is the node as package encoding/json would give it, numbers as json.Number.
func (n *node) plain() any {
	switch n.kind {
	case '{':
		m := make(map[string]any, len(n.names))
		for _, name := range n.names {
			m[name] = n.members[name].plain()
		}
		return m
	case '[':
		l := make([]any, len(n.items))
		for i, item := range n.items {
			l[i] = item.plain()
		}
		return l
	}
	return n.value
}

// get finds a member; nil when there is none.
func (n *node) get(name string) *node {
	if n == nil {
		return nil
	}
	return n.members[name]
}

func (n *node) text(name string) string {
	if c := n.get(name); c != nil {
		s, _ := c.value.(string)
		return s
	}
	return ""
}

// find follows reference tokens as far as they lead; whole says whether to the end.
func (n *node) find(tokens []string) (found *node, whole bool) {
	for _, t := range tokens {
		next := n.members[t]
		if n.kind == '[' {
			if i, err := strconv.Atoi(t); err == nil && i >= 0 && i < len(n.items) {
				next = n.items[i]
			}
		}
		if next == nil {
			return n, false
		}
		n = next
	}
	return n, true
}

// tokens splits a JSON Pointer (RFC 6901).
func tokens(pointer string) []string {
	if pointer == "" || pointer == "/" {
		return nil
	}
	parts := strings.Split(strings.TrimPrefix(pointer, "/"), "/")
	for i, p := range parts {
		parts[i] = strings.ReplaceAll(strings.ReplaceAll(p, "~1", "/"), "~0", "~")
	}
	return parts
}
