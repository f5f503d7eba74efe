package partfile

import (
	"fmt"
	"slices"

	"go.yaml.in/yaml/v3"
)

// Settings is one mapping of items that are put into a document.
type Settings struct{ node *yaml.Node }

// Get reads a scalar; empty where it is not there.
func (s Settings) Get(key string) string {
	if n, err := descend(s.node, key); err == nil && n.Kind == yaml.ScalarNode {
		return n.Value
	}
	return ""
}

// Set changes a scalar that is there.
func (s Settings) Set(key, to string) {
	if n, err := descend(s.node, key); err == nil && n.Kind == yaml.ScalarNode {
		n.SetString(to)
	}
}

// Change changes a scalar, or the scalars of a mapping, under a key. It says whether one is another.
func (s Settings) Change(key string, change func(text string) string) (changed bool) {
	n, err := descend(s.node, key)
	if err != nil {
		return false
	}
	scalars := []*yaml.Node{n}
	if n.Kind == yaml.MappingNode {
		scalars = nil
		for i := 1; i < len(n.Content); i += 2 {
			scalars = append(scalars, n.Content[i])
		}
	}
	for _, one := range scalars {
		if one.Kind != yaml.ScalarNode {
			continue
		}
		if now := change(one.Value); now != one.Value {
			one.Value = now
			changed = true
		}
	}
	return changed
}

// Map is the mapping under a key; ok is false where there is none.
func (s Settings) Map(key string) (inner Settings, ok bool) {
	n, err := descend(s.node, key)
	return Settings{n}, err == nil && n.Kind == yaml.MappingNode
}

// List are the mappings of the list under a key.
func (s Settings) List(key string) (list []Settings) {
	n, err := descend(s.node, key)
	if err != nil || n.Kind != yaml.SequenceNode {
		return nil
	}
	for _, item := range n.Content {
		if item.Kind == yaml.MappingNode {
			list = append(list, Settings{item})
		}
	}
	return list
}

// Rename gives a key another name, unless there is one of that name already. It says whether it has.
func (s Settings) Rename(key, to string) bool {
	was := -1
	for i := 0; i+1 < len(s.node.Content); i += 2 {
		switch s.node.Content[i].Value {
		case key:
			was = i
		case to:
			return false
		}
	}
	if was < 0 {
		return false
	}
	s.node.Content[was].Value = to
	return true
}

// Replace takes keys out and puts settings behind the others; what a setting holds has the place of the key of the same position.
func (s Settings) Replace(keys []string, with Ordered) {
	var at []*yaml.Node
	for _, key := range keys {
		for i := 0; i+1 < len(s.node.Content); i += 2 {
			if s.node.Content[i].Value == key {
				at = append(at, s.node.Content[i+1])
				s.node.Content = slices.Delete(s.node.Content, i, i+2)
				break
			}
		}
	}
	for i, n := range with.node().Content {
		if i/2 < len(at) {
			placed(n, at[i/2])
		}
		s.node.Content = append(s.node.Content, n)
	}
}

// placed gives a node and those inside it the place of another one.
func placed(n, at *yaml.Node) {
	n.Line, n.Column = at.Line, at.Column
	for _, c := range n.Content {
		placed(c, at)
	}
}

// Upgrade changes the document, as it was parsed, to what it would be if it were written today. Places stay those of the text.
func (d *Doc) Upgrade(with func(root Settings) bool) {
	if d.root != nil && d.root.Kind == yaml.MappingNode {
		with(Settings{d.root})
	}
}

// Upgraded is a text as it would be written today; the same where with changes nothing, or the text cannot be read.
func Upgraded(text []byte, with func(root Settings) bool) []byte {
	changed := false
	now, err := change(text, func(root *yaml.Node) error {
		changed = root.Kind == yaml.MappingNode && with(Settings{root})
		return nil
	})
	if err != nil || !changed {
		return text
	}
	return now
}

// Items writes some items of a list of the document as a list of its own.
func Items(text []byte, path []any, index, n int) ([]byte, error) {
	var out []byte
	_, err := change(text, func(root *yaml.Node) error {
		items, err := takeItems(root, path, index, n)
		if err != nil {
			return err
		}
		out, err = encode(&yaml.Node{Kind: yaml.SequenceNode, Content: items})
		return err
	})
	return out, err
}

func takeItems(root *yaml.Node, path []any, index, n int) ([]*yaml.Node, error) {
	l, err := list(root, path)
	if err != nil {
		return nil, err
	}
	if err := there(l, index, n); err != nil {
		return nil, err
	}
	items := slices.Clone(l.Content[index : index+n])
	l.Content = slices.Delete(l.Content, index, index+n)
	return items, nil
}

