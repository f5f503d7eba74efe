package xml

import (
	"encoding/xml"
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
)

// ListName passes over a whole document and gives the name of the elements below its root, if
// they all have the same one, there are at least two and no text stands between them. Then the
// document can be read by NewListReader, in memory for one element at a time. It is empty
// otherwise, and for what is no XML.
func ListName(r io.Reader) string {
	x := &reader{dec: xml.NewDecoder(r), limit: 1 << 62}
	x.dec.CharsetReader = charset
	if _, err := x.first(); err != nil {
		return ""
	}
	list, n := "", 0
	for {
		tok, err := x.token()
		if err == io.EOF {
			break
		}
		if err != nil {
			return ""
		}
		switch t := tok.(type) {
		case xml.StartElement:
			if len(x.open) != 2 {
				continue
			}
			if n++; list != "" && list != name(t.Name) {
				return ""
			}
			list = name(t.Name)
		case xml.CharData:
			if len(x.open) == 1 && strings.TrimSpace(string(t)) != "" {
				return ""
			}
		}
	}
	if n < 2 {
		return ""
	}
	return list
}

// listReader gives the elements below the root one by one, with the root as their shell.
type listReader struct {
	reader
	shell notation.Shell
}

// NewListReader reads a document for which ListName gave a name, without a schema.
func NewListReader(r io.Reader, o notation.Options, list string) notation.Reader {
	x := &listReader{reader: reader{dec: xml.NewDecoder(r), name: o.Source, limit: int64(o.Limit())}, shell: notation.Shell{List: list}}
	x.dec.CharsetReader = charset
	return x
}

func (x *listReader) Many() bool             { return true }
func (x *listReader) Shell() *notation.Shell { return &x.shell }

func (x *listReader) Next() (value.Value, error) {
	if x.done {
		return value.Value{}, io.EOF
	}
	if !x.begun {
		x.begun = true
		root, err := x.first()
		if err != nil {
			return value.Value{}, err
		}
		var b builder
		for _, a := range root.Attr {
			b.add("@"+name(a.Name), value.Str(a.Value))
		}
		x.shell.Root, x.shell.Attributes = name(root.Name), value.Rec(value.NewShape(b.names...), b.fields)
	}
	for {
		tok, err := x.token()
		if err != nil {
			return value.Value{}, x.early(err)
		}
		switch t := tok.(type) {
		case xml.EndElement:
			return x.endOfRecords()
		case xml.StartElement:
			x.begin()
			if n := name(t.Name); n != x.shell.List {
				return value.Value{}, fault.Expect(fault.Unknown, "the element "+x.shell.List, n).At(x.here())
			}
			return x.free(t, 0)
		}
	}
}
