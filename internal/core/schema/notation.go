package schema

import (
	"fmt"
	"slices"

	"hollowreed/internal/core/setting"
)

// Notation is what schemas know of a notation: what it can hold and how it is called. It is described in the folder of its
// reader and writer, and registered by the list of notations (package notation/all). No other package asks for a notation by
// its name: it asks what the notation can do.
type Notation struct {
	Name     string // in part files, on the command line and on pages
	Ending   string // of names of files, without the point
	Media    string // Internet media type
	Suffix   string // of media types that are written so, as +json (RFC 6838, section 4.2.8)
	Family   string // the notations of one family write the fields of a schema alike; the name where there is no other
	Bytes    bool   // messages are bytes, in files and in bodies; rows of a database are none
	Lines    bool   // records are lines, each of one record or of one record inside
	Columns  bool   // fields stand at fixed columns of a line
	Cells    bool   // fields stand between delimiters in a line
	Tree     bool   // records and lists stand inside of records
	Elements bool   // fields are elements or attributes, in namespaces
	Types    bool   // numbers, booleans and null differ from texts
	Document bool   // a message is one document: one record, or something around its records

	Settings setting.List                           // of how messages are written
	Field    func(s *Schema, f *Field) setting.List // of how a field is written; nil: none
}

// Rows is the notation of rows of a database: they have no bytes, and no records inside.
var Rows = &Notation{Name: "rows", Family: "rows", Types: true, Field: func(_ *Schema, f *Field) setting.List { return DateSettings(f) }}

var registered []*Notation

// Register adds a notation to those that a schema may name. It is called when the program starts.
func Register(n *Notation) {
	if slices.ContainsFunc(registered, func(r *Notation) bool { return r.Name == n.Name }) {
		panic(fmt.Sprintf("the notation %s is registered twice", n.Name))
	}
	registered = append(registered, n)
}

// Notations are those that a schema may name.
func Notations() []*Notation { return append(slices.Clone(registered), Rows) }

// NotationNames are the names of Notations.
func NotationNames() []string {
	var names []string
	for _, n := range Notations() {
		names = append(names, n.Name)
	}
	return names
}

func notationNamed(name string) *Notation {
	for _, n := range registered {
		if n.Name == name {
			return n
		}
	}
	return Rows
}

// ContentType is the value of a Content-Type header for messages in the notation, encoded in UTF-8.
func (n *Notation) ContentType() string {
	if n.Lines {
		return n.Media + "; charset=utf-8"
	}
	return n.Media
}

func (n *Notation) String() string { return n.Name }
