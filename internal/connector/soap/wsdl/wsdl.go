// Package wsdl takes the operations of a WSDL 1.1 document (W3C Note, 15 March 2001) with their schemas, as
// operations of a connection: those of its first port that is bound to SOAP 1.1 or 1.2 with literal use.
package wsdl

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"io"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/connector/soap/envelope"
	"hollowreed/internal/connector/system"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/xsd"
)

// The namespaces of WSDL's bindings to SOAP.
const (
	soap11 = "http://schemas.xmlsoap.org/wsdl/soap/"
	soap12 = "http://schemas.xmlsoap.org/wsdl/soap12/"
)

type definitions struct {
	XMLName   xml.Name   `xml:"http://schemas.xmlsoap.org/wsdl/ definitions"`
	Target    string     `xml:"targetNamespace,attr"`
	Attrs     []xml.Attr `xml:",any,attr"`
	Messages  []message  `xml:"message"`
	PortTypes []struct {
		Name       string      `xml:"name,attr"`
		Operations []operation `xml:"operation"`
	} `xml:"portType"`
	Bindings []binding `xml:"binding"`
	Services []struct {
		Name  string `xml:"name,attr"`
		Ports []struct {
			Name    string    `xml:"name,attr"`
			Binding string    `xml:"binding,attr"`
			At      []address `xml:",any"`
		} `xml:"port"`
	} `xml:"service"`
}

type address struct {
	XMLName  xml.Name
	Location string `xml:"location,attr"`
}

type message struct {
	Name  string `xml:"name,attr"`
	Parts []struct {
		Name    string `xml:"name,attr"`
		Element string `xml:"element,attr"`
		Type    string `xml:"type,attr"`
	} `xml:"part"`
}

type operation struct {
	Name   string `xml:"name,attr"`
	About  string `xml:"documentation"`
	Input  ref    `xml:"input"`
	Output ref    `xml:"output"`
}

type ref struct {
	Message string `xml:"message,attr"`
}

// bound is a soap:… element of a binding.
type bound struct {
	XMLName   xml.Name
	Style     string `xml:"style,attr"`
	Transport string `xml:"transport,attr"`
	Action    string `xml:"soapAction,attr"`
	Use       string `xml:"use,attr"`
	Namespace string `xml:"namespace,attr"`
	Parts     string `xml:"parts,attr"`
}

type binding struct {
	Name       string  `xml:"name,attr"`
	Type       string  `xml:"type,attr"`
	SOAP       []bound `xml:"binding"`
	Operations []struct {
		Name  string  `xml:"name,attr"`
		SOAP  []bound `xml:"operation"`
		Input struct {
			Body    []bound `xml:"body"`
			Headers []bound `xml:"header"`
		} `xml:"input"`
	} `xml:"operation"`
}

func (b *bound) soap() bool { return b.XMLName.Space == soap11 || b.XMLName.Space == soap12 }

// Bounds on a document.
const (
	mostBytes   = 8 << 20
	mostAround  = 1000 // declarations of namespaces, which each of its schemas is given
	mostSchemas = 1000

	mostOperations = 2000
	mostLoaded     = 64 << 20 // bytes of schemas that are read for them: all of them anew for each of the style rpc
	mostFields     = 300_000  // of all schemas that are made
)

// Importer takes the operations of a WSDL document, with the schemas that lie beside it.
var Importer = &system.Importer{Document: "a WSDL document", Read: func(id string, documents []system.Document) (*system.Import, error) {
	others := map[string][]byte{}
	for _, d := range documents[1:] {
		others[d.Name] = d.Content
	}
	return Take(id, documents[0].Name, documents[0].Content, others)
}}

// Take reads a document for the connection of an id. Schemas that it takes in from other files are given by
// their names.
func Take(connection, name string, text []byte, others map[string][]byte) (*system.Import, error) {
	if len(text) > mostBytes {
		return nil, fault.New(fault.Limit, "the document is larger than %d bytes", mostBytes)
	}
	var d definitions
	if err := xml.Unmarshal(text, &d); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be read as WSDL 1.1: %s", err).At(fault.Place{Source: name})
	}
	t := &taker{connection: connection, name: name, d: &d, out: &system.Import{Settings: map[string]string{}}, files: map[string][]byte{}, sets: map[string]*xsd.Set{}}
	for n, f := range others {
		t.files[n] = f
	}
	if err := t.types(text); err != nil {
		return nil, err
	}
	b, version, err := t.port()
	if err != nil {
		return nil, err
	}
	return t.out, t.operations(b, version)
}

type taker struct {
	connection, name string
	d                *definitions
	out              *system.Import
	files            map[string][]byte   // the schemas, by name
	main             []string            // those that stand in the document
	spaces           []string            // their namespaces
	sets             map[string]*xsd.Set // those that were compiled, by name
	loaded, fields   int
}

