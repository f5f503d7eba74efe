package xml

import (
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// Documents that no schema describes are exact when they are asked to be: what XML cannot say of a value of JSON stands in attributes of
// a namespace of its own, and what JSON cannot say of an element, the order of its texts and children, in a field.
const (
	typesSpace = "urn:hollowreed:json"
	// contentName is the field of an element whose texts and children do not stand as fields would: a list of texts, and of records
	// with one field for an element.
	contentName = "#content"
	// itemName is the element of an item of a list that does not stand as elements of one name.
	itemName = "item"
)

// The attributes: the type of a value that is no text, and on the root element that it is no field, but the message.
const (
	typeAttr    = "type"    // number, boolean, null, object or list
	messageAttr = "message" // value or list: of records, each an element
)

// number is a number as JSON has it (RFC 8259, section 6).
var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

// hint is the value of an attribute of the element at hand that tells of a value of JSON.
func (x *reader) hint(name string) string {
	for i := range x.in.Attrs {
		if a := &x.in.Attrs[i]; a.Name.Space == typesSpace && a.Name.Local == name {
			return a.Value
		}
	}
	return ""
}

// exactDocument reads a document whose root element is at hand.
func (x *reader) exactDocument() (value.Value, error) {
	name, whole := x.name(), x.hint(messageAttr) == "value"
	v, err := x.exactly()
	if err != nil {
		return value.Value{}, err
	}
	if !whole {
		v = value.NewRecord(value.NewLayout(name), []value.Value{v})
	}
	return x.ended(v, nil)
}

// exactly reads an element whose start is at hand.
func (x *reader) exactly() (value.Value, error) {
	e := exactElement{typ: x.hint(typeAttr), at: x.in.Place()}
	e.at.Path = x.in.Path()
	for i := range x.in.Attrs {
		a := &x.in.Attrs[i]
		if a.Name.Space != typesSpace && (!strings.HasPrefix(a.Raw, "xmlns:") || a.Value != typesSpace) {
			e.fields, e.names = append(e.fields, value.NewText(a.Value)), append(e.names, "@"+x.known(a.Name, a.Raw))
		}
	}
	var text xmltext.Pieces
	err := x.children(func() { text.Add(x.in.Text) }, func(name string) error {
		e.text(&text)
		v, err := x.exactly()
		e.pieces = append(e.pieces, exactPiece{name: name, value: v})
		return err
	})
	if err != nil {
		return value.Value{}, err
	}
	e.text(&text)
	v, ft := e.value()
	if ft != nil {
		return value.Value{}, ft
	}
	return v, nil
}

// exactElement is an element under way: its attributes as fields, and its texts and children in their order.
type exactElement struct {
	typ    string
	at     fault.Place
	names  []string
	fields []value.Value
	pieces []exactPiece
}

type exactPiece struct {
	name  string
	value value.Value
	text  bool
	whole bool // a list is one element, even if it could be several
}

func (e *exactElement) text(text *xmltext.Pieces) {
	if s := text.String(); s != "" {
		e.pieces = append(e.pieces, exactPiece{value: value.NewText(s), text: true})
	}
	*text = xmltext.Pieces{}
}

// value is what the element is in JSON.
func (e *exactElement) value() (value.Value, *fault.Fault) {
	alone := strings.Builder{} // its text
	children := 0
	for _, p := range e.pieces {
		if p.text {
			alone.WriteString(p.value.Text())
		} else {
			children++
		}
	}
	if single := slices.Contains([]string{"number", "boolean", "null"}, e.typ); len(e.names) > 0 && (single || e.typ == "list") || single && children > 0 {
		return value.Value{}, fault.New(fault.Type, "an element of the type %s has no attributes, and a single value no elements", e.typ).At(e.at)
	}
	if text := strings.TrimSpace(alone.String()); text != "" && (e.typ == "list" || e.typ == "null") {
		return value.Value{}, fault.Expect(fault.Type, "no text in an element of the type "+e.typ, fault.Quote(text)).At(e.at)
	}
	switch e.typ {
	case "":
	case "number":
		if !number.MatchString(alone.String()) {
			return value.Value{}, fault.Expect(fault.Type, "a number", fault.Quote(alone.String())).At(e.at)
		}
		return value.Number(alone.String()), nil
	case "boolean":
		if s := alone.String(); s != "true" && s != "false" {
			return value.Value{}, fault.Expect(fault.Type, "true or false", fault.Quote(s)).At(e.at)
		}
		return value.Bool(alone.String() == "true"), nil
	case "null":
		return value.NullValue, nil
	case "list":
		items := []value.Value{}
		for _, p := range e.pieces {
			if !p.text {
				items = append(items, p.value)
			}
		}
		return value.ListOf(items...), nil
	case "object":
	default:
		return value.Value{}, fault.Expect(fault.Setting, "number, boolean, null, object or list", fault.Quote(e.typ)).At(e.at)
	}
	blank := strings.TrimSpace(alone.String()) == ""
	switch {
	case children == 0 && len(e.names) == 0 && e.typ == "":
		return value.NewText(alone.String()), nil
	case children == 0 && alone.Len() > 0:
		e.add("#text", value.NewText(alone.String()))
	case children > 0 && (!blank || apart(e.pieces)):
		e.add(contentName, content(e.pieces, blank))
	default:
		e.children()
	}
	return value.NewRecord(value.NewLayout(e.names...), e.fields), nil
}

func (e *exactElement) add(name string, v value.Value) {
	e.names, e.fields = append(e.names, name), append(e.fields, v)
}

// children makes fields of the children; those that have one name stand beside each other, and are one list.
func (e *exactElement) children() {
	var same []value.Value
	name := ""
	put := func() {
		switch len(same) {
		case 0:
		case 1:
			e.add(name, same[0])
		default:
			e.add(name, value.ListOf(same...))
		}
		same = nil
	}
	for _, p := range e.pieces {
		if p.text {
			continue
		}
		if p.name != name {
			put()
		}
		name, same = p.name, append(same, p.value)
	}
	put()
}

// apart says whether children of one name stand apart, with others between them.
func apart(pieces []exactPiece) bool {
	seen := map[string]bool{}
	last, any := "", false
	for _, p := range pieces {
		if p.text {
			continue
		}
		if any && p.name != last && seen[p.name] {
			return true
		}
		seen[p.name], last, any = true, p.name, true
	}
	return false
}

// content is the list of texts and children; blank texts between children mean nothing where there are no others.
func content(pieces []exactPiece, blank bool) value.Value {
	var items []value.Value
	for _, p := range pieces {
		switch {
		case !p.text:
			items = append(items, value.NewRecord(value.NewLayout(p.name), []value.Value{p.value}))
		case !blank:
			items = append(items, p.value)
		}
	}
	return value.ListOf(items...)
}
