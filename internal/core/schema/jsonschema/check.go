// Package jsonschema reads and writes JSON Schema (drafts 2020-12 and 7, and the schemas of OpenAPI
// 3.0 and 3.1) and checks JSON documents against it. The verdicts are those of a standard
// validator; what is added here are places in both texts.
package jsonschema

import (
	stdjson "encoding/json"
	"fmt"
	"math/big"
	"net/url"
	"strings"
	"sync"

	standard "github.com/santhosh-tekuri/jsonschema/v6"
	"github.com/santhosh-tekuri/jsonschema/v6/kind"
	"golang.org/x/text/language"
	"golang.org/x/text/message"

	"hollowreed/internal/core/fault"
)

// MaxFaults bounds the faults that are reported of one document.
const MaxFaults = 1000

// Validator checks documents against one JSON Schema, one at a time.
type Validator struct {
	schema *standard.Schema
	files  map[string]*document // by address
	mu     sync.Mutex
	looks  looks
}

// What checking one document may take: so many looks of a schema at a value, and so many more for each of its bytes. Schemas that
// name each other twice, level by level, would take a number that is beyond counting.
const (
	mostLooks    = 200_000
	looksPerByte = 100
)

// looks counts them. It stands in every schema as what a vocabulary of its own adds to it.
type looks struct{ left int }

// Validate is called whenever a schema has looked at a value.
func (l *looks) Validate(*standard.ValidatorContext, any) {
	if l.left--; l.left < 0 {
		panic(l)
	}
}

func (l *looks) vocabulary() *standard.Vocabulary {
	return &standard.Vocabulary{
		URL:     "urn:hollowreed:looks",
		Compile: func(*standard.CompilerContext, map[string]any) (standard.SchemaExt, error) { return l, nil },
	}
}

// validate asks the standard validator.
func (v *Validator) validate(doc any, size int) (err error) {
	v.mu.Lock()
	defer v.mu.Unlock()
	defer func() {
		if p := recover(); p == &v.looks {
			err = fault.New(fault.Limit, "the schema looks at the values of the document more than %d times", mostLooks+looksPerByte*size).
				WithFix("Do not name a schema twice in one allOf, anyOf or oneOf, level by level")
		} else if p != nil {
			panic(p)
		}
	}()
	v.looks.left = mostLooks + looksPerByte*size
	return v.schema.Validate(doc)
}

// base is the address under which files stand that have none of their own.
const base = "file:///"

// offline gives only what was handed over: nothing is ever fetched.
type offline map[string]*document

// Load gives a file by its address.
func (o offline) Load(address string) (any, error) {
	if d, ok := o[address]; ok {
		return d.root.plain(), nil
	}
	return nil, fault.New(fault.Unknown, "%s is not here; nothing is fetched", strings.TrimPrefix(address, base)).WithFix("Name the file, too")
}

// Compile makes a validator of a schema. Other files that it refers to are given by name. The
// error is a *fault.Fault.
func Compile(name string, text []byte, others map[string][]byte) (*Validator, error) {
	v := &Validator{files: map[string]*document{}}
	if err := v.add(name, text); err != nil {
		return nil, err
	}
	for other, content := range others {
		if err := v.add(other, content); err != nil {
			return nil, err
		}
	}
	c := standard.NewCompiler()
	c.UseLoader(offline(v.files))
	c.RegisterVocabulary(v.looks.vocabulary())
	c.AssertVocabs()
	c.AssertFormat() // a date that is none is a fault, as it is of the part that is made of the schema
	for address, d := range v.files {
		if err := c.AddResource(address, d.root.plain()); err != nil {
			return nil, fault.New(fault.Setting, "%s", err).At(fault.Place{Source: d.name, Line: 1})
		}
	}
	s, err := c.Compile(addressOf(name))
	if err != nil {
		return nil, v.unusable(name, err)
	}
	v.schema = s
	return v, nil
}

func addressOf(name string) string { return base + (&url.URL{Path: name}).EscapedPath() }

func (v *Validator) add(name string, text []byte) error {
	d, err := parse(name, text)
	if err != nil {
		return err
	}
	v.files[addressOf(name)] = d
	return nil
}

// unusable says where a schema is no schema.
func (v *Validator) unusable(name string, err error) error {
	if f, ok := err.(*fault.Fault); ok {
		return f
	}
	if e, ok := err.(*standard.SchemaValidationError); ok {
		if ve, ok := e.Err.(*standard.ValidationError); ok {
			d := v.files[addressOf(name)]
			if leaf := leaves(ve, nil); d != nil && len(leaf) > 0 {
				n, _ := d.root.find(leaf[0].InstanceLocation)
				p := d.at(n)
				p.Path = pointer(leaf[0].InstanceLocation)
				return said(leaf[0], fault.Setting).At(p)
			}
		}
	}
	return fault.New(fault.Setting, "this JSON Schema cannot be used: %s", strings.ReplaceAll(err.Error(), base, "")).At(fault.Place{Source: name, Line: 1})
}

// Check reads a document and gives everything in it that the schema does not allow, each with the
// keyword that says so as its rule. The error is a *fault.Fault when it is no JSON.
func (v *Validator) Check(name string, text []byte) (fault.List, error) {
	d, err := parse(name, text)
	if err != nil {
		return nil, err
	}
	err = v.validate(d.root.plain(), len(text))
	ve, ok := err.(*standard.ValidationError)
	if !ok {
		return nil, err
	}
	var out fault.List
	for _, leaf := range leaves(ve, nil) {
		rule := v.rule(leaf)
		for _, at := range d.spots(leaf) {
			n, _ := d.root.find(at)
			p := d.at(n)
			p.Path = pointer(at)
			f := said(leaf, fault.Type).At(p)
			f.Rule = rule
			out = append(out, f)
		}
	}
	return out, nil
}

