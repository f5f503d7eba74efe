package design

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"github.com/jackc/pgx/v5"

	"hollowreed/internal/core/api"
	"hollowreed/internal/core/contract"
	"hollowreed/internal/core/fault"
	"hollowreed/internal/core/flow/trigger"
	"hollowreed/internal/core/partfile"
	"hollowreed/internal/core/project"
	"hollowreed/internal/store"
)

// AddAPI adds an API by its contract, an OpenAPI document, and gives its id. Every operation is answered by its examples, so that
// callers can begin. Without a title the API has that of the contract; without a document it has no operations yet.
func (d Designer) AddAPI(ctx context.Context, title string, document []byte) (string, error) {
	if len(document) == 0 {
		document = contract.NewDocument(title)
	}
	k, err := contract.Read("", document)
	if err != nil {
		return "", err
	}
	if title == "" {
		title = k.Title
	}
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	id, err := FreshID(p, project.APIs, title)
	if err != nil {
		return "", err
	}
	file := id + ".openapi.yaml"
	if k.WSDL != nil {
		file = id + ".wsdl"
	}
	texts := map[string]string{}
	if _, there := p.Texts[project.Path(project.Contracts, file)]; there {
		return "", fault.New(fault.Setting, "there is a contract %s already", fault.Quote(file)).WithFix("Choose another title")
	}
	texts[project.Path(project.Contracts, file)] = string(document)
	var ways []partfile.Ordered
	for _, o := range k.Operations {
		if !o.Document {
			ways = append(ways, firstWay(p, o))
		}
	}
	texts[project.Path(project.APIs, id)] = string(partfile.Encode(partfile.Ordered{{Key: "api", Value: title}, {Key: "contract", Value: file}, {Key: "operations", Value: ways}}))
	return id, d.addAll(ctx, texts)
}

// firstWay is what answers an operation of a new API: its examples, or the only SOAP service that the project is connected to.
func firstWay(p *project.Project, o *contract.Operation) partfile.Ordered {
	if o.Port == nil {
		return partfile.Ordered{{Key: "operation", Value: o.ID}, {Key: "answered by", Value: api.Examples.Name}}
	}
	way := partfile.Ordered{{Key: "operation", Value: o.ID}, {Key: "answered by", Value: api.PassThrough.Name}}
	var services []string
	for _, part := range p.Parts(project.Connections) {
		if c := p.Connection(part.ID); c != nil && c.Kind == "soap" {
			services = append(services, part.ID)
		}
	}
	if len(services) == 1 {
		way.Add("connection", services[0])
	}
	return way
}

// AddConnectionAPI publishes the operations of a connection as a JSON API, with a flow for each, and gives the API's id.
func (d Designer) AddConnectionAPI(ctx context.Context, connectionID string) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	title := p.TitleOf(project.Connections, connectionID) + " as JSON"
	id, err := FreshID(p, project.APIs, title)
	if err != nil {
		return "", err
	}
	made, err := p.PublishConnection(connectionID, id, title)
	if err != nil {
		return "", err
	}
	if len(made.Flows) == 0 {
		return "", fault.New(fault.Required, "the connection has no operation that can be published").WithFix("Add operations to it, or mend those that have faults")
	}
	file := id + ".openapi.json"
	texts := map[string]string{
		project.Path(project.Contracts, file): string(made.Document) + "\n",
		project.Path(project.APIs, id):        string(partfile.Encode(partfile.Ordered{{Key: "api", Value: title}, {Key: "contract", Value: file}})),
	}
	for flow, text := range made.Flows {
		texts[project.Path(project.Flows, flow)] = string(text)
	}
	return id, d.addAll(ctx, texts)
}

// addAll adds several parts, or none of them.
func (d Designer) addAll(ctx context.Context, texts map[string]string) error {
	return d.change(ctx, func(tx pgx.Tx) error {
		for _, path := range slices.Sorted(maps.Keys(texts)) {
			if err := d.add(ctx, tx, path, texts[path]); err != nil {
				return err
			}
		}
		return nil
	})
}

