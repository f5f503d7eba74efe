package running

import (
	"net/url"
	"slices"
	"strconv"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/route"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// Bound is the operation of an API that a flow answers: the contract says what is asked and what may be answered.
type Bound struct {
	API       string // the part
	Contract  *contract.Contract
	Operation *contract.Operation
}

// Answer is what the contract says of a status: of that, of its hundred, or of all others; nil where it says nothing.
func (b *Bound) Answer(status int64) *contract.Answer {
	return b.Operation.AnswerFor(int(status))
}

// Visible is the operation without parameters in cookies, which no flow sees.
func (b *Bound) Visible() *contract.Operation {
	o := *b.Operation
	o.Parameters = slices.DeleteFunc(slices.Clone(o.Parameters), func(p *contract.Parameter) bool { return p.In == "cookie" })
	return &o
}

// AnswerKey is under what an answer of the contract has its schema among those of the plan.
func AnswerKey(a *contract.Answer) string { return "#" + a.Status }

// Promised is the answer of the contract that a step gives: by its status, which must be written as a number; nil where there is
// none, and for flows that answer no contract.
func (p *Plan) Promised(s *flow.Step) *contract.Answer {
	if p.Bound == nil || s.Setting("schema") != "" {
		return nil
	}
	status := int64(200)
	if text := s.Setting("status"); text != "" {
		n, err := strconv.ParseInt(text, 10, 32)
		if err != nil {
			return nil
		}
		status = n
	} else if a := p.Bound.Success(); a != nil {
		return a
	}
	if !StatusOK(status) {
		return nil
	}
	return p.Bound.Answer(status)
}

// Success is the first answer of the contract that says that all is well; nil where there is none.
func (b *Bound) Success() *contract.Answer {
	if b == nil {
		return nil
	}
	for _, a := range b.Operation.Answers {
		if a.Status[0] == '2' {
			return a
		}
	}
	return b.Answer(200)
}

// asked reads the parameters of a request as the contract writes them.
func (p *Plan) asked(request value.Value) (value.Value, fault.List) {
	q := contract.Request{Query: url.Values{}, Headers: map[string][]string{}}
	pairs := func(of string, add func(name, text string)) {
		for _, one := range request.Field(of).Items() {
			add(one.Field("name").Text(), one.Field("value").Text())
		}
	}
	pairs("query", func(name, text string) { q.Query[name] = append(q.Query[name], text) })
	pairs("headers", func(name, text string) { q.Headers[name] = append(q.Headers[name], text) })
	m := contract.Match{Operation: p.Bound.Visible()}
	fixed, _ := flow.MatchPath(p.Flow.Trigger.Path.Value, request.Field("path").Text())
	for name, text := range fixed {
		m.Path = append(m.Path, route.Value{Name: name, Text: text})
	}
	read, faults := p.Bound.Contract.Parameters(m, q)
	values := make([]value.Value, len(p.Given.Root.Fields))
	for i, f := range p.Given.Root.Fields {
		values[i] = read[f.Name]
	}
	return value.NewRecord(p.Given.Root.Layout(), values), faults
}

// paramField is a parameter of a contract as formulas see it.
func paramField(name string, required bool, s *schema.Schema) *schema.Field {
	f := schema.Scalar(name, value.Text)
	if s != nil {
		root := *s.Root
		f = &root
		f.Name, f.Min, f.Max = name, 1, 1
		if s.Message.List() {
			f.Max = s.Message.Max
			f.Min = s.Message.Min
		}
	}
	if !required {
		f.Min = 0
	}
	return f
}

// ParametersOf describes the parameters of a contract's operation; nil where there are none.
func ParametersOf(b *Bound) (*schema.Field, error) {
	var fields []*schema.Field
	for _, p := range b.Visible().Parameters {
		d, err := b.Contract.Schema(p.Schema)
		switch {
		case err != nil:
			return nil, err
		case d == nil:
			fields = append(fields, paramField(p.Name, p.Required, nil))
		default:
			fields = append(fields, paramField(p.Name, p.Required, d.Schema))
		}
	}
	if fields == nil {
		return nil, nil
	}
	return schema.Record("parameters", fields...), nil
}
