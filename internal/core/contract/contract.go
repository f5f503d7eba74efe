// Package contract is what an API promises its callers: its operations with their parameters, bodies and answers. It is read from an
// OpenAPI document (3.0 or 3.1) or a WSDL document (1.1), checked, and compared with an older one: what breaks callers, and what does not.
package contract

import (
	"slices"
	"strings"
	"sync"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/jsonschema"
)

// Contract is an API as its callers see it.
type Contract struct {
	Title, Version, Description string
	OpenAPI                     string // the version of the document
	Servers                     []string
	Operations                  []*Operation          // by path, and then by method
	Schemes                     map[string]*Scheme    // of security, by name
	Faults                      fault.List            // for which the contract cannot be kept
	Notes                       fault.List            // what is kept in the document and does nothing here
	WSDL                        []byte                // the document of a SOAP service; nil for others
	Ports                       []*Port               // of a SOAP service
	file                        string                // its name among the contracts
	root                        node                  // of the document; nothing of one in XML
	document                    *jsonschema.Document  // of which schemas are made
	making                      sync.Mutex            // guards made
	made                        map[string]*Described // schemas, by their place
}

// Operation is one thing that callers can ask for.
type Operation struct {
	ID          string // of the document, or made of method and path
	Method      string // in capitals
	Path        string // with parameters in braces, as /bookings/{number}
	Summary     string
	Description string
	Tags        []string
	Deprecated  bool
	Parameters  []*Parameter
	Body        *Body
	Answers     []*Answer
	Security    [][]Need // alternatives, of which all needs are to be met; nil: anybody may call
	Port        *Port    // of a SOAP service, which takes envelopes; nil for others
	Document    bool     // it gives the document of the service
	At          fault.Place
}

// Match is the operation that a request is for, with the parameters of its path.
type Match struct {
	Operation *Operation
	Path      []route.Value
}

// Name is how people speak of the operation.
func (o *Operation) Name() string { return o.Method + " " + o.Path }

// Parameter is a value beside the body; or a header of an answer.
type Parameter struct {
	Name        string
	In          string // path, query, header or cookie
	Required    bool
	Deprecated  bool
	Style       string // how lists and records are written (OpenAPI 3.1, section 4.8.12.3)
	Explode     bool
	Schema      string // its place in the document, as a JSON Pointer; empty where nothing is said
	Description string
	Media       string // of a value that is written by a media type; empty for plain ones
	Examples    []Example
	At          fault.Place
}

// Body is what a caller sends.
type Body struct {
	Required bool
	Media    []Media
	At       fault.Place
}

// Media is a content in one media type.
type Media struct {
	Type     string // as application/json, or a range as image/*
	Schema   string // its place in the document; empty where nothing is said
	Examples []Example
}

// Example is one value.
type Example struct {
	Name  string
	Value string // as JSON, or as text where it is one for another media type
}

// Answer is one of an operation, by its status.
type Answer struct {
	Status      string // as 200, 4XX, or default
	Description string
	Headers     []*Parameter
	Media       []Media
	At          fault.Place
}

// Scheme is a way to tell who calls.
type Scheme struct {
	Type             string // apiKey, http, mutualTLS, oauth2 or openIdConnect
	In, Name         string // of a key
	Scheme           string // of http: basic, bearer
	OpenIDConnectURL string
}

// Need is a scheme that a caller must meet, with scopes.
type Need struct {
	Scheme string
	Scopes []string
}

// Described is a schema of the document, as a part has it.
type Described struct {
	Schema *schema.Schema
	Notes  fault.List // what the part cannot hold of it
}

// Operation finds an operation by its id, or by its method and path; nil where there is none.
func (c *Contract) Operation(name string) *Operation {
	i := slices.IndexFunc(c.Operations, func(o *Operation) bool { return o.ID == name || o.Name() == name })
	if i < 0 {
		return nil
	}
	return c.Operations[i]
}

// Schema is a schema of the document by its place; nil where the place is empty. Each is made once. Its id is as Ref says.
func (c *Contract) Schema(place string) (*Described, error) {
	if place == "" {
		return nil, nil
	}
	c.making.Lock()
	defer c.making.Unlock()
	if d := c.made[place]; d != nil {
		return d, nil
	}
	if c.document == nil {
		return nil, fault.New(fault.Unknown, "the document describes no messages as JSON")
	}
	im, err := c.document.Import(lastName(place), place)
	if err != nil {
		return nil, err
	}
	im.Schema.ID = Ref(c.file, place)
	d := &Described{im.Schema, im.Notes}
	c.made[place] = d
	return d, nil
}

// Ref is how parts name a schema of a contract: by the contract's file and the place in it, as bookings.yaml#/components/schemas/Booking.
func Ref(file, place string) string { return file + "#" + place }

// CutRef takes such a name apart; false for the id of a part.
func CutRef(id string) (file, place string, is bool) { return strings.Cut(id, "#") }

// lastName is the name at the end of a place that stands for a thing, for people.
func lastName(place string) string {
	steps := strings.Split(place, "/")
	for i := len(steps) - 1; i > 0; i-- {
		if s := steps[i]; s != "schema" && s != "" {
			return strings.ReplaceAll(strings.ReplaceAll(s, "~1", "/"), "~0", "~")
		}
	}
	return "message"
}

// media are the contents of all bodies and answers.
func (c *Contract) media() (list []Media) {
	for _, o := range c.Operations {
		if o.Body != nil {
			list = append(list, o.Body.Media...)
		}
		for _, a := range o.Answers {
			list = append(list, a.Media...)
		}
	}
	return list
}

// Media are the contents of bodies and answers that a schema describes.
func (c *Contract) Media(place string) []Media {
	return slices.DeleteFunc(c.media(), func(m Media) bool { return m.Schema != place })
}

// Bodies are the places of the schemas of bodies and answers, each once, in their order.
func (c *Contract) Bodies() (list []string) {
	for _, m := range c.media() {
		if m.Schema != "" && !slices.Contains(list, m.Schema) {
			list = append(list, m.Schema)
		}
	}
	return list
}

// Places are those of all schemas that the contract's operations name, each once, in their order.
func (c *Contract) Places() (list []string) {
	seen := map[string]bool{"": true}
	add := func(place string) {
		if !seen[place] {
			seen[place] = true
			list = append(list, place)
		}
	}
	media := func(list []Media) {
		for _, m := range list {
			add(m.Schema)
		}
	}
	for _, o := range c.Operations {
		for _, p := range o.Parameters {
			add(p.Schema)
		}
		if o.Body != nil {
			media(o.Body.Media)
		}
		for _, a := range o.Answers {
			media(a.Media)
			for _, h := range a.Headers {
				add(h.Schema)
			}
		}
	}
	return list
}
