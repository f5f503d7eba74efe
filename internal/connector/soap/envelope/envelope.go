// Package envelope reads the envelopes of SOAP: the element in the body, or the fault.
package envelope

import (
	"bytes"
	"encoding/xml"
	"io"
	"regexp"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
)

// Opened is an envelope: the element in its body as text that stands by itself, or its fault.
type Opened struct {
	Name  string
	Body  string
	Fault *fault.Fault
}

// Spaces are the namespaces of envelopes, by the version of SOAP.
var Spaces = map[string]string{"1.1": "http://schemas.xmlsoap.org/soap/envelope/", "1.2": "http://www.w3.org/2003/05/soap-envelope"}

var declaration = regexp.MustCompile(`\s(xmlns(?::[\w.-]+)?)\s*=\s*("[^"]*"|'[^']*')`)

// Open finds the element in an envelope's body. Declarations of types and entities are refused (SOAP 1.1, 3; SOAP
// 1.2, 5).
func Open(text []byte) (*Opened, error) {
	dec := xml.NewDecoder(bytes.NewReader(text))
	var around []string
	depth := 0
	for {
		from := dec.InputOffset()
		tok, err := dec.Token()
		if err != nil {
			if err == io.EOF {
				return nil, fault.Expect(fault.Syntax, "a SOAP envelope", "none")
			}
			return nil, fault.New(fault.Syntax, "the answer is not well-formed XML: %s", err)
		}
		switch tok := tok.(type) {
		case xml.Directive:
			return nil, fault.New(fault.Syntax, "the answer declares types or entities; SOAP does not allow them")
		case xml.StartElement:
			tag := string(text[from:dec.InputOffset()])
			depth++
			switch {
			case depth == 1 && (tok.Name.Local != "Envelope" || tok.Name.Space != Spaces["1.1"] && tok.Name.Space != Spaces["1.2"]):
				return nil, fault.Expect(fault.Syntax, "a SOAP envelope", "the element "+tok.Name.Local)
			case depth == 1, depth == 2 && tok.Name.Local == "Body":
				around = append(around, Declared(tag)...)
				continue
			case depth == 2:
				if err := dec.Skip(); err != nil {
					return nil, fault.New(fault.Syntax, "%s", err)
				}
				depth--
				continue
			}
			if err := dec.Skip(); err != nil {
				return nil, fault.New(fault.Syntax, "the answer is not well-formed XML: %s", err)
			}
			whole := string(text[from:dec.InputOffset()])
			if tok.Name.Local == "Fault" && (tok.Name.Space == Spaces["1.1"] || tok.Name.Space == Spaces["1.2"]) {
				return &Opened{Fault: faultOf(Standing(tag, whole, around))}, nil
			}
			return &Opened{Name: tok.Name.Local, Body: Standing(tag, whole, around)}, nil
		case xml.EndElement:
			depth--
			if depth == 1 && tok.Name.Local == "Body" {
				return &Opened{}, nil
			}
		}
	}
}

// Declared are the declarations of namespaces in a tag, as they stand there.
func Declared(tag string) []string { return declaration.FindAllString(tag, -1) }

// Standing gives an element with its tag the declarations that stand around it, from the outermost inward, so that it can be read
// by itself.
func Standing(tag, whole string, around []string) string {
	var missing strings.Builder
	seen := map[string]bool{}
	for _, m := range declaration.FindAllStringSubmatch(tag, -1) {
		seen[m[1]] = true
	}
	for _, text := range slices.Backward(around) { // the nearest one holds
		if m := declaration.FindStringSubmatch(text); !seen[m[1]] {
			seen[m[1]] = true
			missing.WriteString(text)
		}
	}
	end := strings.IndexAny(whole[1:], " \t\r\n/>") + 1
	return whole[:end] + missing.String() + whole[end:]
}

// mostDetail bounds the bytes of a fault's detail that are told.
const mostDetail = 500

// faultOf reads a fault of SOAP 1.1 (4.4) or 1.2 (5.4).
func faultOf(text string) *fault.Fault {
	var f struct {
		Code11   string `xml:"faultcode"`
		String11 string `xml:"faultstring"`
		Detail11 struct {
			Text string `xml:",innerxml"`
		} `xml:"detail"`
		Code struct {
			Value   string `xml:"Value"`
			Subcode struct {
				Value string `xml:"Value"`
			} `xml:"Subcode"`
		} `xml:"Code"`
		Reason struct {
			Text []string `xml:"Text"`
		} `xml:"Reason"`
		Detail struct {
			Text string `xml:",innerxml"`
		} `xml:"Detail"`
	}
	if err := xml.Unmarshal([]byte(text), &f); err != nil {
		return fault.New(fault.Outside, "the service answers a fault that cannot be read")
	}
	code, why, detail := f.Code11, f.String11, f.Detail11.Text
	if f.Code.Value != "" {
		code, detail = f.Code.Value, f.Detail.Text
		if f.Code.Subcode.Value != "" {
			code += " " + f.Code.Subcode.Value
		}
		if len(f.Reason.Text) > 0 {
			why = f.Reason.Text[0]
		}
	}
	out := fault.New(fault.Outside, "the service answers the fault %s: %s", code, strings.TrimSpace(why))
	if detail = strings.TrimSpace(detail); detail != "" {
		out.Found = strings.ToValidUTF8(detail[:min(len(detail), mostDetail)], "")
	}
	return out
}
