package draft

import (
	"cmp"
	"slices"
	"strings"

	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/words"
)

// Leaf is a single value of a message.
type Leaf struct {
	Path     []string // in the message
	Field    *schema.Field
	Required bool
	InList   bool // there may be several
	Examples []string
	Where    string // beside the path, as header; empty where nothing is to be said

	own, around []string // words of the name, and of what is around it
	about       []string // of the description
	unit        unit
	echo        int // of what an operation gives: the position of what it was asked with that this is; -1: it is something new
}

// Name is the leaf as people write it.
func (l *Leaf) Name() string { return strings.Join(l.Path, ".") }

// mostLeaves bounds the values of one message that are looked at.
const mostLeaves = 400

// LeavesOf are the single values of a record. What stands in an optional record is optional.
func LeavesOf(f *schema.Field) (list []*Leaf) {
	if f == nil {
		return nil
	}
	var walk func(f *schema.Field, path []string, required, inList bool, depth int)
	walk = func(f *schema.Field, path []string, required, inList bool, depth int) {
		for _, c := range f.Fields {
			at := append(slices.Clone(path), c.Name)
			must, many := required && c.Min > 0, inList || c.List()
			switch {
			case len(list) == mostLeaves || depth > 12:
				return
			case c.Kind == value.RecordKind || c.Kind == value.VariantKind:
				walk(c, at, must && c.Kind == value.RecordKind, many, depth+1)
			case c.Kind == value.ListKind || c.Kind == value.MapKind:
			default:
				list = append(list, NewLeaf(at, c, must, many))
			}
		}
	}
	walk(f, nil, true, false, 0)
	return list
}

// NewLeaf makes a leaf of a field.
func NewLeaf(path []string, f *schema.Field, required, inList bool) *Leaf {
	l := &Leaf{Path: path, Field: f, Required: required, InList: inList, about: wordsIn(f.Notes)}
	l.own = named(path[len(path)-1])
	for _, p := range path[:len(path)-1] {
		l.around = append(l.around, named(p)...)
	}
	l.unit, l.own = unitOf(l.own, f.Notes)
	return l
}

// named are the words of a name that say something.
func named(name string) (list []string) {
	for _, w := range words.Split(name) {
		for w := range strings.FieldsSeq(cmp.Or(written[w], w)) {
			if w = words.Singular(w); !empty[w] && !slices.Contains(list, w) {
				list = append(list, w)
			}
		}
	}
	if list == nil {
		return words.Split(name)
	}
	return list
}

// written are abbreviations that stand for several words.
var written = map[string]string{"eta": "estimated arrival", "etd": "estimated departure", "ata": "actual arrival", "atd": "actual departure", "dob": "birth date", "pod": "discharge port", "pol": "loading port", "ean": "product barcode", "gtin": "product barcode", "sku": "product number", "born": "birth date"}

// generic words tell one thing of its kind from others, and not of which kind it is.
var generic = map[string]bool{"id": true, "code": true, "number": true, "key": true, "name": true, "title": true, "reference": true, "uid": true}

// moments are words that say no more than that a value is a time.
var moments = map[string]bool{"date": true, "day": true, "time": true, "timestamp": true, "when": true}

func allIn(list []string, set map[string]bool) bool {
	return len(list) > 0 && !slices.ContainsFunc(list, func(w string) bool { return !set[w] })
}

// empty words say nothing of what a value is.
var empty = map[string]bool{"of": true, "the": true, "a": true, "an": true, "and": true, "or": true, "in": true, "field": true, "value": true, "for": true, "with": true, "is": true, "its": true, "as": true, "by": true, "on": true, "at": true}

// verbs say what an operation does, and not what it is about.
var verbs = map[string]bool{
	"get": true, "list": true, "find": true, "look": true, "lookup": true, "read": true, "search": true, "fetch": true, "query": true, "show": true, "retrieve": true, "load": true,
	"up": true, "all": true, "api": true, "v1": true, "v2": true, "one": true, "detail": true, "check": true, "calculate": true, "compute": true, "resolve": true, "info": true, "information": true, "data": true,
}

// wordsIn are the words of a description.
func wordsIn(text string) (list []string) {
	for _, w := range strings.FieldsFunc(strings.ToLower(text), func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9') }) {
		if w = words.Singular(w); len(w) > 2 && !empty[w] && !slices.Contains(list, w) {
			list = append(list, w)
		}
	}
	return list
}

// NewOperation makes an operation of what it needs and gives. What it is about stands around its values.
func NewOperation(id, name, about string, reads bool, needs, gives []*Leaf) *Operation {
	o := &Operation{ID: id, Name: name, About: about, Reads: reads, Needs: needs, Gives: gives}
	for _, w := range named(name) {
		if !verbs[w] {
			o.words = append(o.words, w)
		}
	}
	for _, l := range needs {
		l.around = append(l.around, o.words...)
	}
	for _, l := range gives {
		l.around = append(l.around, o.words...)
		l.echo = slices.IndexFunc(needs, func(n *Leaf) bool {
			return slices.Equal(n.own, l.own) && n.Field.Kind == l.Field.Kind && n.unit == l.unit
		})
	}
	return o
}
