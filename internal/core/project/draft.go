package project

import (
	"slices"
	"strconv"
	"strings"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/draft"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/value"
)

// bodyName is what a drafted flow calls the body of a request.
const bodyName = "body"

// ProposeFlows proposes how an operation of an API comes from operations of the project's connections, the best proposals first.
func (p *Project) ProposeFlows(apiID, operation string, most int) ([]draft.Proposal, error) {
	a := p.API(apiID)
	o := a.Operation(operation)
	if o == nil {
		return nil, ErrNoPart
	}
	q, err := questionOf(a, o)
	if err != nil {
		return nil, err
	}
	return draft.Propose(q, p.callable(), most), nil
}

// questionOf is what an operation of an API is given, and what it is to answer.
func questionOf(a *api.API, o *contract.Operation) (q draft.Question, err error) {
	b := &running.Bound{API: a.ID, Contract: a.Contract, Operation: o}
	q.About = o.Summary
	params, err := running.ParametersOf(b)
	if err != nil {
		return q, err
	}
	for i, pm := range b.Visible().Parameters {
		f := params.Fields[i]
		if !f.Scalar() {
			continue
		}
		l := draft.NewLeaf([]string{pm.Name}, f, pm.Required, f.List())
		if text, ok := a.Contract.SampleText(pm); ok && len(pm.Examples) > 0 {
			l.Examples = []string{text}
		}
		l.Where = "request.parameters"
		q.Given = append(q.Given, l)
	}
	if o.Body != nil {
		root, err := messageRoot(a.Contract, o.Body.Media)
		if err != nil {
			return q, err
		}
		for _, l := range draft.LeavesOf(root) {
			l.Where = bodyName
			q.Given = append(q.Given, l)
		}
	}
	if success := b.Success(); success != nil {
		root, err := messageRoot(a.Contract, success.Media)
		if err != nil {
			return q, err
		}
		q.Want = draft.LeavesOf(root)
	}
	return q, nil
}

// messageRoot is the record of the first content that has a schema.
func messageRoot(k *contract.Contract, list []contract.Media) (*schema.Field, error) {
	for _, m := range list {
		d, err := k.Schema(m.Schema)
		if err != nil {
			return nil, err
		}
		if d != nil && d.Schema.Root.Kind == value.RecordKind {
			return d.Schema.Root, nil
		}
	}
	return nil, nil
}

// callable are the operations of the connections as the search knows them.
func (p *Project) callable() (list []*draft.Operation) {
	for _, part := range p.Parts(Connections) {
		c := p.Connection(part.ID)
		if c == nil {
			continue
		}
		for _, o := range c.Operations {
			if len(o.Faults) > 0 || o.Response == nil {
				continue
			}
			list = append(list, draft.NewOperation(part.ID+"/"+o.ID, part.Title+" "+o.ID, o.Name, !o.Changes(), leavesOf(o.Request), leavesOf(o.Response)))
		}
	}
	return list
}

func leavesOf(s *schema.Schema) []*draft.Leaf {
	if s == nil {
		return nil
	}
	return draft.LeavesOf(s.Root)
}

// operationOf is the operation of a connection that a call of a proposal is of.
func (p *Project) operationOf(o *draft.Operation) *connection.Operation {
	id, op, _ := strings.Cut(o.ID, "/")
	if c := p.Connection(id); c != nil {
		return c.Operation(op)
	}
	return nil
}

// drafter writes the flow of a proposal.
type drafter struct {
	p     *Project
	names map[*draft.Operation]string // of the results
}

