// Package partfile reads part files: YAML documents whose every value knows its line and column, so
// that a fault in a part points at the text that caused it. It also edits them in place, keeping
// order and comments.
package partfile

import (
	"bytes"
	"fmt"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"

	"go.yaml.in/yaml/v3"

	"hollowreed/internal/core/fault"
)

// MaxBytes bounds the size of one part file.
const MaxBytes = 4 << 20

// Doc is one parsed part file and the faults found while reading it.
type Doc struct {
	Source string // the name shown in faults
	Faults fault.List
	root   *yaml.Node
	own    fault.List // the faults of the text itself
}

// Again is the document as it was when it was parsed, without the faults that were found since then. Both can be read at once.
func (d *Doc) Again() *Doc {
	return &Doc{Source: d.Source, Faults: slices.Clone(d.own), root: d.root, own: d.own}
}

// Text is a scalar with its place.
type Text struct {
	Value        string
	Line, Column int
}

// Node is one mapping or list of the document. The zero Node is an absent one: everything read
// from it is absent, too.
type Node struct {
	doc  *Doc
	node *yaml.Node
	read map[string]bool
	at   Text
}

var yamlLine = regexp.MustCompile(`^yaml: line (\d+): (.*)`)

// Parse reads a document. A syntax error is the document's first fault; its root is then absent.
func Parse(source string, text []byte) *Doc {
	d := parse(source, text)
	d.own = slices.Clone(d.Faults)
	return d
}

func parse(source string, text []byte) *Doc {
	d := &Doc{Source: source}
	if len(text) > MaxBytes {
		d.fault(Text{Line: 1}, fault.Limit, "the part is larger than %d bytes", MaxBytes)
		return d
	}
	var n yaml.Node
	if err := yaml.Unmarshal(text, &n); err != nil {
		d.unreadable(err)
		return d
	}
	if len(n.Content) == 0 {
		d.fault(Text{Line: 1}, fault.Required, "the part is empty")
		return d
	}
	d.root = n.Content[0]
	return d
}

func (d *Doc) unreadable(err error) {
	at, what := Text{Line: 1}, err.Error()
	if m := yamlLine.FindStringSubmatch(what); m != nil {
		at.Line, _ = strconv.Atoi(m[1])
		what = m[2]
	}
	d.fault(at, fault.Syntax, "%s", what)
}

func (d *Doc) fault(at Text, code fault.Code, format string, args ...any) *fault.Fault {
	f := fault.New(code, format, args...).At(d.Place(at))
	d.Faults = append(d.Faults, f)
	return f
}

// Place is the place of a text in this document.
func (d *Doc) Place(at Text) fault.Place {
	return fault.Place{Source: d.Source, Line: at.Line, Column: at.Column}
}

// Fault notes a fault at a text of the document.
func (d *Doc) Fault(at Text, f *fault.Fault) {
	d.Faults = append(d.Faults, f.At(d.Place(at)))
}

// Root is the document's outermost mapping.
func (d *Doc) Root() Node { return d.wrap(d.root) }

func (d *Doc) wrap(n *yaml.Node) Node {
	if n == nil {
		return Node{doc: d}
	}
	if n.Kind == yaml.AliasNode {
		d.fault(place(n), fault.Syntax, "aliases are not allowed in part files")
		return Node{doc: d}
	}
	return Node{doc: d, node: n, read: map[string]bool{}, at: place(n)}
}

func place(n *yaml.Node) Text { return Text{Value: n.Value, Line: n.Line, Column: n.Column} }

// Present says whether the node is in the document.
func (n Node) Present() bool { return n.node != nil }

// At is the node's place; its Value is the text of a scalar.
func (n Node) At() Text { return n.at }

// Fault notes a fault at the node.
func (n Node) Fault(code fault.Code, format string, args ...any) *fault.Fault {
	return n.doc.fault(n.at, code, format, args...)
}

// Missing notes that the node lacks a setting.
func (n Node) Missing(setting string) { n.doc.Fault(n.at, fault.Missing(setting)) }

// Doc is the document that the node belongs to.
func (n Node) Doc() *Doc { return n.doc }

