package contract

import (
	"bytes"
	"cmp"
	"errors"
	"io"
	"mime"
	"net/url"
	"slices"
	"strings"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Request is what came beside the path. Names of headers are in lower case.
type Request struct {
	Query       url.Values
	Headers     map[string][]string
	Cookies     map[string]string
	ContentType string
	Body        []byte
}

// Checked is a request as the contract has it.
type Checked struct {
	Parameters map[string]value.Value // by name; absent ones are not there
	Body       value.Value            // absent where there is none, or where it is not described
}

// Check compares a request with what its operation says. Faults name the parameter in their field, as query since; those of the
// body have their place in it.
func (c *Contract) Check(m Match, q Request) (k Checked, faults fault.List) {
	k.Parameters, faults = c.Parameters(m, q)
	var list fault.List
	k.Body, list = c.body(m.Operation.Body, q)
	faults.Add(list...)
	return k, faults
}

// Parameters reads the parameters of a request, by name.
func (c *Contract) Parameters(m Match, q Request) (values map[string]value.Value, faults fault.List) {
	values = map[string]value.Value{}
	for _, p := range m.Operation.Parameters {
		v, there, ft := c.parameter(p, m, q)
		switch {
		case ft != nil:
			faults.Add(ft.InField(p.In + " " + p.Name))
		case there:
			values[p.Name] = v
		case p.Required:
			faults.Add(fault.Expect(fault.Required, "a value", "none").InField(p.In + " " + p.Name))
		}
	}
	return values, faults
}

// Takes says whether a body may come in a media type; one that is no media type may not.
func (b *Body) Takes(contentType string) bool {
	media, _, err := mime.ParseMediaType(contentType)
	return err == nil && fitting(b.Media, media) != nil
}

// parameter reads one parameter as its schema says.
func (c *Contract) parameter(p *Parameter, m Match, q Request) (v value.Value, there bool, ft *fault.Fault) {
	texts, members := q.texts(p, m)
	if len(texts) == 0 && len(members) == 0 {
		return v, false, nil
	}
	d, err := c.Schema(p.Schema)
	if err != nil || d == nil {
		if len(texts) > 0 {
			v = value.NewText(texts[0])
		}
		return v, true, nil
	}
	s := d.Schema
	if p.Media != "" {
		return written(s, p.Media, texts[0])
	}
	if s.Message.List() || s.Root.Kind == value.ListKind {
		v, ft = list(s, split(p, texts))
		return v, true, ft
	}
	if s.Root.Kind == value.RecordKind {
		if members == nil {
			members = pairsOf(p, texts)
		}
		v, ft = record(s.Root, members)
		return v, true, ft
	}
	if len(texts) > 1 {
		return v, true, fault.Expect(fault.Length, "one value", "several")
	}
	v, ft = single(s.Root, texts[0])
	return v, true, ft
}

// texts are what came for a parameter; of a record that is written in several, its members.
func (q *Request) texts(p *Parameter, m Match) (texts []string, members map[string]string) {
	switch p.In {
	case "path":
		for _, v := range m.Path {
			if v.Name == p.Name {
				return []string{v.Text}, nil
			}
		}
	case "header":
		return q.Headers[strings.ToLower(p.Name)], nil
	case "cookie":
		if text, there := q.Cookies[p.Name]; there {
			return []string{text}, nil
		}
	case "query":
		if p.Style != "deepObject" {
			return q.Query[p.Name], nil
		}
		for name, list := range q.Query {
			if inner, is := strings.CutPrefix(name, p.Name+"["); is && strings.HasSuffix(inner, "]") {
				if members == nil {
					members = map[string]string{}
				}
				members[strings.TrimSuffix(inner, "]")] = list[0]
			}
		}
	}
	return nil, members
}

// separators stand between the values of a list, by how it is written.
var separators = map[string]string{"form": ",", "simple": ",", "spaceDelimited": " ", "pipeDelimited": "|"}

// split are the values of a list.
func split(p *Parameter, texts []string) []string {
	if p.Explode && p.In == "query" {
		return texts
	}
	var out []string
	for _, t := range texts {
		if t != "" {
			out = append(out, strings.Split(t, cmp.Or(separators[p.Style], ","))...)
		}
	}
	for i := range out {
		out[i] = strings.TrimSpace(out[i])
	}
	return out
}

// pairsOf are the members of a record that is written in one text, as a,1,b,2 or a=1,b=2.
func pairsOf(p *Parameter, texts []string) map[string]string {
	members := map[string]string{}
	var parts []string
	for _, t := range texts {
		parts = append(parts, strings.Split(t, ",")...)
	}
	for i := 0; i < len(parts); i++ {
		if name, v, pair := strings.Cut(parts[i], "="); p.Explode && pair {
			members[name] = v
		} else if !p.Explode && i+1 < len(parts) {
			members[parts[i]] = parts[i+1]
			i++
		}
	}
	return members
}

// single reads a text as a value of a field.
func single(f *schema.Field, text string) (v value.Value, ft *fault.Fault) {
	switch {
	case f.Kind == value.VariantKind:
		for _, b := range f.Fields {
			if v, ft = single(b, text); ft == nil {
				return v, nil
			}
		}
		return v, fault.Expect(fault.Type, "one of "+strings.Join(f.Layout().Names, ", "), fault.Quote(text))
	case f.Kind == value.AnyKind:
		return value.NewText(text), nil
	case !f.Scalar():
		return v, fault.Expect(fault.Type, "a single value", fault.Quote(text))
	}
	v, ok := f.Read(text)
	if !ok {
		return v, fault.Expect(fault.Type, f.DescribeWireFormat(), fault.Quote(text))
	}
	one := *f
	one.Min, one.Max = 1, 1
	one.CheckField(v, func(found *fault.Fault) {
		if ft == nil {
			ft = found
		}
	})
	return v, ft
}

// list reads the values of a list.
func list(s *schema.Schema, texts []string) (v value.Value, ft *fault.Fault) {
	item := *s.Root
	if item.Kind == value.ListKind {
		item = *s.Root.Each()
	} else {
		item.Min, item.Max = s.Message.Min, s.Message.Max
	}
	items := make([]value.Value, len(texts))
	for i, t := range texts {
		if items[i], ft = single(&item, t); ft != nil {
			return v, ft
		}
	}
	v = value.ListOf(items...)
	return v, item.CheckOccurs(v)
}

// record reads the members of a record.
func record(f *schema.Field, members map[string]string) (v value.Value, ft *fault.Fault) {
	fields := make([]value.Value, len(f.Fields))
	for i, c := range f.Fields {
		text, there := members[c.Name]
		switch {
		case !there && c.Required():
			return v, fault.Expect(fault.Required, "the member "+c.Name, "none")
		case there:
			if fields[i], ft = single(c, text); ft != nil {
				return v, ft
			}
		}
	}
	if f.Strict() {
		for name := range members {
			if f.Named(name) == nil {
				return v, fault.Expect(fault.Unknown, "one of "+strings.Join(f.Layout().Names, ", "), fault.Quote(name))
			}
		}
	}
	return value.NewRecord(f.Layout(), fields), nil
}

// written reads a parameter that is a message in a media type.
func written(s *schema.Schema, media, text string) (v value.Value, there bool, ft *fault.Fault) {
	v, faults := message(s, media, []byte(text))
	if len(faults) > 0 {
		return v, true, faults[0]
	}
	return v, true, nil
}

// body reads the body as the media type says that it comes in.
func (c *Contract) body(b *Body, q Request) (value.Value, fault.List) {
	if len(q.Body) == 0 {
		if b != nil && b.Required {
			return value.Value{}, fault.List{fault.Expect(fault.Required, "a body", "none").InField("body")}
		}
		return value.Value{}, nil
	}
	if b == nil {
		return value.Value{}, nil // RFC 9110, section 9.3: it has no meaning, and does no harm
	}
	media, _, err := mime.ParseMediaType(q.ContentType)
	m := fitting(b.Media, media)
	if err != nil || m == nil {
		var known []string
		for _, m := range b.Media {
			known = append(known, m.Type)
		}
		return value.Value{}, fault.List{fault.Expect(fault.Unknown, "a body as "+strings.Join(known, " or "), fault.Quote(q.ContentType)).InField("header Content-Type")}
	}
	d, err := c.Schema(m.Schema)
	if err != nil || d == nil {
		return value.Value{}, nil
	}
	return message(d.Schema, media, q.Body)
}

// fitting is the most exact of the media types that one is of (RFC 9110, section 12.5.1); nil where there is none.
func fitting(list []Media, media string) *Media {
	family, _, _ := strings.Cut(media, "/")
	for _, want := range []string{media, family + "/*", "*/*"} {
		if i := slices.IndexFunc(list, func(m Media) bool {
			t, _, err := mime.ParseMediaType(m.Type)
			return err == nil && t == want
		}); i >= 0 {
			return &list[i]
		}
	}
	return nil
}

// message reads one message of a schema; of a media type that is no notation there is none.
func message(s *schema.Schema, media string, text []byte) (value.Value, fault.List) {
	k, known := all.OfMedia(media)
	if !known || !k.Document {
		return value.Value{}, nil
	}
	r, err := k.NewReader(bytes.NewReader(text), notation.Options{Source: "body", Schema: s, Check: true})
	if err != nil {
		return value.Value{}, fault.List{fault.From(err, fault.Setting)}
	}
	var items []value.Value
	for {
		v, err := r.Next()
		var faults fault.List
		switch {
		case err == io.EOF && s.Message.List():
			return value.ListOf(items...), nil
		case err == io.EOF && len(items) == 1:
			return items[0], nil
		case err == io.EOF:
			return value.Value{}, fault.List{fault.Expect(fault.Length, "one message", "another number of them").InField("body")}
		case errors.As(err, &faults):
			return v, faults
		case err != nil:
			return v, fault.List{fault.From(err, fault.Syntax)}
		}
		items = append(items, v)
	}
}