// AddFlowFor adds a flow that answers an operation of an API, in place of what answered it before, and gives the flow's id.
func (d Designer) AddFlowFor(ctx context.Context, apiID, operation string, from int64) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	a := p.API(apiID)
	o := a.Operation(operation)
	if o == nil {
		return "", store.ErrNotFound
	}
	title := cmp.Or(o.Summary, o.ID)
	id, err := FreshID(p, project.Flows, title)
	if err != nil {
		return "", err
	}
	settings := partfile.Ordered{{Key: "kind", Value: trigger.Operation.Name}, {Key: "api", Value: apiID}, {Key: "api operation", Value: o.ID}}
	text := partfile.Encode(partfile.Ordered{{Key: "flow", Value: title}, {Key: "trigger", Value: settings}})
	return id, d.answerBy(ctx, p, a, o, id, string(text), from)
}

// answerBy adds a flow that answers an operation, and takes out of the API what answered it before.
func (d Designer) answerBy(ctx context.Context, p *project.Project, a *api.API, o *contract.Operation, id, text string, from int64) error {
	w := a.Way(o)
	if w == nil {
		return d.Add(ctx, project.Path(project.Flows, id), text)
	}
	path := project.Path(project.APIs, a.ID)
	changed, err := partfile.Remove([]byte(p.Texts[path]), []any{"operations"}, w.Index)
	if err != nil {
		return err
	}
	return d.AddBeside(ctx, project.Path(project.Flows, id), text, path, string(changed), from)
}

// AddDraftedFlow adds the flow of one of the proposals for an operation of an API, counted from 1, and gives its id.
func (d Designer) AddDraftedFlow(ctx context.Context, apiID, operation string, number int, caches bool, from int64) (string, error) {
	p, err := d.Load(ctx)
	if err != nil {
		return "", err
	}
	list, err := p.ProposeFlows(apiID, operation, number)
	if err != nil {
		return "", err
	}
	if len(list) < number {
		return "", store.ErrNotFound
	}
	a := p.API(apiID)
	o := a.Operation(operation)
	title := cmp.Or(o.Summary, o.ID)
	id, err := FreshID(p, project.Flows, title)
	if err != nil {
		return "", err
	}
	return id, d.answerBy(ctx, p, a, o, id, string(p.DraftFlow(apiID, operation, title, list[number-1], caches)), from)
}

// SetWay says what answers an operation, in the text of an API; an empty kind is a flow, or nothing yet.
func SetWay(a *api.API, text []byte, operation, kind string) ([]byte, error) {
	o := a.Operation(operation)
	if o == nil {
		return nil, store.ErrNotFound
	}
	w := a.Way(o)
	switch {
	case kind == "" && w == nil:
		return text, nil
	case kind == "":
		return partfile.Remove(text, []any{"operations"}, w.Index)
	case w == nil:
		return partfile.Append(text, []any{"operations"}, "operation", o.ID, "answered by", kind)
	case w.Kind.Name == kind:
		return text, nil
	}
	text, err := partfile.Remove(text, []any{"operations"}, w.Index)
	if err != nil {
		return nil, err
	}
	return partfile.Insert(text, []any{"operations"}, w.Index, partfile.Ordered{{Key: "operation", Value: o.ID}, {Key: "answered by", Value: kind}})
}

// CachingAt is where the caching of an operation stands in the text of an API; it is put there where it was not.
func CachingAt(a *api.API, text []byte, operation string) (out []byte, at int, err error) {
	i := slices.IndexFunc(a.Caches, func(c *api.Cache) bool { return c.Operation != nil && c.Operation.ID == operation })
	if i >= 0 {
		return text, a.Caches[i].Index, nil
	}
	out, err = partfile.Append(text, []any{"caching"}, "operation", operation)
	return out, len(a.Caches), err
}

// AddWayMapping adds a mapping and lets a way use it in one direction, request or response.
func (d Designer) AddWayMapping(ctx context.Context, a *api.API, w *api.Way, direction, id, text string, from int64) error {
	p, err := d.Load(ctx)
	if err != nil {
		return err
	}
	path := project.Path(project.APIs, a.ID)
	changed, err := partfile.Set([]byte(p.Texts[path]), []any{"operations", w.Index, direction + " mapping"}, id)
	if err != nil {
		return err
	}
	return d.AddBeside(ctx, project.Path(project.Mappings, id), text, path, string(changed), from)
}