// types takes the schemas out of the document, each with the namespaces that are declared around it.
func (t *taker) types(text []byte) error {
	dec := xml.NewDecoder(bytes.NewReader(text))
	var around []string
	for {
		from := dec.InputOffset()
		tok, err := dec.Token()
		if err == io.EOF {
			return nil
		}
		if err != nil {
			return fault.New(fault.Syntax, "%s", err).At(fault.Place{Source: t.name})
		}
		start, ok := tok.(xml.StartElement)
		if !ok {
			continue
		}
		tag := string(text[from:dec.InputOffset()])
		if start.Name.Space != "http://www.w3.org/2001/XMLSchema" || start.Name.Local != "schema" {
			if start.Name.Local == "definitions" || start.Name.Local == "types" {
				around = append(around, envelope.Declared(tag)...)
				if len(around) > mostAround {
					return fault.New(fault.Limit, "more than %d namespaces are declared around the types", mostAround).At(fault.Place{Source: t.name})
				}
			}
			continue
		}
		if err := dec.Skip(); err != nil {
			return fault.New(fault.Syntax, "%s", err).At(fault.Place{Source: t.name})
		}
		whole := string(text[from:dec.InputOffset()])
		t.schema(start, tag, whole, around)
		if len(t.main) > mostSchemas {
			return fault.New(fault.Limit, "the document has more than %d schemas", mostSchemas).At(fault.Place{Source: t.name})
		}
	}
}

func (t *taker) schema(start xml.StartElement, tag, whole string, around []string) {
	file := fmt.Sprintf("types-%d.xsd", len(t.main)+1)
	t.files[file] = []byte(envelope.Standing(tag, whole, around))
	t.main = append(t.main, file)
	space := ""
	for _, a := range start.Attr {
		if a.Name.Local == "targetNamespace" {
			space = a.Value
		}
	}
	t.spaces = append(t.spaces, space)
}

// port is the first one that is bound to SOAP over HTTP.
func (t *taker) port() (*binding, string, error) {
	for _, s := range t.d.Services {
		for _, p := range s.Ports {
			for _, a := range p.At {
				if a.XMLName.Space != soap11 && a.XMLName.Space != soap12 {
					continue
				}
				for i := range t.d.Bindings {
					if t.d.Bindings[i].Name == local(p.Binding) {
						t.out.Settings["address"] = a.Location
						return &t.d.Bindings[i], map[string]string{soap11: "1.1", soap12: "1.2"}[a.XMLName.Space], nil
					}
				}
			}
		}
	}
	return nil, "", fault.Expect(fault.NotFound, "a port that is bound to SOAP 1.1 or 1.2", "none").At(fault.Place{Source: t.name})
}

func local(name string) string {
	if _, after, ok := strings.Cut(name, ":"); ok {
		return after
	}
	return name
}

func (t *taker) operations(b *binding, version string) error {
	style := "document"
	for _, s := range b.SOAP {
		if s.soap() && s.Style != "" {
			style = s.Style
		}
	}
	for _, o := range b.Operations {
		op := t.operation(local(b.Type), o.Name)
		if op == nil {
			continue
		}
		how := style
		action := ""
		for _, s := range o.SOAP {
			if action = s.Action; s.Style != "" {
				how = s.Style
			}
		}
		body := bound{}
		if len(o.Input.Body) > 0 {
			body = o.Input.Body[0]
		}
		if body.Use == "encoded" {
			t.out.Notes = append(t.out.Notes, o.Name+" is encoded; only literal use is known (WS-I Basic Profile 1.1, 2.2)")
			continue
		}
		if how != "document" && how != "rpc" {
			t.out.Notes = append(t.out.Notes, fmt.Sprintf("%s is of the style %s; only document and rpc are known (WSDL 1.1, 3.4)", o.Name, fault.Quote(how)))
			continue
		}
		if len(t.out.Operations) >= mostOperations {
			return fault.New(fault.Limit, "the document has more than %d operations", mostOperations).At(fault.Place{Source: t.name})
		}
		if err := t.take(op, version, how, action, body.Namespace); err != nil {
			return err
		}
		for _, h := range o.Input.Headers {
			t.out.Notes = append(t.out.Notes, o.Name+" may have a header ("+h.XMLName.Local+"): write it under Header")
		}
	}
	return nil
}

func (t *taker) operation(portType, name string) *operation {
	for _, p := range t.d.PortTypes {
		if p.Name != portType {
			continue
		}
		for i := range p.Operations {
			if p.Operations[i].Name == name {
				return &p.Operations[i]
			}
		}
	}
	return nil
}

func (t *taker) message(r ref) *message {
	for i := range t.d.Messages {
		if t.d.Messages[i].Name == local(r.Message) {
			return &t.d.Messages[i]
		}
	}
	return nil
}

func (t *taker) take(op *operation, version, style, action, space string) error {
	id := ident(op.Name)
	in, wrapper, namespace, err := t.element(id+"-request", op.Name, op.Input, style, space)
	if err != nil {
		return err
	}
	out, answer, _, err := t.element(id, op.Name+"Response", op.Output, style, space)
	if err != nil {
		return err
	}
	title := strings.TrimSpace(op.About)
	if title == "" || len(title) > 60 {
		title = op.Name
	}
	o := partfile.Ordered{{Key: "operation", Value: id}, {Key: "name", Value: title}, {Key: "kind", Value: "call"}, {Key: "request", Value: in}, {Key: "response", Value: out}}
	if version != "1.1" {
		o.Add("version", version)
	}
	if style != "document" {
		o.Add("style", style)
	}
	o.Add("action", action)
	o.Add("request element", wrapper)
	o.Add("response element", answer)
	o.Add("namespace", namespace)
	t.out.Operations = append(t.out.Operations, o)
	return nil
}

