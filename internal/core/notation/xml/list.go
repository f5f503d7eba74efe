package xml

import (
	"io"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/value"
	"hollowreed/internal/core/xmltext"
)

// ListName passes over a whole document and gives the name of the elements below its root, if
// they all have the same one, there are at least two and no text stands between them. Then the
// document can be read by NewListReader, in memory for one element at a time. It is empty
// otherwise, and for what is no XML.
func ListName(r io.Reader) string {
	in := xmltext.New(r, xmltext.Options{MaxDepth: notation.MaxDepth})
	list, n := "", 0
	for {
		k, err := in.Next()
		if err == io.EOF {
			break
		}
		switch {
		case err != nil:
			return ""
		case k == xmltext.Start && in.Depth() == 1:
			for _, a := range in.Attrs {
				if a.Value == typesSpace {
					return "" // it says itself what it is
				}
			}
		case k == xmltext.Start && in.Depth() == 2:
			if n++; list != "" && list != in.Raw {
				return ""
			}
			list = in.Raw
		case k == xmltext.Text && in.Depth() == 1 && strings.TrimSpace(in.Text) != "":
			return ""
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
	shell notation.Envelope
	list  string // the name of the elements, as it is written
}

// NewListReader reads a document for which ListName gave a name, without a schema.
func NewListReader(r io.Reader, o notation.Options, list string) notation.Reader {
	return &listReader{reader: newReader(r, o), shell: notation.Envelope{List: list}}
}

func (x *listReader) Many() bool                   { return true }
func (x *listReader) Envelope() *notation.Envelope { return &x.shell }

func (x *listReader) Next() (value.Value, error) {
	if x.done {
		return value.Value{}, io.EOF
	}
	if !x.begun {
		x.begun = true
		if err := x.first(); err != nil {
			return value.Value{}, err
		}
		var b builder
		for _, a := range x.in.Attrs {
			b.add("@"+a.Raw, value.NewText(a.Value))
		}
		x.list, x.shell.List = x.shell.List, plainName(x.shell.List)
		x.shell.Root, x.shell.Attributes = plainName(x.in.Raw), value.NewRecord(value.NewLayout(b.names...), b.fields)
	}
	for {
		k, err := x.token()
		if err != nil {
			return value.Value{}, err
		}
		switch k {
		case xmltext.End:
			return x.endOfRecords()
		case xmltext.Start:
			x.begin()
			if x.in.Raw != x.list {
				return value.Value{}, fault.Expect(fault.Unknown, "the element "+x.list, x.in.Raw).At(x.in.Place())
			}
			if x.exact {
				return x.exactly()
			}
			return x.free()
		}
	}
}