// spots are the paths at which an error stands: that of the value, or those of the properties of
// it that must not be there.
func (d *document) spots(e *standard.ValidationError) [][]string {
	extra, ok := e.ErrorKind.(*kind.AdditionalProperties)
	if !ok {
		return [][]string{e.InstanceLocation}
	}
	var out [][]string
	for _, name := range extra.Properties {
		out = append(out, append(e.InstanceLocation[:len(e.InstanceLocation):len(e.InstanceLocation)], name))
	}
	return out
}

// leaves are the errors that have no cause of their own. Of alternatives none of which fits, every
// one's errors are there.
func leaves(e *standard.ValidationError, out []*standard.ValidationError) []*standard.ValidationError {
	if len(e.Causes) == 0 && len(out) < MaxFaults {
		return append(out, e)
	}
	for _, c := range e.Causes {
		out = leaves(c, out)
	}
	return out
}

func pointer(tokens []string) string {
	var b strings.Builder
	for _, t := range tokens {
		b.WriteString("/" + strings.ReplaceAll(strings.ReplaceAll(t, "~", "~0"), "/", "~1"))
	}
	return b.String()
}

// rule is where in the schema a keyword stands.
func (v *Validator) rule(e *standard.ValidationError) fault.Place {
	address, fragment, _ := strings.Cut(e.SchemaURL, "#")
	if plain, err := url.PathUnescape(fragment); err == nil {
		fragment = plain
	}
	path := append(tokens(fragment), e.ErrorKind.KeywordPath()...)
	p := fault.Place{Source: strings.TrimPrefix(address, base), Path: pointer(path)}
	if d := v.files[address]; d != nil {
		n, _ := d.root.find(path)
		p.Line, p.Column = d.at(n).Line, d.at(n).Column
	}
	return p
}

var english = message.NewPrinter(language.English)

// codes are the kinds of fault by keyword; others are of type.
var codes = map[string]fault.Code{
	"required": fault.Required, "dependentRequired": fault.Required, "minimum": fault.Range, "maximum": fault.Range,
	"exclusiveMinimum": fault.Range, "exclusiveMaximum": fault.Range, "multipleOf": fault.Range,
	"minLength": fault.Length, "maxLength": fault.Length, "minItems": fault.Length, "maxItems": fault.Length,
	"minProperties": fault.Length, "maxProperties": fault.Length, "pattern": fault.Pattern, "enum": fault.Pattern,
	"const": fault.Pattern, "format": fault.Pattern, "additionalProperties": fault.Unknown, "unevaluatedProperties": fault.Unknown,
}

// said puts an error of the validator into a fault.
func said(e *standard.ValidationError, code fault.Code) *fault.Fault {
	path := e.ErrorKind.KeywordPath()
	if len(path) > 0 {
		if c, ok := codes[path[0]]; ok {
			code = c
		}
	}
	switch k := e.ErrorKind.(type) {
	case *kind.Type:
		return fault.Expect(code, strings.Join(k.Want, " or "), k.Got)
	case *kind.Required:
		return fault.Expect(code, "the property "+strings.Join(k.Missing, ", "), "none")
	case *kind.AdditionalProperties:
		return fault.Expect(code, "no property of this name", "it")
	case *kind.Pattern:
		return fault.Expect(code, "text like "+k.Want, fault.Quote(k.Got))
	case *kind.Enum:
		return fault.Expect(code, list(k.Want), shown(k.Got))
	case *kind.Const:
		return fault.Expect(code, shown(k.Want), shown(k.Got))
	case *kind.Format:
		return fault.Expect(code, k.Want, shown(k.Got))
	case *kind.Minimum:
		return fault.Expect(code, "at least "+number(k.Want), number(k.Got))
	case *kind.Maximum:
		return fault.Expect(code, "at most "+number(k.Want), number(k.Got))
	case *kind.ExclusiveMinimum:
		return fault.Expect(code, "more than "+number(k.Want), number(k.Got))
	case *kind.ExclusiveMaximum:
		return fault.Expect(code, "less than "+number(k.Want), number(k.Got))
	case *kind.MinLength:
		return fault.Expect(code, fmt.Sprintf("at least %d characters", k.Want), fmt.Sprint(k.Got))
	case *kind.MaxLength:
		return fault.Expect(code, fmt.Sprintf("at most %d characters", k.Want), fmt.Sprint(k.Got))
	case *kind.MinItems:
		return fault.Expect(code, fmt.Sprintf("at least %d items", k.Want), fmt.Sprint(k.Got))
	case *kind.MaxItems:
		return fault.Expect(code, fmt.Sprintf("at most %d items", k.Want), fmt.Sprint(k.Got))
	}
	return fault.New(code, "%s", e.ErrorKind.LocalizedString(english))
}

// number writes a fraction as a decimal number.
func number(r *big.Rat) string {
	places, _ := r.FloatPrec()
	return r.FloatString(places)
}

// shown writes a JSON value for a fault, cut where it is long.
func shown(v any) string {
	text, err := stdjson.Marshal(v)
	if err != nil {
		return fmt.Sprint(v)
	}
	if r := []rune(string(text)); len(r) > 60 {
		return string(r[:60]) + "…"
	}
	return string(text)
}

func list(values []any) string {
	parts := make([]string, len(values))
	for i, v := range values {
		parts[i] = shown(v)
	}
	return strings.Join(parts, " · ")
}
