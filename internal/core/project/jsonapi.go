package project

import (
	stdjson "encoding/json"
	"strings"

	"hollowreed/internal/core/connection"
	"hollowreed/internal/core/flow/running"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/formula"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/schema"
	"hollowreed/internal/core/schema/jsonschema"
	"hollowreed/internal/core/value"
)

// JSONAPI is an API in JSON that does what the operations of a connection do: a contract that is made of their schemas, and a flow for
// each that asks the operation and gives its response.
type JSONAPI struct {
	Document []byte            // OpenAPI 3.1
	Flows    map[string][]byte // by id
	Left     []string          // operations that cannot be published, with the reason
}

// PublishConnection makes an API of the operations of a connection; id is that of the API.
func (p *Project) PublishConnection(connectionID, id, title string) (*JSONAPI, error) {
	c := p.Connection(connectionID)
	if c == nil {
		return nil, ErrNoPart
	}
	out := &JSONAPI{Flows: map[string][]byte{}}
	paths, schemas := map[string]any{}, map[string]any{}
	for _, o := range c.Operations {
		if why := unpublished(o); why != "" {
			out.Left = append(out.Left, o.Name+": "+why)
			continue
		}
		w := publishing{api: id, connection: connectionID, op: o, schemas: schemas}
		path, method, described := w.operation()
		at, _ := paths[path].(map[string]any)
		if at == nil {
			at = map[string]any{}
			paths[path] = at
		}
		at[method] = described
		out.Flows[id+"-"+o.ID] = w.flow()
	}
	document := map[string]any{
		"openapi": "3.1.0", "info": map[string]any{"title": title, "version": "1.0.0", "description": "What " + c.Title + " does, as JSON."},
		"paths": paths, "components": map[string]any{"schemas": schemas},
	}
	var err error
	out.Document, err = stdjson.MarshalIndent(document, "", "  ")
	return out, err
}

// unpublished says why an operation cannot be published; empty where it can.
func unpublished(o *connection.Operation) string {
	switch {
	case len(o.Faults) > 0:
		return "it has faults"
	case o.Request != nil && o.Request.Root.Kind != value.RecordKind, o.Request != nil && o.Request.Message.List():
		return "its request is no record"
	case o.Setting("records") != "" && !o.Kind.Reads:
		return "its records are taken out of the response"
	}
	return ""
}

// refusal is the schema of what a caller is told of a refusal of the system behind.
const refusal = "refusal"

// publishing makes one operation of the contract and its flow.
type publishing struct {
	api, connection string
	op              *connection.Operation
	schemas         map[string]any
}

// asQuery says whether an operation is asked by a GET, with the fields of its request in the query.
func (w *publishing) asQuery() bool {
	const mostInQuery = 12
	if w.op.Changes() || w.op.Request == nil {
		return !w.op.Changes()
	}
	for _, f := range w.op.Request.Root.Fields {
		if !f.Scalar() || f.List() || f.Kind == value.Binary {
			return false
		}
	}
	return len(w.op.Request.Root.Fields) <= mostInQuery
}

// many says whether the response has any number of records.
func (w *publishing) many() bool { return w.op.Kind.Reads }

// operation describes it.
func (w *publishing) operation() (path, method string, described map[string]any) {
	described = map[string]any{"operationId": w.op.ID, "summary": w.op.Name}
	path, method = "/"+w.op.ID, "post"
	switch {
	case w.asQuery():
		method = "get"
		if w.op.Request != nil {
			described["parameters"] = w.parameters()
		}
	case w.op.Request != nil:
		described["requestBody"] = map[string]any{"required": true, "content": content(w.schema("request", w.op.Request))}
	}
	w.schemas[refusal] = map[string]any{"type": "object", "required": []string{"detail"}, "properties": map[string]any{"detail": map[string]any{"type": "string"}}}
	answers := map[string]any{"502": map[string]any{"description": "the system behind refuses it", "content": content(map[string]any{"$ref": "#/components/schemas/" + refusal})}}
	switch {
	case w.op.Response == nil:
		answers["204"] = map[string]any{"description": "done"}
	case w.many():
		list := map[string]any{"type": "object", "required": []string{"items"}, "properties": map[string]any{"items": map[string]any{"type": "array", "items": w.schema("response", w.op.Response)}}}
		answers["200"] = map[string]any{"description": "the records", "content": content(list)}
	default:
		answers["200"] = map[string]any{"description": "the response", "content": content(w.schema("response", w.op.Response))}
	}
	described["responses"] = answers
	return path, method, described
}