// DraftFlow is the text of the flow that a proposal comes to. What is open stays open: the flow says so by its faults. With caches it
// remembers what calls answer for which that is proposed.
func (p *Project) DraftFlow(apiID, operation, title string, pr draft.Proposal, caches bool) []byte {
	a := p.API(apiID)
	o := a.Operation(operation)
	w := &drafter{p: p, names: map[*draft.Operation]string{}}
	var steps []partfile.Ordered
	for i, c := range pr.Calls {
		step := w.call(c)
		if caches && c.Cache != "" && i > 0 && len(c.Bindings) > 0 { // of the first one it matters that nothing is there
			step = w.cached(c, step)
		}
		steps = append(steps, step)
	}
	b := &running.Bound{API: a.ID, Contract: a.Contract, Operation: o}
	respond := partfile.Ordered{{Key: "step", Value: "respond"}, {Key: "id", Value: "respond"}, {Key: "name", Value: "Respond"}}
	if success := b.Success(); success != nil {
		if root, err := messageRoot(a.Contract, success.Media); err == nil && root != nil {
			respond.Add("with", w.filled(root, pr.Answer))
		}
	}
	steps = w.unknown(a, o, pr, append(steps, respond))
	settings := partfile.Ordered{{Key: "kind", Value: trigger.Operation.Name}, {Key: "api", Value: apiID}, {Key: "api operation", Value: o.ID}}
	if o.Body != nil {
		settings.Add("as", bodyName)
	}
	return partfile.Encode(partfile.Ordered{{Key: "flow", Value: title}, {Key: "trigger", Value: settings}, {Key: "steps", Value: steps}})
}

// unknown answers with 404 where the first call finds nothing, if the contract has that and the call says that nothing is there.
func (w *drafter) unknown(a *api.API, o *contract.Operation, pr draft.Proposal, steps []partfile.Ordered) []partfile.Ordered {
	if len(pr.Calls) == 0 || o.AnswerFor(404) == nil || o.AnswerFor(404).Status != "404" {
		return steps
	}
	first := w.p.operationOf(pr.Calls[0].Operation)
	if first == nil || first.Setting("none") != "no answer" {
		return steps
	}
	steps[0].Add("if missing", "continue")
	missing := partfile.Ordered{{Key: "step", Value: "respond"}, {Key: "id", Value: "unknown"}, {Key: "name", Value: "Not known"}, {Key: "status", Value: "404"}}
	found := partfile.Ordered{{Key: "if", Value: formula.Path([]string{w.names[pr.Calls[0].Operation]}) + " != nil"}, {Key: "steps", Value: steps[1:]}}
	choose := partfile.Ordered{
		{Key: "step", Value: "choose"},
		{Key: "id", Value: "known"},
		{Key: "name", Value: "Is it known?"},
		{Key: "when", Value: []partfile.Ordered{found}},
		{Key: "otherwise", Value: []partfile.Ordered{missing}},
	}
	return []partfile.Ordered{steps[0], choose}
}

// call is the step of a call.
func (w *drafter) call(c draft.Call) partfile.Ordered {
	id, op, _ := strings.Cut(c.Operation.ID, "/")
	of := w.p.operationOf(c.Operation)
	name := freeName(op, w.names)
	w.names[c.Operation] = name
	s := partfile.Ordered{
		{Key: "step", Value: "call"},
		{Key: "id", Value: strings.ReplaceAll(name, "_", "-")},
		{Key: "name", Value: stepName(c.Operation.About, op)},
		{Key: "connection", Value: id},
		{Key: "operation", Value: op},
	}
	if of != nil && of.Request != nil {
		s.Add("with", w.filled(of.Request.Root, c.Bindings))
	}
	s.Add("as", name)
	return s
}

// cached is a call whose answer is remembered by what it is asked with.
func (w *drafter) cached(c draft.Call, call partfile.Ordered) partfile.Ordered {
	name := w.names[c.Operation]
	inner := name + "_response"
	for i := range call {
		switch call[i].Key {
		case "as":
			call[i].Value = inner
		case "id":
			call[i].Value = strings.ReplaceAll(inner, "_", "-")
		}
	}
	var key []string
	for _, b := range c.Bindings {
		key = append(key, "text("+w.formulaOf(b)+")")
	}
	return partfile.Ordered{
		{Key: "step", Value: "cache"},
		{Key: "id", Value: strings.ReplaceAll(name, "_", "-")},
		{Key: "name", Value: stepName(c.Operation.About, "known "+name)},
		{Key: "key", Value: strings.Join(key, ` + " " + `)},
		{Key: "value", Value: inner},
		{Key: "ttl", Value: "3600"},
		{Key: "as", Value: name},
		{Key: "steps", Value: []partfile.Ordered{call}},
	}
}