// there says whether a list has so many items from a place on.
func there(l *yaml.Node, index, n int) error {
	if index < 0 || n < 1 || index > len(l.Content) || n > len(l.Content)-index {
		return fmt.Errorf("there are no %d items from %d on here", n, index)
	}
	return nil
}

// Paste puts a list of items into a list of the document, after each has seen every mapping in them, outer
// before inner.
func Paste(text []byte, path []any, at int, items []byte, each func(Settings)) ([]byte, error) {
	if len(items) > MaxBytes {
		return nil, fmt.Errorf("the items have more than %d bytes", MaxBytes)
	}
	var pasted yaml.Node
	if err := yaml.Unmarshal(items, &pasted); err != nil {
		return nil, err
	}
	if len(pasted.Content) == 0 || pasted.Content[0].Kind != yaml.SequenceNode {
		return nil, fmt.Errorf("expected a list of items")
	}
	mappings(pasted.Content[0], each, 0)
	return change(text, func(root *yaml.Node) error {
		l, err := list(root, path)
		if err != nil {
			return err
		}
		if at < 0 || at > len(l.Content) {
			return fmt.Errorf("there is no place %d here", at)
		}
		l.Style = 0
		l.Content = slices.Insert(l.Content, at, pasted.Content[0].Content...)
		return nil
	})
}

// maxDepth bounds mappings in mappings.
const maxDepth = 200

func mappings(n *yaml.Node, each func(Settings), depth int) {
	if depth > maxDepth {
		return
	}
	if n.Kind == yaml.MappingNode {
		each(Settings{n})
	}
	for _, c := range n.Content {
		mappings(c, each, depth+1)
	}
}

// MoveItems takes some items out of one list and puts them into another, or elsewhere in the same. The target's
// path and position are those from before.
func MoveItems(text []byte, from []any, index, n int, to []any, at int) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		l, err := list(root, to) // found before anything moves; the list itself stays the same one
		if err != nil {
			return err
		}
		source, err := list(root, from)
		if err != nil {
			return err
		}
		if err := there(source, index, n); err != nil {
			return err
		}
		if slices.ContainsFunc(source.Content[index:index+n], func(item *yaml.Node) bool { return holds(item, l) }) {
			return fmt.Errorf("items cannot be moved into themselves")
		}
		items, err := takeItems(root, from, index, n)
		if err != nil {
			return err
		}
		if l == source && at > index {
			at = max(index, at-n)
		}
		if at < 0 || at > len(l.Content) {
			return fmt.Errorf("there is no place %d here", at)
		}
		l.Style = 0
		l.Content = slices.Insert(l.Content, at, items...)
		return nil
	})
}

func holds(n, inner *yaml.Node) bool {
	return n == inner || slices.ContainsFunc(n.Content, func(c *yaml.Node) bool { return holds(c, inner) })
}

// Wrap puts some items of a list into a new item that stands in their place: they become the list at the path
// inside it.
func Wrap(text []byte, path []any, index, n int, around Ordered, inside []any) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		items, err := takeItems(root, path, index, n)
		if err != nil {
			return err
		}
		item := around.node()
		inner, err := list(item, inside)
		if err != nil {
			return err
		}
		inner.Content = append(inner.Content, items...)
		l, err := list(root, path)
		if err != nil {
			return err
		}
		return insert(l, index, item)
	})
}

// Unwrap puts the items of a list inside an item in its place.
func Unwrap(text []byte, path []any, index int, inside []any) ([]byte, error) {
	return change(text, func(root *yaml.Node) error {
		outer, err := takeItems(root, path, index, 1)
		if err != nil {
			return err
		}
		inner, err := list(outer[0], inside)
		if err != nil {
			return err
		}
		l, err := list(root, path)
		if err != nil {
			return err
		}
		l.Content = slices.Insert(l.Content, index, inner.Content...)
		return nil
	})
}

// Piece is what stands at a path of a document, as YAML.
func Piece(text []byte, path []any) ([]byte, error) {
	var root yaml.Node
	if err := yaml.Unmarshal(text, &root); err != nil {
		return nil, err
	}
	if len(root.Content) == 0 {
		return nil, fmt.Errorf("the part is empty")
	}
	n := root.Content[0]
	for _, step := range path {
		var err error
		if n, err = descend(n, step); err != nil {
			return nil, err
		}
	}
	return encode(n)
}