func content(s any) map[string]any {
	return map[string]any{"application/json": map[string]any{"schema": s}}
}

// parameters are the fields of the request.
func (w *publishing) parameters() (list []any) {
	of := exported(w.op.Request)
	properties, _ := of["properties"].(map[string]any)
	for _, f := range w.op.Request.Root.Fields {
		p := map[string]any{"name": f.Name, "in": "query", "required": f.Required(), "schema": properties[f.Name]}
		if f.Notes != "" {
			p["description"] = f.Notes
		}
		list = append(list, p)
	}
	return list
}

// exported is a schema as JSON Schema.
func exported(s *schema.Schema) map[string]any {
	var m map[string]any
	d := stdjson.NewDecoder(strings.NewReader(string(jsonschema.Export(s, false))))
	d.UseNumber()
	if err := d.Decode(&m); err != nil {
		return map[string]any{}
	}
	delete(m, "$schema")
	return m
}

// SchemaDocument is a schema as JSON Schema, as it stands in an OpenAPI document; nil where there is none.
func (p *Project) SchemaDocument(id string) []byte {
	s := p.Schema(id)
	if s == nil {
		return nil
	}
	text, err := stdjson.Marshal(exported(s))
	if err != nil {
		return nil
	}
	return text
}

// schema puts a schema among those of the document, and refers to it.
func (w *publishing) schema(what string, s *schema.Schema) any {
	name := s.ID
	if name == "" {
		name = w.op.ID + "-" + what
	}
	w.schemas[name] = exported(s)
	return map[string]any{"$ref": "#/components/schemas/" + name}
}

// flow asks the operation and gives its response.
func (w *publishing) flow() []byte {
	settings := partfile.Ordered{{Key: "kind", Value: trigger.Operation.Name}, {Key: "api", Value: w.api}, {Key: "api operation", Value: w.op.ID}}
	call := partfile.Ordered{
		{Key: "step", Value: "call"}, {Key: "id", Value: "call"}, {Key: "name", Value: w.op.Name}, {Key: "connection", Value: w.connection}, {Key: "operation", Value: w.op.ID},
	}
	if w.op.Request != nil {
		from := bodyName
		if w.asQuery() {
			from = "request.parameters"
		} else {
			settings.Add("as", bodyName)
		}
		var with partfile.Ordered
		for _, f := range w.op.Request.Root.Fields {
			with.Add(f.Name, formula.Path(append(strings.Split(from, "."), f.Name)))
		}
		call.Add("with", with)
	}
	respond := partfile.Ordered{{Key: "step", Value: "respond"}, {Key: "id", Value: "respond"}, {Key: "name", Value: "Respond"}}
	switch {
	case w.op.Response == nil:
		respond.Add("status", "204")
	case w.many():
		call.Add("as", "items")
		call.Add("records", string(running.AllRows))
		respond.Add("with", partfile.Ordered{{Key: "items", Value: "items"}})
	default:
		call.Add("as", "response")
		var with partfile.Ordered
		for _, f := range w.op.Response.Root.Fields {
			with.Add(f.Name, formula.Path([]string{"response", f.Name}))
		}
		respond.Add("with", with)
	}
	return partfile.Encode(partfile.Ordered{{Key: "flow", Value: w.op.Name}, {Key: "trigger", Value: settings}, {Key: "steps", Value: []partfile.Ordered{{
		{Key: "step", Value: "try"},
		{Key: "id", Value: "try"},
		{Key: "name", Value: "Ask it"},
		{Key: "steps", Value: []partfile.Ordered{call, respond}},
		{Key: "on fault", Value: []partfile.Ordered{{
			{Key: "step", Value: "respond"}, {Key: "id", Value: "refused"}, {Key: "name", Value: "Refused"}, {Key: "status", Value: "502"}, {Key: "with", Value: partfile.Ordered{{Key: "detail", Value: "fault.text"}}},
		}}},
	}}}})
}
