package contract

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"

	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/sample"
	"hollowreed/internal/core/value"
)

// Sent is an answer as it goes to a caller.
type Sent struct {
	Status  int
	Headers [][2]string
	Media   string // empty where there is no body
	Body    []byte
}

// ExampleAnswer is an answer of an operation from the examples of the contract, or made of its schema where there is none. Where a
// parameter came with the value of an example that has a name, it is an example of that name; else it is one of the status, which
// may be empty: the first that says that all is well.
func (c *Contract) ExampleAnswer(m Match, q Request, status string) (Sent, *fault.Fault) {
	if a, at, i := namedExample(m, q); a != nil {
		return c.sent(m.Operation, a, at, &at.Examples[i])
	}
	list := m.Operation.Answers
	at := slices.IndexFunc(list, func(a *Answer) bool {
		return a.Status == status || status == "" && a.Status[0] == '2'
	})
	if at < 0 && len(list) > 0 {
		at = 0
	}
	if at < 0 {
		return Sent{Status: 204}, nil
	}
	a := list[at]
	for i := range a.Media {
		if e := a.Media[i].Examples; len(e) > 0 {
			return c.sent(m.Operation, a, &a.Media[i], &e[0])
		}
	}
	if len(a.Media) == 0 {
		return c.sent(m.Operation, a, nil, nil)
	}
	return c.sent(m.Operation, a, &a.Media[0], nil)
}

// namedExample finds the example of an answer that has the name of one of a parameter that came.
func namedExample(m Match, q Request) (*Answer, *Media, int) {
	for _, p := range m.Operation.Parameters {
		texts, _ := q.texts(p, m)
		if len(texts) == 0 {
			continue
		}
		for _, e := range p.Examples {
			if e.Name == "" || e.plain() != texts[0] {
				continue
			}
			if a, at, i := m.Operation.example(e.Name); a != nil {
				return a, at, i
			}
		}
	}
	return nil, nil, 0
}

// plain is the example as it stands in a path or a query.
func (e *Example) plain() string {
	var text string
	if json.Unmarshal([]byte(e.Value), &text) == nil {
		return text
	}
	return e.Value
}

// example finds an example of an answer by its name.
func (o *Operation) example(name string) (*Answer, *Media, int) {
	for _, a := range o.Answers {
		for i := range a.Media {
			if at := slices.IndexFunc(a.Media[i].Examples, func(e Example) bool { return e.Name == name }); at >= 0 {
				return a, &a.Media[i], at
			}
		}
	}
	return nil, nil, 0
}

// sent writes an answer: an example, or a value of the schema.
func (c *Contract) sent(o *Operation, a *Answer, m *Media, e *Example) (s Sent, ft *fault.Fault) {
	s.Status = o.statusOf(a)
	for _, h := range a.Headers {
		if text, ok := c.SampleText(h); ok && text != "" {
			s.Headers = append(s.Headers, [2]string{h.Name, text})
		}
	}
	if m == nil {
		return s, nil
	}
	s.Media = m.Type
	s.Body, ft = c.written(*m, e)
	return s, ft
}

// SampleBody is a message in a media type: the first example, or a value made of the schema; empty where there is neither.
func (c *Contract) SampleBody(m Media) ([]byte, *fault.Fault) {
	if len(m.Examples) > 0 {
		return c.written(m, &m.Examples[0])
	}
	return c.written(m, nil)
}

// written writes an example in its media type, or a value of the schema.
func (c *Contract) written(m Media, e *Example) ([]byte, *fault.Fault) {
	k, known := all.OfMedia(m.Type)
	switch {
	case e != nil && !known:
		return []byte(e.plain()), nil
	case e != nil && k.Name == "json":
		return []byte(e.Value), nil
	case !known || !k.Document:
		return nil, nil
	}
	d, err := c.Schema(m.Schema)
	if err != nil || d == nil {
		return nil, nil
	}
	sch := d.Schema.As(k.Notation)
	items, ft := values(d.Schema, sch, e)
	if ft != nil {
		return nil, ft
	}
	var out bytes.Buffer
	w, err := k.NewWriter(&out, notation.Options{Schema: sch, Many: sch.Message.List()})
	for i := 0; err == nil && i < len(items); i++ {
		err = w.Write(items[i])
	}
	if err == nil {
		err = w.Close()
	}
	if err != nil {
		return nil, fault.From(err, fault.Setting)
	}
	return out.Bytes(), nil
}

// sampled is how many entries a made list has.
const sampled = 2

// values are those of an example, or made ones.
func values(s, as *schema.Schema, e *Example) (items []value.Value, ft *fault.Fault) {
	if e != nil {
		if v, faults := message(s, "application/json", []byte(e.Value)); len(faults) == 0 {
			return []value.Value{v}, nil
		}
	}
	n := 1
	if as.Message.List() {
		n = max(1, min(sampled, as.Message.Max))
	}
	items = make([]value.Value, n)
	for i := range items {
		if items[i], ft = sample.Make(as, sample.Typical, uint64(i+1)); ft != nil {
			return nil, ft
		}
	}
	return items, nil
}

// SampleText is a value of a parameter as it stands in a path or a query: an example, or one that is made; false where none can be.
func (c *Contract) SampleText(p *Parameter) (text string, ok bool) {
	if len(p.Examples) > 0 {
		return p.Examples[0].plain(), true
	}
	d, err := c.Schema(p.Schema)
	if err != nil || d == nil || !d.Schema.Root.Scalar() {
		return "", false
	}
	v, ft := sample.Make(d.Schema, sample.Typical, 1)
	if ft != nil || v.IsMissing() {
		return "", false
	}
	return v.String(), true
}

// statusOf is a status of those for which an answer is. The answer for all others is a failure where there is one that says that all is
// well.
func (o *Operation) statusOf(a *Answer) int {
	if n, err := strconv.Atoi(a.Status); err == nil {
		return n
	}
	if a.Status != "default" {
		return int(a.Status[0]-'0') * 100
	}
	if slices.ContainsFunc(o.Answers, func(b *Answer) bool { return b.Status[0] == '2' }) {
		return 500
	}
	return 200
}
