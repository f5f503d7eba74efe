package project

import (
	"slices"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/infer"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/value"
)

// Wanted is an answer that somebody wants and has no contract for yet: a sentence, or an example in JSON, with the names of what its
// callers give.
type Wanted struct {
	Title   string
	Text    string   // the sentence or the example
	Given   []string // names; of a sentence those in it where there are none
	example *schema.Schema
}

// question is what is asked of the connected systems.
func (w *Wanted) question() (q draft.Question, err error) {
	text := strings.TrimSpace(w.Text)
	if text == "" {
		return q, fault.Expect(fault.Required, "a sentence or an example of the wanted answer in JSON", "nothing").InField("text")
	}
	if strings.HasPrefix(text, "{") {
		res, err := infer.From("response", "Response", &json.Kind, infer.Sample{Name: "example.json", Content: []byte(text)})
		if err != nil {
			return q, err
		}
		w.example, q.Want = res.Schema, draft.LeavesOf(res.Schema.Root)
	} else {
		s := draft.ReadSentence(text)
		q.Want, q.About = draft.Named(s.Want, ""), text
		if len(w.Given) == 0 {
			w.Given = s.Given
		}
	}
	if len(q.Want) == 0 {
		return q, fault.Expect(fault.Required, "names of what is wanted", fault.Quote(text)).InField("text").WithFix("Say it as: the price for a plate and a route")
	}
	q.Given = draft.Named(w.Given, "request.parameters")
	return q, nil
}

// ProposeWanted proposes how a wanted answer comes from operations of the project's connections, the best proposals first.
func (p *Project) ProposeWanted(w *Wanted, most int) ([]draft.Proposal, error) {
	q, err := w.question()
	if err != nil {
		return nil, err
	}
	return draft.Propose(q, p.callable(), most), nil
}

// ContractFor is the contract of an API with one operation that gives a wanted answer as a proposal makes it, and the operation's id.
func (p *Project) ContractFor(w *Wanted, pr draft.Proposal) (document []byte, operation string, err error) {
	root := schema.Record("response")
	if w.example != nil {
		root = w.example.Root
	} else {
		for _, b := range pr.Answer {
			f := *b.From.Leaf.Field
			f.Name, f.Min, f.Max = b.To.Path[0], 1, 1
			if b.Factor != "" {
				f.Kind = value.Decimal
			}
			root.Fields = append(root.Fields, &f)
		}
	}
	title := strings.TrimSpace(w.Title)
	slug := strings.Trim(strings.Map(func(r rune) rune {
		if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' {
			return r
		}
		return '-'
	}, strings.ToLower(title)), "-")
	d := &contract.Drawn{Method: "GET", Path: "/" + slug, ID: slug, Summary: title, Answers: []contract.DrawnAnswer{{Status: "200", About: "the response", Schema: "Response"}, {Status: "404", About: "there is none"}}}
	for i, name := range w.Given {
		pm := contract.DrawnParameter{Name: name, In: "query", Type: "text", Required: true}
		if i == 0 {
			pm.In, d.Path = "path", d.Path+"/{"+name+"}"
		}
		pm.Type = givenType(pr, name)
		d.Parameters = append(d.Parameters, pm)
	}
	text := contract.NewDocument(title)
	empty, err := contract.Read("contract", text)
	if err != nil {
		return nil, "", err
	}
	described := jsonschema.Export(&schema.Schema{ID: "response", Title: "Response", Notation: json.Kind.Notation, Root: root}, false)
	document, err = d.Write(text, empty, map[string][]byte{"Response": described})
	return document, slug, err
}

// givenType is the type of what callers give: that of what it is used for.
func givenType(pr draft.Proposal, name string) string {
	for _, c := range pr.Calls {
		for _, b := range c.Bindings {
			if b.From.Operation != nil || b.From.Leaf.Name() != name {
				continue
			}
			switch b.To.Field.Kind {
			case value.Integer, value.Decimal, value.Date, value.Timestamp, value.Boolean:
				return b.To.Field.Kind.String()
			}
		}
	}
	return "text"
}

// SameCalls says whether two proposals call the same operations in the same order.
func SameCalls(a, b draft.Proposal) bool {
	return slices.EqualFunc(a.Calls, b.Calls, func(x, y draft.Call) bool { return x.Operation.ID == y.Operation.ID })
}
