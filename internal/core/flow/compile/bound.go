package compile

import (
	"slices"
	"strings"

	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/notation/all"
	"hollowreed/internal/core/notation/json"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
)

// mostListed bounds the operations that a fault lists.
const mostListed = 8

// bind finds the operation of an API that the flow answers. The flow gets its method and path, and the plan what the contract says.
func (c *Compiler) bind() {
	t := c.Flow.Trigger
	at, name := t.Settings.Text("api"), t.Settings.Text("api operation")
	if !t.Of().Contracted || at.Value == "" {
		return
	}
	a := c.Parts.API(at.Value)
	if a == nil {
		c.Fault(at, fault.New(fault.Unknown, "there is no API %s", fault.Quote(at.Value)))
		return
	}
	op := a.Operation(name.Value)
	if op == nil {
		if name.Value != "" {
			c.Fault(name, fault.Expect(fault.Unknown, "an operation of "+a.Title+" ("+operationsOf(a.Contract)+")", fault.Quote(name.Value)))
		}
		return
	}
	own := *c.Flow
	own.Trigger.Method, own.Trigger.Path = op.Method, partfile.Text{Value: a.Path(op), Line: name.Line, Column: name.Column}
	c.Flow, c.Plan.Flow = &own, &own
	c.Plan.Bound = &running.Bound{API: a.ID, Contract: a.Contract, Operation: op}
	c.promised()
}

func operationsOf(k *contract.Contract) string {
	if k == nil {
		return "its contract cannot be read"
	}
	var names []string
	for _, o := range k.Operations {
		if names = append(names, o.ID); len(names) == mostListed {
			names = append(names, "…")
			break
		}
	}
	return strings.Join(names, ", ")
}

// promised takes over the messages of the contract: the body, where one must come, and the answers by status.
func (c *Compiler) promised() {
	b := c.Plan.Bound
	if body := b.Operation.Body; body != nil && body.Required {
		c.Plan.Input = c.messageOf(body.Media)
	}
	c.Plan.Answers = map[string]*schema.Schema{}
	for _, a := range b.Operation.Answers {
		if s := c.messageOf(a.Media); s != nil {
			c.Plan.Answers[running.AnswerKey(a)] = s
		}
	}
	if a := c.Plan.Bound.Success(); a != nil {
		c.Plan.Output = c.Plan.Answers[running.AnswerKey(a)]
	}
}

// messageOf is the schema of a content, as Message finds it.
func (c *Compiler) messageOf(list []contract.Media) *schema.Schema {
	s, err := Message(c.Plan.Bound.Contract, list)
	if err != nil {
		c.Fault(c.Flow.Trigger.Settings.Text("api operation"), fault.From(err, fault.Setting))
	}
	return s
}

// Message is the schema of a content of a contract in the first media type that is a notation, JSON before others; nil where there is
// none.
func Message(of *contract.Contract, list []contract.Media) (*schema.Schema, error) {
	at := slices.IndexFunc(list, func(m contract.Media) bool {
		k, known := all.OfMedia(m.Type)
		return known && k == &json.Kind && m.Schema != ""
	})
	if at < 0 {
		at = slices.IndexFunc(list, func(m contract.Media) bool {
			k, known := all.OfMedia(m.Type)
			return known && k.Document && m.Schema != ""
		})
	}
	if at < 0 {
		return nil, nil
	}
	k, _ := all.OfMedia(list[at].Type)
	d, err := of.Schema(list[at].Schema)
	if err != nil {
		return nil, err
	}
	return d.Schema.As(k.Notation), nil
}