// longestName is how long a step's name may be to be read in the drawing, in bytes.
const longestName = 22

// stepName is what a step is called: what its operation is about, or else its id in words.
func stepName(about, op string) string {
	if about != "" && len(about) <= longestName {
		return about
	}
	words := strings.Join(strings.FieldsFunc(op, func(r rune) bool { return r == '-' || r == '_' || r == '.' }), " ")
	if words == "" {
		return about
	}
	return strings.ToUpper(words[:1]) + words[1:]
}

// freeName is a name for a result that no other has, made of an operation's id.
func freeName(op string, taken map[*draft.Operation]string) string {
	words := strings.FieldsFunc(strings.ToLower(op), func(r rune) bool { return !(r >= 'a' && r <= 'z' || r >= '0' && r <= '9') })
	if len(words) > 1 && slices.Contains([]string{"get", "list", "find", "read", "search", "fetch"}, words[0]) {
		words = words[1:]
	}
	base := strings.Join(words, "_")
	if base == "" || base[0] <= '9' {
		base = "result"
	}
	used := func(name string) bool {
		for _, other := range taken {
			if other == name {
				return true
			}
		}
		return slices.Contains([]string{"request", "run", bodyName}, name)
	}
	name := base
	for n := 2; used(name); n++ {
		name = base + string(rune('0'+n))
	}
	return name
}

// filled are the formulas of a record's fields: of those that are bound, records inside made by record(…).
func (w *drafter) filled(root *schema.Field, bindings []draft.Binding) partfile.Ordered {
	var out partfile.Ordered
	for _, f := range root.Fields {
		if text := w.fieldOf(f, []string{f.Name}, bindings); text != "" {
			out.Add(f.Name, text)
		}
	}
	return out
}

// fieldOf is the formula of a field; empty where nothing in it is bound.
func (w *drafter) fieldOf(f *schema.Field, path []string, bindings []draft.Binding) string {
	for _, b := range bindings {
		if slices.Equal(b.To.Path, path) {
			return w.formulaOf(b)
		}
	}
	if f.Kind != value.RecordKind || f.List() {
		return ""
	}
	var parts []string
	for _, c := range f.Fields {
		if text := w.fieldOf(c, append(slices.Clone(path), c.Name), bindings); text != "" {
			parts = append(parts, strconv.Quote(c.Name)+", "+text)
		}
	}
	if parts == nil {
		return ""
	}
	return "record(" + strings.Join(parts, ", ") + ")"
}

// formulaOf reads where a value comes from and makes it what it is to be.
func (w *drafter) formulaOf(b draft.Binding) string {
	from := b.From.Leaf
	var path []string
	if b.From.Operation != nil {
		path = []string{w.names[b.From.Operation]}
	} else {
		path = strings.Split(from.Where, ".")
	}
	text := formula.Path(append(path, from.Path...))
	to, is := b.To.Field.Kind, from.Field.Kind
	switch {
	case b.Factor != "" && is != value.Text:
		text += " * " + b.Factor
		if to == value.Integer {
			text = "round(" + text + ")"
		}
	case to == is, to == value.AnyKind, to == value.Decimal && is == value.Integer:
	case to == value.Integer && is == value.Decimal:
		text = "round(" + text + ")"
	case conversions[to] != "":
		text = conversions[to] + "(" + text + ")"
	}
	return text
}

// conversions are the functions that make a value one of a kind.
var conversions = map[value.Kind]string{value.Text: "text", value.Decimal: "decimal", value.Integer: "integer", value.Date: "date", value.Timestamp: "timestamp"}
