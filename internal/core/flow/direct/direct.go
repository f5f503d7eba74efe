// Package direct makes plans of what answers an operation of an API without a flow: an operation of a connection with a mapping each
// way, and the steps before and behind a backend to which requests are passed through. They are plans of flows like any other, of few
// steps, that are done while the caller waits and leave no run behind.
package direct

import (
	"hollowreed/internal/core/api"
	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow"
	"hollowreed/internal/core/flow/compile"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/mapping"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/setting"
)

// The names by which formulas and mappings know the messages.
const (
	Input    = "input"    // what the caller sent; behind a backend what that answered
	Response = "response" // of the connection's operation
	mapped   = "mapped"
	answered = "answered"
)

// Compile makes the plans of the ways of an API that have steps. The faults stand at the settings of the ways.
func Compile(a *api.API, d *partfile.Doc, parts compile.Parts) (faults fault.List) {
	for _, w := range a.Ways {
		if w.Operation == nil {
			continue
		}
		m := &maker{a: a, w: w, doc: d, parts: own{parts, a}}
		switch w.Kind {
		case api.Called:
			w.In = m.called()
		case api.PassThrough:
			w.In, w.Back = m.before(), m.behind()
		}
		for _, p := range []*running.Plan{w.In, w.Back} {
			if p != nil {
				faults = append(faults, p.Faults...)
			}
		}
	}
	return faults
}

// own are the parts of a project while an API is compiled that is not among them yet.
type own struct {
	compile.Parts
	api *api.API
}

func (o own) API(id string) *api.API {
	if id == o.api.ID {
		return o.api
	}
	return o.Parts.API(id)
}

type maker struct {
	a     *api.API
	w     *api.Way
	doc   *partfile.Doc
	parts compile.Parts
}

// called asks an operation of a connection and responds with its answer.
func (m *maker) called() *running.Plan {
	op := m.connected()
	sent := m.message()
	var steps []*flow.Step
	ask := texts{"connection": m.set("connection"), "operation": m.set("calls"), "records": m.set("records"), "as": value(Response), "if missing": value("continue")}
	with := m.w.Settings.Pairs["with"]
	switch mapping := m.set("request mapping"); {
	case mapping.Value != "":
		steps = append(steps, m.mapStep("request", mapping, mapped, known{Input: sent}))
		ask["from"], with = value(mapped), nil
	case len(with) == 0 && op != nil && sent != nil && op.Request != nil && op.Request.Root.SameLayout(sent.Root):
		ask["from"] = value(Input)
	}
	steps = append(steps, m.step("call", "call", ask, with))
	found := m.respond(sent, op)
	if op != nil && op.Response != nil && m.set("records").Value != string(running.AllRows) {
		found = []*flow.Step{m.whether("found", Response+" != nil", found, m.missing())}
	}
	return m.plan(m.asked(), append(steps, found...))
}

// connected is the operation of the connection; nil where there is none, which is told where it is called.
func (m *maker) connected() *connection.Operation {
	if c := m.parts.Connection(m.set("connection").Value); c != nil {
		return c.Operation(m.set("calls").Value)
	}
	return nil
}

// respond are the steps that respond with what the operation answered.
func (m *maker) respond(sent *schema.Schema, op *connection.Operation) (steps []*flow.Step) {
	out := texts{}
	with := m.w.Settings.Pairs["respond"]
	var got *schema.Schema
	if op != nil {
		got = op.Response
	}
	b := &running.Bound{Contract: m.a.Contract, Operation: m.w.Operation}
	switch mapping := m.set("response mapping"); {
	case mapping.Value != "":
		steps = append(steps, m.mapStep("response", mapping, answered, known{Response: got, Input: sent}))
		out["from"], with = value(answered), nil
	case len(with) == 0 && got != nil && b.Success() != nil:
		if s, err := compile.Message(m.a.Contract, b.Success().Media); err == nil && s != nil && s.Root.SameLayout(got.Root) {
			out["from"] = value(Response)
		}
	}
	return append(steps, m.step("respond", "respond", out, with))
}

// missing are the steps where the operation answered nothing: none where the contract has no status for that.
func (m *maker) missing() []*flow.Step {
	status := m.set("missing status")
	if status.Line == 0 {
		if status.Value = "404"; m.w.Operation.AnswerFor(404) == nil {
			return nil
		}
	}
	return []*flow.Step{m.step("respond", "missing", texts{"status": status, "body": value(running.NoBody)}, nil)}
}

// before are the steps on the way to a backend; nil where there are none.
func (m *maker) before() *running.Plan {
	var steps []*flow.Step
	if refuse := m.set("refuse if"); refuse.Value != "" {
		stop := m.step("stop", "refuse", texts{"outcome": value("set aside"), "text": m.set("refusal text")}, nil)
		refused := m.whether("refused", "", []*flow.Step{stop}, nil)
		refused.Branches[0].If = refuse
		steps = append(steps, refused)
	}
	steps = append(steps, m.passed("request", known{Input: m.message()})...)
	if len(steps) == 0 {
		return nil
	}
	return m.plan(m.asked(), steps)
}