func (n Node) child(key string) *yaml.Node {
	if n.node == nil {
		return nil
	}
	if n.node.Kind != yaml.MappingNode {
		if len(n.read) == 0 {
			n.doc.fault(n.at, fault.Type, "expected settings (name: value), found %s", kindOf(n.node))
		}
		n.read[key] = true
		return nil
	}
	n.read[key] = true
	for i := 0; i+1 < len(n.node.Content); i += 2 {
		if n.node.Content[i].Value == key {
			return n.node.Content[i+1]
		}
	}
	return nil
}

func kindOf(n *yaml.Node) string {
	switch n.Kind {
	case yaml.MappingNode:
		return "settings"
	case yaml.SequenceNode:
		return "a list"
	case yaml.AliasNode:
		return "an alias"
	}
	return "the text " + fault.Quote(n.Value)
}

// Text reads a scalar; one that is not there has line 0.
func (n Node) Text(key string) Text {
	c := n.child(key)
	if c == nil || c.Tag == "!!null" {
		return Text{}
	}
	if c.Kind != yaml.ScalarNode {
		n.doc.fault(place(c), fault.Type, "%s: expected a text, found %s", key, kindOf(c))
		return Text{}
	}
	return place(c)
}

// Required reads a scalar that must be there.
func (n Node) Required(key string) Text {
	t := n.Text(key)
	if t.Value == "" && n.node != nil {
		n.Missing(key)
	}
	return t
}

// Int reads a whole number, or gives the default.
func (n Node) Int(key string, def int) int {
	t := n.Text(key)
	if t.Value == "" {
		return def
	}
	i, err := strconv.Atoi(t.Value)
	if err != nil {
		n.doc.fault(t, fault.Type, "%s: expected a whole number, found %s", key, fault.Quote(t.Value))
		return def
	}
	return i
}

// Bool reads true or false, or gives the default.
func (n Node) Bool(key string, def bool) bool {
	t := n.Text(key)
	switch t.Value {
	case "":
		return def
	case "true", "false":
		return t.Value == "true"
	}
	n.doc.fault(t, fault.Type, "%s: expected true or false, found %s", key, fault.Quote(t.Value))
	return def
}

// Choice reads one of several words; the first is the default.
func (n Node) Choice(key string, words ...string) string {
	t := n.Text(key)
	if t.Value == "" {
		return words[0]
	}
	for _, w := range words {
		if t.Value == w {
			return w
		}
	}
	n.doc.fault(t, fault.Setting, "%s: expected one of %s, found %s", key, strings.Join(words, ", "), fault.Quote(t.Value))
	return words[0]
}

// Map reads inner settings.
func (n Node) Map(key string) Node { return n.doc.wrap(n.child(key)) }

// List reads a list of nodes; absent is empty.
func (n Node) List(key string) []Node {
	c := n.child(key)
	if c == nil || c.Tag == "!!null" {
		return nil
	}
	if c.Kind != yaml.SequenceNode {
		n.doc.fault(place(c), fault.Type, "%s: expected a list, found %s", key, kindOf(c))
		return nil
	}
	nodes := make([]Node, len(c.Content))
	for i, item := range c.Content {
		nodes[i] = n.doc.wrap(item)
	}
	return nodes
}

// Texts reads the scalars of a list; anything else in it is a fault.
func (n Node) Texts() []Text {
	if n.node == nil || n.node.Kind != yaml.SequenceNode {
		if n.node != nil {
			n.doc.fault(n.at, fault.Type, "expected a list of values, found %s", kindOf(n.node))
		}
		return nil
	}
	out := make([]Text, len(n.node.Content))
	for i, c := range n.node.Content {
		if c.Kind != yaml.ScalarNode {
			n.doc.fault(place(c), fault.Type, "expected a single value, found %s", kindOf(c))
		} else if c.Tag != "!!null" {
			out[i] = place(c)
		}
	}
	return out
}

// Pairs reads the scalars of a mapping in their order.
func (n Node) Pairs() (keys, values []Text) {
	if n.node == nil || n.node.Kind != yaml.MappingNode {
		return nil, nil
	}
	for i := 0; i+1 < len(n.node.Content); i += 2 {
		keys = append(keys, place(n.node.Content[i]))
		values = append(values, place(n.node.Content[i+1]))
	}
	return keys, values
}

