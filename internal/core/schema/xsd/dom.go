package xsd

import (
	"bytes"
	"encoding/xml"
	"errors"
	"io"
	"strings"

	"golang.org/x/text/encoding/htmlindex"

	"hollowreed/internal/core/fault"
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

// newDecoder reads XML, refusing document type definitions at its users' hands; nothing is fetched.
func newDecoder(r io.Reader) *xml.Decoder {
	dec := xml.NewDecoder(r)
	dec.CharsetReader = func(label string, in io.Reader) (io.Reader, error) {
		e, err := htmlindex.Get(label)
		if err != nil {
			return nil, errors.New("the encoding " + label + " is not known")
		}
		return e.NewDecoder().Reader(in), nil
	}
	return dec
}

func refusesDTD(t xml.Directive, p fault.Place) *fault.Fault {
	if bytes.HasPrefix(bytes.TrimSpace(t), []byte("DOCTYPE")) {
		return fault.New(fault.Syntax, "document type definitions are not allowed").At(p)
	}
	return nil
}

func syntaxFault(err error, p fault.Place) *fault.Fault {
	var f *fault.Fault
	if errors.As(err, &f) {
		return f
	}
	var syn *xml.SyntaxError
	if errors.As(err, &syn) {
		p.Line, p.Column = syn.Line, 0
		return fault.New(fault.Syntax, "this is not XML: %s", syn.Msg).At(p)
	}
	return fault.New(fault.Syntax, "this is not XML: %s", err).At(p)
}

// parse reads a schema document. Elements of other namespaces, annotations and text are left out.
func parse(file string, text []byte) (*dom, error) {
	if len(text) > MaxBytes {
		return nil, fault.New(fault.Limit, "the schema is larger than %d MB", MaxBytes>>20).At(fault.Place{Source: file})
	}
	dec := newDecoder(bytes.NewReader(text))
	var open []*dom
	var root *dom
	for {
		tok, err := dec.Token()
		line, column := dec.InputPos()
		p := fault.Place{Source: file, Line: line, Column: column}
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, syntaxFault(err, p)
		}
		switch t := tok.(type) {
		case xml.Directive:
			if f := refusesDTD(t, p); f != nil {
				return nil, f
			}
		case xml.StartElement:
			if len(open) > MaxDepth {
				return nil, fault.New(fault.Limit, "elements nest deeper than %d", MaxDepth).At(p)
			}
			var outer *dom
			if len(open) > 0 {
				outer = open[len(open)-1]
			}
			d := newDom(t, outer, p)
			if outer != nil && t.Name.Space == nsXS && t.Name.Local != "annotation" {
				outer.kids = append(outer.kids, d)
			}
			if root == nil {
				root = d
			}
			open = append(open, d)
		case xml.EndElement:
			open = open[:len(open)-1]
		}
	}
	if root == nil || root.name.Space != nsXS || root.name.Local != "schema" {
		return nil, fault.Expect(fault.Setting, "an XML Schema document", "another").At(fault.Place{Source: file, Line: 1})
	}
	return root, nil
}

func newDom(t xml.StartElement, outer *dom, p fault.Place) *dom {
	d := &dom{name: t.Name, attrs: map[string]string{}, file: p.Source, line: p.Line, column: p.Column}
	if outer != nil {
		d.ns = outer.ns
	} else {
		d.ns = map[string]string{"xml": nsXML}
	}
	own := false
	for _, a := range t.Attr {
		prefix, is := "", false
		switch {
		case a.Name.Space == "xmlns":
			prefix, is = a.Name.Local, true
		case a.Name.Space == "" && a.Name.Local == "xmlns":
			is = true
		case a.Name.Space == "":
			d.attrs[a.Name.Local] = strings.TrimSpace(a.Value)
		}
		if !is {
			continue
		}
		if !own {
			own = true
			scope := map[string]string{}
			for k, v := range d.ns {
				scope[k] = v
			}
			d.ns = scope
		}
		d.ns[prefix] = a.Value
	}
	return d
}