var hump = regexp.MustCompile(`([a-z0-9])([A-Z])`)

func ident(name string) string { return strings.ToLower(hump.ReplaceAllString(name, "$1-$2")) }

// element makes the schema of a message's element: the one that the document names, or for rpc one that holds
// the message's parts.
func (t *taker) element(id, rpcName string, r ref, style, space string) (schemaID, element, namespace string, err error) {
	m := t.message(r)
	if m == nil || len(m.Parts) == 0 && style == "document" {
		return "", "", t.d.Target, nil
	}
	id = t.connection + "-" + id
	if space == "" {
		space = t.d.Target
	}
	if len(m.Parts) == 0 {
		return "", rpcName, space, nil // an element that is empty
	}
	var set *xsd.Set
	if style == "rpc" {
		element, namespace = rpcName, space
		set, err = t.load("rpc.xsd", t.wrapped(m, rpcName, space))
	} else {
		element = local(m.Parts[0].Element)
		namespace = t.spaceOf(m.Parts[0].Element)
		set, err = t.load("", nil)
		for i, s := range t.spaces {
			if s == namespace {
				set, err = t.load(t.main[i], t.files[t.main[i]])
			}
		}
	}
	if err != nil {
		return "", "", "", err
	}
	s, err := set.Import(id, element)
	if err != nil {
		return "", "", "", err
	}
	s.Root.Walk(func([]string, *schema.Field) { t.fields++ })
	if t.fields > mostFields {
		return "", "", "", fault.New(fault.Limit, "the schemas of the document have more than %d fields", mostFields).At(fault.Place{Source: t.name})
	}
	s.ID, s.Title = id, strings.ReplaceAll(strings.TrimPrefix(id, t.connection+"-"), "-", " ")
	t.out.Schemas = append(t.out.Schemas, s)
	return id, element, namespace, nil
}

func (t *taker) load(file string, text []byte) (*xsd.Set, error) {
	if file == "" {
		if len(t.main) == 0 {
			return nil, fault.Expect(fault.NotFound, "a schema among the document's types", "none").At(fault.Place{Source: t.name})
		}
		file, text = t.main[0], t.files[t.main[0]]
	}
	if s := t.sets[file]; s != nil {
		return s, nil
	}
	for _, f := range t.files {
		t.loaded += len(f)
	}
	if t.loaded > mostLoaded {
		return nil, fault.New(fault.Limit, "the schemas of the document would have to be read over and over: more than %d MiB", mostLoaded>>20).At(fault.Place{Source: t.name})
	}
	s, err := xsd.Load(file, text, t.files)
	if err == nil && slices.Contains(t.main, file) { // what is made for an operation has one name for all of them
		t.sets[file] = s
	}
	return s, err
}

// spaceOf is the namespace that a name's prefix stands for in the document.
func (t *taker) spaceOf(name string) string {
	prefix, _, ok := strings.Cut(name, ":")
	for _, a := range t.d.Attrs {
		if ok && a.Name.Space == "xmlns" && a.Name.Local == prefix {
			return a.Value
		}
	}
	return t.d.Target
}

// wrapped is a schema with one element that holds the parts of a message, without a namespace of their own
// (WS-I Basic Profile 1.1, 4.7.20).
func (t *taker) wrapped(m *message, element, space string) []byte {
	var b strings.Builder
	fmt.Fprintf(&b, `<xs:schema xmlns:xs="http://www.w3.org/2001/XMLSchema" targetNamespace=%q elementFormDefault="unqualified"`, space)
	for i, s := range t.spaces {
		fmt.Fprintf(&b, ` xmlns:n%d=%q`, i, s)
	}
	b.WriteString(">")
	for i, s := range t.spaces {
		if s != space {
			fmt.Fprintf(&b, `<xs:import namespace=%q schemaLocation=%q/>`, s, t.main[i])
		} else {
			fmt.Fprintf(&b, `<xs:include schemaLocation=%q/>`, t.main[i])
		}
	}
	fmt.Fprintf(&b, `<xs:element name=%q><xs:complexType><xs:sequence>`, element)
	for _, p := range m.Parts {
		fmt.Fprintf(&b, `<xs:element name=%q type=%q/>`, p.Name, t.typeName(p.Type))
	}
	b.WriteString(`</xs:sequence></xs:complexType></xs:element></xs:schema>`)
	return []byte(b.String())
}

func (t *taker) typeName(name string) string {
	space := t.spaceOf(name)
	if space == "http://www.w3.org/2001/XMLSchema" {
		return "xs:" + local(name)
	}
	for i, s := range t.spaces {
		if s == space {
			return fmt.Sprintf("n%d:%s", i, local(name))
		}
	}
	return "xs:string"
}