// RejectUnknown notes every setting that nothing has read: a misspelt name must not pass in silence.
func (n Node) RejectUnknown() {
	if n.node == nil || n.node.Kind != yaml.MappingNode {
		return
	}
	seen := map[string]bool{}
	for i := 0; i+1 < len(n.node.Content); i += 2 {
		key := n.node.Content[i]
		if seen[key.Value] {
			n.doc.fault(place(key), fault.Syntax, "%q is set twice", key.Value)
		}
		seen[key.Value] = true
		if !n.read[key.Value] {
			n.doc.fault(place(key), fault.Unknown, "unknown setting %q; known here: %s", key.Value, n.known())
		}
	}
}

func (n Node) known() string {
	names := make([]string, 0, len(n.read))
	for k := range n.read {
		names = append(names, k)
	}
	sort.Strings(names)
	return strings.Join(names, ", ")
}

// Set changes, adds or (with an empty value) removes one setting of a document, found by its path of
// names (string) and positions (int): a string or an Out.
// Settings on the way to it are made where they are missing, and removed when they become empty.
// Order and comments stay.
func Set(text []byte, path []any, to any) ([]byte, error) {
	return change(text, func(root *yaml.Node) error { return set(root, path, valueNode(to)) })
}

func change(text []byte, edit func(root *yaml.Node) error) ([]byte, error) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, err
	}
	if len(root.Content) == 0 {
		return nil, fmt.Errorf("the part is empty")
	}
	if err := edit(root.Content[0]); err != nil {
		return nil, err
	}
	return encode(&root)
}

func set(n *yaml.Node, path []any, to *yaml.Node) error {
	if len(path) == 1 {
		return put(n, path[0], to)
	}
	next, err := descend(n, path[0])
	if name, ok := path[0].(string); err != nil && ok && n.Kind == yaml.MappingNode {
		if to == nil {
			return nil
		}
		next, err = &yaml.Node{Kind: yaml.MappingNode}, nil
		n.Content = append(n.Content, scalar(name), next)
	}
	if err != nil {
		return err
	}
	if err := set(next, path[1:], to); err != nil {
		return err
	}
	if next.Kind == yaml.MappingNode && len(next.Content) == 0 {
		return put(n, path[0], nil)
	}
	return nil
}

// list finds a list of the document, and makes it where it is missing.
func list(n *yaml.Node, path []any) (*yaml.Node, error) {
	for i, step := range path {
		next, err := descend(n, step)
		if name, ok := step.(string); err != nil && ok && i == len(path)-1 && n.Kind == yaml.MappingNode {
			next, err = &yaml.Node{Kind: yaml.SequenceNode}, nil
			n.Content = append(n.Content, scalar(name), next)
		}
		if err != nil {
			return nil, err
		}
		n = next
	}
	if n.Kind != yaml.SequenceNode {
		return nil, fmt.Errorf("%v is not a list", path)
	}
	n.Style = 0
	return n, nil
}

// Append adds a mapping of the given pairs (name, value, name, value…) to a list of the document.
func Append(text []byte, path []any, pairs ...string) ([]byte, error) {
	var o Ordered
	for i := 0; i+1 < len(pairs); i += 2 {
		o.Add(pairs[i], pairs[i+1])
	}
	return Insert(text, path, -1, o)
}

// Insert puts a new item into a list of the document; at -1 it comes last.
func Insert(text []byte, path []any, at int, item Ordered) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		l, err := list(root, path)
		if err != nil {
			return err
		}
		return insert(l, at, item.node())
	})
}

func insert(l *yaml.Node, at int, item *yaml.Node) error {
	if at < 0 {
		at = len(l.Content)
	}
	if at > len(l.Content) {
		return fmt.Errorf("there is no place %d here", at)
	}
	l.Content = slices.Insert(l.Content, at, item)
	return nil
}

// Remove takes one item out of a list of the document.
func Remove(text []byte, path []any, index int) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		_, err := take(root, path, index)
		return err
	})
}

func take(root *yaml.Node, path []any, index int) (*yaml.Node, error) {
	l, err := list(root, path)
	if err != nil {
		return nil, err
	}
	if index < 0 || index >= len(l.Content) {
		return nil, fmt.Errorf("there is no item %d here", index)
	}
	item := l.Content[index]
	l.Content = slices.Delete(l.Content, index, index+1)
	return item, nil
}

