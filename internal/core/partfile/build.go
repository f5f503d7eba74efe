package partfile

import "go.yaml.in/yaml/v3"

// Ordered is a part file that is to be written: its settings in order.
type Ordered []Entry

// Entry is one setting: a string, an Out, a list of Outs or a list of strings. An empty value is
// left out, but for a Text.
type Entry struct {
	Key   string
	Value any
}

// Add appends a setting.
func (o *Ordered) Add(key string, v any) { *o = append(*o, Entry{key, v}) }

// Row is a list of values that is written on one line.
type Row []string

// Raw is a piece of a document as YAML or JSON; one that cannot be read is nothing.
type Raw []byte

func (r Raw) node() *yaml.Node {
	var root yaml.Node
	if yaml.Unmarshal(r, &root) != nil || len(root.Content) == 0 {
		return nil
	}
	blocks(root.Content[0])
	return root.Content[0]
}

// blocks writes a piece that came as JSON as YAML mostly is.
func blocks(n *yaml.Node) {
	n.Style &^= yaml.FlowStyle
	if n.Kind == yaml.ScalarNode && n.Style == yaml.DoubleQuotedStyle && n.Tag == "!!str" {
		*n = *scalar(n.Value)
	}
	for _, c := range n.Content {
		blocks(c)
	}
}

// Encode writes a part file.
func Encode(o Ordered) []byte {
	text, err := encode(o.node())
	if err != nil {
		panic(err) // nodes made of strings can always be written
	}
	return text
}

func (o Ordered) node() *yaml.Node {
	n := &yaml.Node{Kind: yaml.MappingNode}
	for _, e := range o {
		if v := valueNode(e.Value); v != nil {
			n.Content = append(n.Content, scalar(e.Key), v)
		}
	}
	return n
}

func valueNode(v any) *yaml.Node {
	list := &yaml.Node{Kind: yaml.SequenceNode}
	switch v := v.(type) {
	case string:
		if v != "" {
			return scalar(v)
		}
	case Text:
		return scalar(v.Value)
	case Raw:
		return v.node()
	case Ordered:
		if n := v.node(); len(n.Content) > 0 {
			return n
		}
	case []Ordered:
		for _, o := range v {
			list.Content = append(list.Content, o.node())
		}
	case Row:
		list.Style = yaml.FlowStyle
		for _, s := range v {
			list.Content = append(list.Content, scalar(s))
		}
		return list
	case []Row:
		for _, row := range v {
			list.Content = append(list.Content, valueNode(row))
		}
	case []string:
		for _, s := range v {
			list.Content = append(list.Content, scalar(s))
		}
	}
	if len(list.Content) == 0 {
		return nil
	}
	return list
}
