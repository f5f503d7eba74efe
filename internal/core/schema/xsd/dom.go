package xsd

import (
	"bytes"
	"encoding/xml"
	"io"
	"maps"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/xmltext"
)

// Bounds on schema documents.
const (
	MaxBytes = 32 << 20
	MaxDepth = 512
)

const (
	nsXS  = "http://www.w3.org/2001/XMLSchema"
	nsXSI = "http://www.w3.org/2001/XMLSchema-instance"
	nsXML = "http://www.w3.org/XML/1998/namespace"
)

// dom is one element of a schema document.
type dom struct {
	name   xml.Name
	attrs  map[string]string // those without a namespace
	ns     map[string]string // prefixes in scope
	kids   []*dom
	file   string
	line   int
	column int
}

func (d *dom) place() fault.Place {
	return fault.Place{Source: d.file, Line: d.line, Column: d.column}
}

// xs gives the children of a name in the XML Schema namespace.
func (d *dom) xs(names ...string) []*dom {
	var out []*dom
	for _, k := range d.kids {
		for _, n := range names {
			if k.name.Local == n {
				out = append(out, k)
			}
		}
	}
	return out
}

// one is the first child of one of the names; nil when there is none.
func (d *dom) one(names ...string) *dom {
	if l := d.xs(names...); len(l) > 0 {
		return l[0]
	}
	return nil
}

// parse reads a schema document. Elements of other namespaces, annotations and text are left out.
func parse(file string, text []byte) (*dom, error) {
	if len(text) > MaxBytes {
		return nil, fault.New(fault.Limit, "the schema is larger than %d MB", MaxBytes>>20).At(fault.Place{Source: file})
	}
	in := xmltext.New(bytes.NewReader(text), xmltext.Options{Source: file, Namespaces: true, MaxDepth: MaxDepth})
	var open []*dom
	var root *dom
	for {
		k, err := in.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		switch k {
		case xmltext.Start:
			var outer *dom
			if len(open) > 0 {
				outer = open[len(open)-1]
			}
			d := newDom(in, outer)
			if outer != nil && in.Name.Space == nsXS && in.Name.Local != "annotation" {
				outer.kids = append(outer.kids, d)
			}
			if root == nil {
				root = d
			}
			open = append(open, d)
		case xmltext.End:
			open = open[:len(open)-1]
		}
	}
	if root == nil || root.name.Space != nsXS || root.name.Local != "schema" {
		return nil, fault.Expect(fault.Setting, "an XML Schema document", "another").At(fault.Place{Source: file, Line: 1})
	}
	return root, nil
}

func newDom(in *xmltext.Reader, outer *dom) *dom {
	p := in.Place()
	d := &dom{name: in.Name, attrs: map[string]string{}, file: p.Source, line: p.Line, column: p.Column}
	if outer != nil {
		d.ns = outer.ns
	} else {
		d.ns = map[string]string{"xml": nsXML}
	}
	own := false
	for _, a := range in.Attrs {
		prefix, declares := declared(&a)
		if !declares {
			if a.Name.Space == "" {
				d.attrs[a.Name.Local] = strings.TrimSpace(a.Value)
			}
			continue
		}
		if !own {
			own = true
			d.ns = maps.Clone(d.ns)
		}
		d.ns[prefix] = a.Value
	}
	return d
}

// declared is the prefix that an attribute declares; the empty one is the default namespace.
func declared(a *xmltext.Attr) (prefix string, declares bool) {
	if a.Raw == "xmlns" {
		return "", true
	}
	return strings.CutPrefix(a.Raw, "xmlns:")
}