// Move takes an item out of one list and puts it into another, or elsewhere in the same. The
// target's path and index are those that hold once the item is taken out.
func Move(text []byte, from []any, index int, to []any, at int) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		item, err := take(root, from, index)
		if err != nil {
			return err
		}
		l, err := list(root, to)
		if err != nil {
			return err
		}
		return insert(l, at, item)
	})
}

func scalar(s string) *yaml.Node {
	n := &yaml.Node{}
	n.SetString(s)
	switch {
	case plainScalar.MatchString(s):
		n.Tag, n.Style = "", 0
	case n.Style == yaml.LiteralStyle && unindented.MatchString(s):
		n.Style = yaml.DoubleQuotedStyle
	}
	return n
}

// unindented are texts of several lines whose indentation cannot be told from their own blanks (YAML 1.2.2, 8.1.1.1): their first
// line that holds something begins with one, or a line has nothing else.
var unindented = regexp.MustCompile(`^\n*[ \t]|(^|\n)[ \t]+(\n|$)`)

// plainScalar are numbers and truth values that stand without quotes.
var plainScalar = regexp.MustCompile(`^(-?[0-9]{1,15}(\.[0-9]{1,15})?|true|false)$`)

func descend(n *yaml.Node, step any) (*yaml.Node, error) {
	switch s := step.(type) {
	case int:
		if n.Kind == yaml.SequenceNode && s >= 0 && s < len(n.Content) {
			return n.Content[s], nil
		}
	case string:
		for i := 0; n.Kind == yaml.MappingNode && i+1 < len(n.Content); i += 2 {
			if n.Content[i].Value == s {
				return n.Content[i+1], nil
			}
		}
	}
	return nil, fmt.Errorf("there is no %v here", step)
}

func put(n *yaml.Node, step any, to *yaml.Node) error {
	if at, index := step.(int); index && n.Kind == yaml.SequenceNode && to != nil && at >= 0 && at < len(n.Content) {
		n.Content[at] = to
		return nil
	}
	name, ok := step.(string)
	if !ok || n.Kind != yaml.MappingNode {
		return fmt.Errorf("%v cannot be set here", step)
	}
	for i := 0; i+1 < len(n.Content); i += 2 {
		if n.Content[i].Value != name {
			continue
		}
		if to == nil {
			n.Content = slices.Delete(n.Content, i, i+2)
			return nil
		}
		old := n.Content[i+1]
		to.LineComment, to.HeadComment, to.FootComment = old.LineComment, old.HeadComment, old.FootComment
		n.Content[i+1] = to
		return nil
	}
	if to != nil {
		n.Content = append(n.Content, scalar(name), to)
	}
	return nil
}

func encode(root *yaml.Node) ([]byte, error) {
	var b bytes.Buffer
	e := yaml.NewEncoder(&b)
	e.SetIndent(2)
	if err := e.Encode(root); err != nil {
		return nil, err
	}
	return b.Bytes(), e.Close()
}

// InsertText is Insert of a single text.
func InsertText(text []byte, path []any, at int, item string) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		l, err := list(root, path)
		if err != nil {
			return err
		}
		return insert(l, at, scalar(item))
	})
}

// Scalar is a text in a document, with its path of names and positions, as Set takes it.
type Scalar struct {
	Path  []any
	Value string
}

// Scalars lists the texts of a document; a document that cannot be read has none.
func Scalars(text []byte) (list []Scalar) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil || len(root.Content) == 0 {
		return nil
	}
	var walk func(n *yaml.Node, path []any)
	walk = func(n *yaml.Node, path []any) {
		switch n.Kind {
		case yaml.ScalarNode:
			list = append(list, Scalar{path, n.Value})
		case yaml.SequenceNode:
			for i, c := range n.Content {
				walk(c, append(path[:len(path):len(path)], i))
			}
		case yaml.MappingNode:
			for i := 0; i+1 < len(n.Content); i += 2 {
				walk(n.Content[i+1], append(path[:len(path):len(path)], n.Content[i].Value))
			}
		}
	}
	walk(root.Content[0], nil)
	return list
}