// behind are the steps on the way back from a backend; nil where there are none.
func (m *maker) behind() *running.Plan {
	t := flow.Trigger{Kind: "request", As: Input, Method: m.w.Operation.Method, Path: partfile.Text{Value: m.a.Path(m.w.Operation)}, At: m.at()}
	var came *schema.Schema
	if plan := m.parts.Mapping(m.set("response mapping").Value); plan != nil && len(plan.Sources) > 0 {
		came = plan.Sources[0]
		t.Input, t.As = plan.Mapping.From[0].Schema, plan.Mapping.From[0].Name.Value
	}
	steps := m.passed("response", known{t.As: came})
	if len(steps) == 0 {
		return nil
	}
	return m.plan(t, steps)
}

// passed are the steps that make of a message the one that goes on, with its headers; direction is request or response.
func (m *maker) passed(direction string, in known) (steps []*flow.Step) {
	by, headers := m.set(direction+" mapping"), m.set(direction+" headers")
	if by.Value == "" && headers.Value == "" {
		return nil
	}
	out := texts{"headers": headers, "body": value(running.NoBody)}
	if by.Value != "" {
		steps = append(steps, m.mapStep(direction, by, mapped, in))
		if plan := m.parts.Mapping(by.Value); plan != nil {
			out = texts{"headers": headers, "from": value(mapped), "schema": partfile.Text{Value: plan.Mapping.To.Value, Line: by.Line, Column: by.Column}}
		}
	}
	return append(steps, m.step("respond", "pass-on", out, nil))
}

// asked is the trigger of what answers a call.
func (m *maker) asked() flow.Trigger {
	return flow.Trigger{Kind: "operation", As: Input, At: m.at(), Settings: setting.Values{Texts: texts{"api": value(m.a.ID), "api operation": value(m.w.Operation.ID)}}}
}

func (m *maker) plan(t flow.Trigger, steps []*flow.Step) *running.Plan {
	return compile.Compile(&flow.Flow{ID: m.a.ID + " " + m.w.Operation.ID, Title: m.a.Title, Trigger: t, Steps: steps, Retention: flow.StoreNothing, At: m.at(), Doc: m.doc}, m.parts)
}

// message is the body of the contract; nil where there is none, or need not be.
func (m *maker) message() *schema.Schema {
	b := m.w.Operation.Body
	if b == nil || !b.Required {
		return nil
	}
	s, err := compile.Message(m.a.Contract, b.Media)
	if err != nil {
		return nil // which the plan tells
	}
	return s
}

// at is where the way stands.
func (m *maker) at() partfile.Text {
	return partfile.Text{Line: m.w.Name.Line, Column: m.w.Name.Column}
}

func (m *maker) set(name string) partfile.Text { return m.w.Settings.Text(name) }

type (
	texts = map[string]partfile.Text
	known = map[string]*schema.Schema // names in scope
)

func value(text string) partfile.Text { return partfile.Text{Value: text} }

// step is one of a kind, as it would stand in a flow.
func (m *maker) step(kind, id string, set texts, pairs []setting.Pair) *flow.Step {
	k := flow.KindOf(kind)
	return &flow.Step{ID: id, Kind: kind, Name: k.Title, At: m.at(), Settings: setting.Values{List: k.Settings, Texts: set}, Match: pairs}
}

// mapStep maps. Sources whose names are not in scope are the message of their schema.
func (m *maker) mapStep(id string, by partfile.Text, as string, in known) *flow.Step {
	var pairs []setting.Pair
	if plan := m.parts.Mapping(by.Value); plan != nil {
		for i, src := range plan.Mapping.From {
			if name := nameOf(src, plan.Sources[i], in); name != "" {
				pairs = append(pairs, setting.Pair{Name: src.Name, Formula: value(name)})
			}
		}
	}
	return m.step("map", id, texts{"mapping": by, "as": value(as)}, pairs)
}

// nameOf is the name in scope of the message that a source is; empty where it has that name itself, or there is none.
func nameOf(src mapping.Source, of *schema.Schema, in known) string {
	if is := in[src.Name.Value]; is != nil && is.Root == of.Root {
		return ""
	}
	for _, name := range []string{Response, Input} {
		if is := in[name]; is != nil && is.Root == of.Root {
			return name
		}
	}
	return ""
}

// whether leads to one of two sequences of steps.
func (m *maker) whether(id, condition string, then, otherwise []*flow.Step) *flow.Step {
	s := m.step("choose", id, texts{}, nil)
	for i := range flow.KindOf("choose").Branches {
		k := &flow.KindOf("choose").Branches[i]
		b := &flow.Branch{Kind: k, At: m.at(), Path: []any{id, k.Key}}
		switch k.Key {
		case "when":
			b.If, b.Steps = value(condition), then
		case "otherwise":
			b.Steps = otherwise
		}
		s.Branches = append(s.Branches, b)
	}
	return s
}
