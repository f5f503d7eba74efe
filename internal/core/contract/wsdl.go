package contract

import (
	"bytes"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

// Port is a port of a SOAP service (WSDL 1.1, section 2.6). Callers send all its operations to one address.
type Port struct {
	Service, Name string
	Address       string // as the document has it
	Version       string // of SOAP: 1.1 or 1.2
	Operations    []SOAPOperation
}

// SOAPOperation is one operation of a port.
type SOAPOperation struct{ Name, Action, About string }

// The namespaces of WSDL's bindings to SOAP.
var soapVersions = map[string]string{"http://schemas.xmlsoap.org/wsdl/soap/": "1.1", "http://schemas.xmlsoap.org/wsdl/soap12/": "1.2"}

// described is what is read of a WSDL document.
type described struct {
	XMLName   xml.Name `xml:"http://schemas.xmlsoap.org/wsdl/ definitions"`
	Name      string   `xml:"name,attr"`
	About     string   `xml:"documentation"`
	PortTypes []struct {
		Name       string `xml:"name,attr"`
		Operations []struct {
			Name  string `xml:"name,attr"`
			About string `xml:"documentation"`
		} `xml:"operation"`
	} `xml:"portType"`
	Bindings []struct {
		Name       string `xml:"name,attr"`
		Type       string `xml:"type,attr"`
		Operations []struct {
			Name string     `xml:"name,attr"`
			SOAP []soapPart `xml:"operation"`
		} `xml:"operation"`
	} `xml:"binding"`
	Services []struct {
		Name  string `xml:"name,attr"`
		About string `xml:"documentation"`
		Ports []struct {
			Name    string     `xml:"name,attr"`
			Binding string     `xml:"binding,attr"`
			At      []soapPart `xml:"address"`
		} `xml:"port"`
	} `xml:"service"`
}

// soapPart is an element of a binding or a port that is about SOAP.
type soapPart struct {
	XMLName  xml.Name
	Location string `xml:"location,attr"`
	Action   string `xml:"soapAction,attr"`
}

// isXML says whether a text is an XML document rather than JSON or YAML.
func isXML(text []byte) bool {
	return bytes.HasPrefix(bytes.TrimLeft(bytes.TrimPrefix(text, []byte("\xef\xbb\xbf")), " \t\r\n"), []byte("<"))
}

// readWSDL reads a WSDL 1.1 document. Each port that is bound to SOAP is an operation that takes envelopes; the document itself is one
// beside it.
func readWSDL(name string, text []byte) (*Contract, error) {
	var d described
	if err := xml.Unmarshal(text, &d); err != nil {
		return nil, fault.New(fault.Syntax, "the document cannot be read as WSDL 1.1: %s", err).At(fault.Place{Source: name})
	}
	c := &Contract{Title: d.Name, Description: strings.TrimSpace(d.About), WSDL: text, Schemes: map[string]*Scheme{}, made: map[string]*Described{}}
	for _, s := range d.Services {
		if c.Title == "" {
			c.Title = s.Name
		}
		for _, p := range s.Ports {
			for _, at := range p.At {
				if version := soapVersions[at.XMLName.Space]; version != "" {
					c.Ports = append(c.Ports, &Port{Service: s.Name, Name: p.Name, Address: at.Location, Version: version, Operations: d.operations(local(p.Binding))})
				}
			}
		}
	}
	if len(c.Ports) == 0 {
		return nil, fault.New(fault.Unknown, "the document has no port that is bound to SOAP 1.1 or 1.2").At(fault.Place{Source: name})
	}
	for _, p := range c.Ports {
		path := "/" + p.Name
		if len(c.Ports) == 1 {
			path = "/"
		}
		c.Servers = append(c.Servers, p.Address)
		c.Operations = append(c.Operations,
			&Operation{ID: p.Name, Method: "POST", Path: path, Summary: "SOAP " + p.Version, Description: p.Service, Port: p, At: fault.Place{Source: name}},
			&Operation{ID: p.Name + " document", Method: "GET", Path: path, Summary: "The WSDL document", Port: p, Document: true, At: fault.Place{Source: name}})
	}
	return c, nil
}

// operations are those of a binding, with what their port type says of them.
func (d *described) operations(binding string) (list []SOAPOperation) {
	for _, b := range d.Bindings {
		if b.Name != binding {
			continue
		}
		about := map[string]string{}
		for _, t := range d.PortTypes {
			if t.Name == local(b.Type) {
				for _, o := range t.Operations {
					about[o.Name] = strings.TrimSpace(o.About)
				}
			}
		}
		for _, o := range b.Operations {
			one := SOAPOperation{Name: o.Name, About: about[o.Name]}
			for _, s := range o.SOAP {
				if soapVersions[s.XMLName.Space] != "" {
					one.Action = s.Action
				}
			}
			list = append(list, one)
		}
	}
	return list
}

// local is a qualified name without its prefix.
func local(name string) string {
	if _, after, is := strings.Cut(name, ":"); is {
		return after
	}
	return name
}

// WSDLAt is the WSDL document with the addresses of its ports replaced; all else of it stays byte for byte.
func (c *Contract) WSDLAt(address func(p *Port) string) []byte {
	out := c.WSDL
	for _, p := range c.Ports {
		for _, quote := range []string{`"`, `'`} {
			for _, old := range []string{p.Address, escapedXML(p.Address)} {
				out = bytes.ReplaceAll(out, []byte("location="+quote+old+quote), []byte("location="+quote+escapedXML(address(p))+quote))
			}
		}
	}
	return out
}

func escapedXML(text string) string {
	var b strings.Builder
	xml.EscapeText(&b, []byte(text)) // a strings.Builder takes all
	return b.String()
}

// comparePorts says what differs between the operations of two SOAP services.
func (c *comparer) comparePorts() {
	for _, was := range c.old.Ports {
		i := slices.IndexFunc(c.now.Ports, func(p *Port) bool { return p.Name == was.Name })
		if i < 0 {
			continue // it is told as an operation
		}
		now := c.now.Ports[i]
		has := func(list []SOAPOperation, name string) int {
			return slices.IndexFunc(list, func(o SOAPOperation) bool { return o.Name == name })
		}
		for _, o := range was.Operations {
			at := has(now.Operations, o.Name)
			switch {
			case at < 0:
				c.add(Change{Operation: was.Name, Where: o.Name, What: "removed", Breaks: true})
			case now.Operations[at].Action != o.Action:
				c.add(Change{Operation: was.Name, Where: o.Name, What: fmt.Sprintf("the action %s → %s", fault.Quote(o.Action), fault.Quote(now.Operations[at].Action)), Breaks: true})
			}
		}
		for _, o := range now.Operations {
			if has(was.Operations, o.Name) < 0 {
				c.add(Change{Operation: was.Name, Where: o.Name, What: "added"})
			}
		}
	}
}
