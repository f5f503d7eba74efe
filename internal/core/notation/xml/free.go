package xml

import (
	"strings"

	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// builder gathers the fields of an element that no schema describes.
type builder struct {
	names  []string
	fields []value.Value
	at     map[string]int
}

func (b *builder) add(name string, v value.Value) {
	if i, ok := b.at[name]; ok {
		if items := b.fields[i].Items(); items != nil && b.fields[i].Kind() == value.ListKind {
			b.fields[i] = value.ListOf(append(items, v)...)
		} else {
			b.fields[i] = value.ListOf(b.fields[i], v)
		}
		return
	}
	if b.at == nil {
		b.at = map[string]int{}
	}
	b.at[name] = len(b.names)
	b.names = append(b.names, name)
	b.fields = append(b.fields, v)
}

// free reads an element that no schema describes, whose start is at hand: text alone is a text, else
// a record.
func (x *reader) free() (value.Value, error) {
	var b builder
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		b.add("@"+x.known(a.Name, a.Raw), value.NewText(a.Value))
	}
	var text xmltext.Pieces
	err := x.children(func() { text.Add(x.in.Text) }, func(name string) error {
		v, err := x.free()
		b.add(name, v)
		return err
	})
	if err != nil {
		return value.Value{}, err
	}
	return b.value(text.String()), nil
}

// children reads what stands in the element at hand, up to its end: text is called for each text, and element for each element, whose
// start is at hand then and which it reads to its end.
func (x *reader) children(text func(), element func(name string) error) error {
	for {
		k, err := x.token()
		if err != nil {
			return err
		}
		switch k {
		case xmltext.Text:
			text()
		case xmltext.Start:
			if err := element(x.name()); err != nil {
				return err
			}
		case xmltext.End:
			return nil
		}
	}
}

func (b *builder) value(text string) value.Value {
	if len(b.names) == 0 {
		return value.NewText(text)
	}
	if strings.TrimSpace(text) != "" {
		b.add("#text", value.NewText(text))
	}
	return value.NewRecord(value.NewLayout(b.names...), b.fields)
}
